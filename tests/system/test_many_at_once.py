"""Eight callers who do whatever may be done, at once, to a few lines: nobody waits in a circle, nothing breaks."""

from __future__ import annotations

import random
import threading
from collections.abc import Callable, Iterator

import pytest

from bathotype.client import Client
from bathotype.core.errors import BathotypeError, Invalid, NotFound, Refused
from tests.support import System, running_system, until

OWNER, OTHERS = "tide-core", ("harbour-watch", "chart-house")
CALLERS, ACTS, MOST = 8, 25, 6
MOTD = {"id": "motd", "do": "put-file", "path": "/etc/motd", "content": "tide tables\n"}
#: What a caller may be told when somebody else was first.
TOLD = (Refused, NotFound, Invalid)


@pytest.fixture(scope="module")
def system() -> Iterator[System]:
    """A system of its own, which nobody else finds in this disorder."""
    with running_system() as running:
        yield running


class Caller:
    """One of those who call, for any of the accounts."""

    def __init__(self, system: System, seed: int, references: list[str]) -> None:
        self.chance, self.references = random.Random(seed), references
        self.clients = {a: system.client(a) for a in (OWNER, *OTHERS)}
        self.owner: Client = self.clients[OWNER]
        self.names: list[tuple[str, str]] = []
        self.seed, self.done, self.faults = seed, 0, list[str]()

    def acts(self) -> list[Callable[[], object]]:
        """All that it might do now."""
        chance, owner = self.chance, self.owner
        account = chance.choice((OWNER, *OTHERS))
        client, reference = self.clients[account], chance.choice(self.references)
        line, _, number = reference.partition("@")
        robot = f"helper-{chance.randrange(4)}"
        place = {"region": "fjord-2", "copies": chance.randrange(3)}

        def launch() -> None:
            name = f"m{self.seed}-{chance.randrange(10**6)}"
            shared = reference if account == OWNER else f"{OWNER}/{reference}"
            client.launch(reference=shared, region=chance.choice(("skerry-1", "fjord-2")), name=name, wait_seconds=60)
            self.names.append((account, name))

        def act() -> None:
            whose, name = chance.choice(self.names or [(OWNER, "none")])
            self.clients[whose].act_on_instance(name, chance.choice(("stop", "start", "terminate")))

        def look() -> None:
            [room] = [a for a in owner.allowances() if a.name == f"all-{line}"]
            assert room.used <= room.most, "an allowance was passed"

        return [
            launch, launch, act, act, act, look,
            lambda: owner.replicate(reference, [place]),
            lambda: owner.drain(reference, "lagoon-3"),
            lambda: owner.set_placement(line, [{"region": "skerry-1"}, place] if chance.random() < 0.6 else []),
            lambda: owner.share(subject=chance.choice((line, reference)), consumer=chance.choice(OTHERS)),
            lambda: [self.clients[a].accept_share(s.id) for a in OTHERS for s in self.clients[a].shares("inbox")],
            lambda: [client.end_share(share.id) for share in client.shares()[:1]],
            lambda: owner.sunset(reference),
            lambda: owner.release(reference),
            lambda: owner.set_mark(line, "trusted", number),
            lambda: owner.set_allowance(f"all-{line}", kind="line", line=line, most=MOST),
            lambda: owner.hold(reference, "audit", "until somebody looked"),
            lambda: owner.lift_hold(reference, "audit"),
            lambda: owner.verify(reference, "skerry-1"),
            lambda: client.rotate_key(),
            lambda: client.add_member(robot, "viewer", robot=True),
            lambda: client.remove_member(robot),
            lambda: client.make_token(name="t", robot=robot),
            lambda: self.clients["chart-house"].adopt(f"{OWNER}/{reference}", line="own", bump="patch"),
            lambda: owner.edit(reference=reference, bump="patch", steps=[MOTD]),
            lambda: client.cancel(next(client.operations(state="running")).id),
        ]  # fmt: skip

    def run(self) -> None:
        """Do one thing after another."""
        for _ in range(ACTS):
            act = self.chance.choice(self.acts())
            try:
                act()
                self.done += 1
            except StopIteration:
                pass  # nothing to cancel
            except BathotypeError as error:
                if not isinstance(error, TOLD):
                    self.faults.append(f"{error.code}: {error}")
            except Exception as error:
                self.faults.append(repr(error))


def test_nobody_waits_in_a_circle_and_nothing_breaks(system: System) -> None:
    references = [system.captured(line, number=n) for line in ("ebb", "flood") for n in ("1.0.0", "1.1.0")]
    with system.core as client, system.client("chart-house") as other:
        other.create_line("own")
        for line in ("ebb", "flood"):
            client.set_allowance(f"all-{line}", kind="line", line=line, most=MOST)
        for reference in references:
            client.wait(client.replicate(reference, [{"region": "fjord-2", "copies": 1}])[0].id)
    callers = [Caller(system, seed, references) for seed in range(CALLERS)]
    threads = [threading.Thread(target=c.run) for c in callers]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert [fault for caller in callers for fault in caller.faults] == []
    assert sum(caller.done for caller in callers) > CALLERS * ACTS / 4, "most of it was refused"
    with system.core as client:
        until(lambda: system.query("select count(*) from operations where state in ('queued', 'running')") == [(0,)],
              seconds=240)  # fmt: skip
        assert client.event_chain().whole
        failed = [o for o in client.operations(limit=500) if o.state == "failed"]
        told = {(o.error.code if o.error else "", o.kind) for o in failed}
        assert not {t for t in told if t[0] in ("failed", "internal", "unavailable")}, told
    logs = "".join(path.read_text(errors="replace") for path in (system.data / "logs").glob("*.log"))
    assert "deadlock detected" not in logs and "request broke" not in logs
