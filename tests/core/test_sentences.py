"""The sentences that everything begins with, whatever the numbers in them."""

from __future__ import annotations

import re
from datetime import date

from hypothesis import given
from hypothesis import strategies as st

from bathotype.core.lifecycle import sentences as say
from bathotype.core.lifecycle.sentences import Ending, Sentence, text_of

TODAY = date(2026, 11, 26)
COUNT = st.sampled_from([0, 1, 2, 17])
DAY = st.none() | st.dates(date(2026, 11, 1), date(2027, 3, 1))
REFERENCE = "gauge-collector@1.4.0"
# One thing is singular, in its noun and in its verb; others are plural.
_ONE, _MORE = r"(?<![\w.@-])1", r"(?<![\w.@-])(?:0|[2-9]|\d\d+)"
WRONG = (
    rf"{_ONE} (?:instances|versions|regions|things|dates|findings|other accounts)\b",
    rf"{_ONE} (?:instance|thing|date) (?:run|need|come)\b",
    rf"{_ONE} are\b|{_ONE} of them lose their\b",
    rf"{_MORE} (?:instance|version|region|thing|date|finding)\b",
    rf"{_MORE} (?:instances|things|dates) (?:runs|needs|comes)\b",
    rf"{_MORE} is\b|{_MORE} of them loses\b",
    r"None|  | [.;,]",
)


def well_made(sentence: Sentence) -> str:
    text = text_of(sentence)
    assert text.endswith(".") and text[0].isalnum(), text
    assert not [pattern for pattern in WRONG if re.search(pattern, text)], text
    return text


@given(needs=COUNT, dates=COUNT, running=COUNT, versions=st.integers(1, 9), failed=COUNT)
def test_the_first_page_counts_what_needs_somebody(
    needs: int, dates: int, running: int, versions: int, failed: int
) -> None:
    text = well_made(say.of_today(needs=needs, dates=dates, running=running, versions=versions, failed=failed))
    assert ("Nothing needs you" in text) == (not needs and not dates)
    assert ("in order" in text) <= (failed == 0), "it does not say so where something failed"


@given(
    versions=COUNT, newest=st.booleans(), running=COUNT, regions=st.integers(1, 5), behind=COUNT, day=DAY, lose=COUNT
)
def test_a_line_says_who_is_behind_and_until_when(
    versions: int, newest: bool, running: int, regions: int, behind: int, day: date | None, lose: int
) -> None:
    ending = Ending(REFERENCE, day, lose) if day else None
    text = well_made(
        say.of_line(
            "gauge-collector", newest="1.4.0" if newest else "", versions=versions, running=running, regions=regions,
            behind=min(behind, running), next_end=ending, today=TODAY,
        )
    )  # fmt: skip
    shown = bool(versions and newest and min(behind, running) and ending and lose)
    assert ("version on" in text) == shown
    if shown and day:
        assert ("2027" in text) == (day.year == 2027), "a year is said where it is another one"


@given(
    state=st.sampled_from(["staged", "released", "sunset", "retired", "purged"]),
    running=COUNT,
    regions=st.integers(1, 5),
    consumers=st.dictionaries(st.sampled_from(["chart-house", "harbour-watch", "pier"]), st.integers(1, 9)),
    open_high=COUNT,
    day=DAY,
)
def test_a_version_says_what_forbids_its_release_and_when_it_ends(
    state: str, running: int, regions: int, consumers: dict[str, int], open_high: int, day: date | None
) -> None:
    made = say.of_version(
        REFERENCE, state=state, running=running, regions=regions, consumers=consumers, open_high=open_high, retire_on=day,
        today=TODAY,
    )  # fmt: skip
    text = well_made(made)
    assert ("of high severity" in text) == (state == "staged" and open_high > 0)
    assert ("it retires on" in text) == (state == "sunset" and day is not None)
    assert [part.about for part in made if part.heed] == [
        *(["findings"] if "of high severity" in text else []),
        *(["retire"] if "it retires on" in text and running else []),
    ]


@given(
    state=st.sampled_from(["pending", "running", "stopped", "missing", "terminated", "failed"]),
    behind=COUNT,
    zone=st.sampled_from(["", "b"]),
    reason=st.sampled_from(["", "Its first boot did not end."]),
)
def test_an_instance_says_where_it_runs_or_that_it_is_gone(state: str, behind: int, zone: str, reason: str) -> None:
    text = well_made(
        say.of_instance(
            "quay-01", state=state, reference=REFERENCE, behind=behind, newest="1.5.0", region="skerry-1", zone=zone,
            reason=reason,
        )
    )  # fmt: skip
    over = state in ("terminated", "failed")
    assert ("skerry-1" in text) != over and (reason in text if over else reason not in text or not reason)
    assert ("1.5.0 is newer" in text) == (behind > 0 and not over)
