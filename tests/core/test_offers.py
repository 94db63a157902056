"""What can be done with a thing, and the sentence it begins with."""

from __future__ import annotations

from datetime import UTC, date, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bathotype.core.access.roles import Role, verbs_of
from bathotype.core.lifecycle import sentences
from bathotype.core.lifecycle.offers import Caller, Offer, VersionFacts, operation_offers, version_offers
from bathotype.core.lifecycle.retirement import Usage
from bathotype.core.lifecycle.states import VersionState

NOW = datetime(2026, 11, 26, tzinfo=UTC)
TODAY = NOW.date()


def caller(role: Role = Role.STEWARD) -> Caller:
    return Caller("orla", str(role), "tide-core", verbs_of(role))


def facts(state: VersionState, **change: object) -> VersionFacts:
    usage = {"retired_at": NOW.replace(year=2025), "running": 0, "marks": (), "holds": ()}
    usage |= {name: change.pop(name) for name in list(change) if name in usage}
    given = {
        "usage": Usage("gauge@1.0.0", state, children=(), base_disks=0, stored_bytes=10, **usage),  # type: ignore[arg-type]
        "blocking": 0, "demands": "high", "regions": ("skerry-1",), "missing_regions": ("fjord-2",), "retire_on": "", "pin_only": False,
        "shared_with": (), "now": NOW,
    }  # fmt: skip
    return VersionFacts(**(given | change))  # type: ignore[arg-type]


def by_name(offers: list[Offer]) -> dict[str, Offer]:
    return {offer.name: offer for offer in offers}


def test_what_is_not_possible_says_why_and_how() -> None:
    staged = by_name(version_offers(caller(), facts(VersionState.STAGED, blocking=2)))
    assert not staged["release"].possible and staged["release"].says == ("2 findings of high severity are open.",)
    more = by_name(version_offers(caller(), facts(VersionState.STAGED, blocking=1, demands="medium")))
    assert more["release"].says == ("1 finding that its line demands to be accepted is open.",)
    assert staged["release"].way is not None and staged["release"].way.name == "findings"
    held = by_name(version_offers(caller(), facts(VersionState.RETIRED, holds=("audit",))))
    assert not held["purge"].possible and "audit" in held["purge"].says[0]
    assert held["purge"].way is not None and held["purge"].way.name == "holds"
    assert not held["launch"].possible and "retired" in held["launch"].says[0]
    free = by_name(version_offers(caller(), facts(VersionState.RETIRED)))
    assert free["purge"].possible and free["purge"].loses
    marked = by_name(version_offers(caller(), facts(VersionState.RELEASED, marks=("stable",))))
    assert not marked["retire"].possible and marked["sunset"].possible


def test_a_role_that_does_not_allow_it_is_the_reason() -> None:
    for offer in version_offers(caller(Role.VIEWER), facts(VersionState.RELEASED)):
        assert not offer.possible and "orla is viewer in tide-core" in offer.says[0]
    offers = by_name(version_offers(caller(Role.OPERATOR), facts(VersionState.RELEASED)))
    assert offers["launch"].possible and not offers["retire"].possible and "steward" in offers["retire"].says[0]


@given(
    st.sampled_from(list(VersionState)), st.integers(0, 3), st.integers(0, 3),
    st.lists(st.sampled_from(["a", "b"]), unique=True), st.booleans(),
)  # fmt: skip
def test_nothing_is_refused_without_a_reason(state: VersionState, high: int, running: int, holds: list[str], stored: bool) -> None:  # fmt: skip
    given = facts(state, blocking=high, running=running, holds=tuple(holds), regions=("skerry-1",) if stored else ())
    offers = version_offers(caller(), given)
    assert len({offer.name for offer in offers}) == len(offers)
    for offer in offers:
        assert offer.says and all(text.endswith(".") for text in offer.says), offer
        if offer.way is not None:
            assert not offer.possible


def test_an_operation_can_be_cancelled_until_it_ends_and_run_again_if_it_failed() -> None:
    assert [o.name for o in operation_offers("running", "") if o.possible] == ["cancel"]
    [never] = operation_offers("running", "A purge cannot be cancelled.")
    assert not never.possible and never.says == ("A purge cannot be cancelled.",)
    assert [o.name for o in operation_offers("failed", "") if o.possible] == ["retry"]
    assert [o.name for o in operation_offers("succeeded", "") if o.possible] == []


@pytest.mark.parametrize(
    ("said", "text"),
    [
        (
            sentences.of_line(
                "gauge", newest="1.3.0", versions=4, running=214, regions=3, behind=38,
                next_end=sentences.Ending("gauge@1.1.0", date(2026, 12, 14), 7), today=TODAY,
            ),
            "gauge 1.3.0 is the newest release. 214 instances run in 3 regions; 38 are behind, and 7 of them lose their "
            "version on 14 December.",
        ),
        (
            sentences.of_line("gauge", newest="1.0.0", versions=1, running=1, regions=1, behind=0, next_end=None, today=TODAY),
            "gauge 1.0.0 is the newest release. 1 instance runs in 1 region; none is behind.",
        ),
        (
            sentences.of_line("gauge", newest="", versions=0, running=0, regions=0, behind=0, next_end=None, today=TODAY),
            "gauge has no version yet. Capture a machine to make its first one.",
        ),
        (
            sentences.of_version(
                "gauge@1.2.0", state="sunset", running=7, regions=2, consumers={"harbour-watch": 3}, open_high=0,
                retire_on=date(2027, 1, 12), today=TODAY,
            ),
            "gauge@1.2.0 is in sunset; 7 instances in 2 regions run it, 3 of them for harbour-watch; it retires on "
            "12 January 2027.",
        ),
        (
            sentences.of_version(
                "gauge@1.4.0", state="staged", running=0, regions=0, consumers={}, open_high=1, retire_on=None, today=TODAY
            ),
            "gauge@1.4.0 is staged; 1 finding of high severity is open.",
        ),
        (
            sentences.of_today(needs=1, dates=2, running=26, versions=4, failed=0),
            "1 thing needs you, and 2 dates come near. 26 instances run on 4 versions; everything else is in order.",
        ),
        (sentences.of_today(needs=0, dates=0, running=0, versions=0, failed=0), "Nothing needs you. No instance runs yet."),
    ],
)  # fmt: skip
def test_sentences_agree_with_their_numbers(said: sentences.Sentence, text: str) -> None:
    assert sentences.text_of(said) == text
