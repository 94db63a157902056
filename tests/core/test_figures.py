"""How busy a guest is: read from this host's own kernel, and from whatever a guest may write instead."""

from __future__ import annotations

from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from bathotype.core.guest.figures import FILES, Counters, between, read_counters


def now() -> Counters:
    found = read_counters({path: Path(path).read_text() for path in FILES})
    assert found is not None
    return found


def test_the_counters_of_this_kernel_are_read() -> None:
    before = now()
    deadline = sum(number * number for number in range(3_000_000))  # keeps a processor busy
    after = now()
    assert deadline and 0 < after.memory_used < after.memory
    free = {
        line.split()[0].rstrip(":"): int(line.split()[1]) for line in Path("/proc/meminfo").read_text().splitlines()
    }
    assert after.memory == free["MemTotal"] * 1024
    figure = between(before, after, 1.0)
    assert figure is not None and 0 < figure.processor <= 1 and figure.received >= 0


def test_a_guest_that_started_anew_has_no_figure() -> None:
    some = now()
    assert between(some, some, 1.0) is None, "no time has passed"
    later = Counters(some.busy + 5, some.ticks + 10, 1, 2, some.read, some.written, 0, 0)
    if some.received:
        assert between(some, later, 1.0) is None, "its counters began again"


PIECES = st.sampled_from(["cpu ", "MemTotal: ", "MemAvailable: ", " kB\n", " 254 0 vda ", "eth0: ", "1 " * 12, "9" * 30, "\n", "\0", "-1"])  # fmt: skip


@given(st.dictionaries(st.sampled_from(FILES), st.lists(PIECES | st.text(max_size=9), max_size=30).map("".join)))
def test_whatever_a_guest_writes_is_counters_or_nothing(texts: dict[str, str]) -> None:
    found = read_counters(texts)
    assert found is None or all(0 <= value < 1 << 62 for value in vars(found).values())
