"""What can be done with a thing, and the sentence it begins with."""

from __future__ import annotations

from datetime import UTC, date, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bathotype.core.access.roles import Role, verbs_of
from bathotype.core.lifecycle import sentences
from bathotype.core.lifecycle.offers import (
    Caller,
    LineFacts,
    Offer,
    SheetFacts,
    VersionFacts,
    instance_offers,
    line_offers,
    operation_offers,
    sheet_offers,
    version_offers,
)
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


@pytest.mark.parametrize(
    ("state", "can", "cannot"),
    [
        ("staged", "release launch prove replicate share edit export verify retire hold", "purge"),
        ("released", "launch prove replicate share edit export verify sunset retire hold", "purge"),
        ("sunset", "release launch prove replicate share edit export verify sunset retire hold", "purge"),
        ("retired", "prove replicate share edit export verify purge hold", "launch"),
        ("purged", "", "launch prove replicate share edit export verify"),
    ],
)
def test_each_state_offers_what_it_allows(state: str, can: str, cannot: str) -> None:
    offers = version_offers(caller(), facts(VersionState(state)))
    assert [o.name for o in offers if o.possible] == can.split()
    assert [o.name for o in offers if not o.possible] == cannot.split()
    assert [o.name for o in offers if o.loses] == (["purge"] if state != "purged" else [])


def says(state: VersionState, name: str, **change: object) -> tuple[str, ...]:
    return by_name(version_offers(caller(), facts(state, **change)))[name].says


def test_a_version_is_told_as_it_is() -> None:
    staged, released, sunset = VersionState.STAGED, VersionState.RELEASED, VersionState.SUNSET
    assert says(released, "launch", regions=("a", "b", "c")) == ("In a, b and c.",)
    assert says(staged, "launch")[1:] == ("It is only staged: it has not been released.",)
    assert says(sunset, "launch")[1:] == ("It is in sunset.",)
    assert says(sunset, "launch", retire_on="2026-12-14")[1:] == ("It is in sunset; launches end on 2026-12-14.",)
    assert says(released, "launch", pin_only=True)[1:] == (
        "It is pin-only: launched only when named exactly, as here.",
    )
    assert says(sunset, "sunset", retire_on="2026-12-14") == ("It retires on 2026-12-14 now.",)
    assert says(sunset, "sunset") == ("No day is set now.",)
    assert says(released, "sunset", running=1)[1] == "1 instance of it runs."
    assert says(released, "sunset", running=2)[1] == "2 instances of it run."
    assert says(released, "replicate", missing_regions=("b", "c")) == ("It is not yet in b and c.",)
    assert says(released, "replicate", missing_regions=()) == (
        "It is in every region; the number of copies can be changed.",
    )
    assert says(released, "share") == ("Shared with nobody yet.",)
    assert says(released, "share", shared_with=("harbour-watch", "chart-house")) == (
        "Shared with harbour-watch and chart-house.",
    )
    titles = [by_name(version_offers(caller(), facts(state)))["release"].title for state in (staged, sunset)]
    assert titles == ["Release it", "Take back its end"]


@pytest.mark.parametrize(
    ("proven", "told"),
    [
        (None, "It has not been proven yet."),
        (False, "Its last checks did not all pass."),
        (True, "Its last checks passed."),
    ],
)
def test_a_line_that_demands_checks_holds_a_release(proven: bool | None, told: str) -> None:
    offers = by_name(version_offers(caller(), facts(VersionState.STAGED, proven_first=True, proven=proven)))
    assert offers["release"].possible is bool(proven) and offers["prove"].says[1] == told
    if not proven:
        assert offers["release"].says == ("Its line demands that checks have passed.", told)
        assert offers["release"].way is not None and offers["release"].way.name == "prove"
    assert by_name(version_offers(caller(), facts(VersionState.STAGED, proven=proven)))["release"].possible


def test_what_stands_in_the_way_is_one_step_off() -> None:
    marked = by_name(version_offers(caller(), facts(VersionState.RELEASED, marks=("stable",))))["retire"]
    assert marked.way is not None and (marked.way.name, marked.way.subject) == ("mark", "gauge@1.0.0")
    assert by_name(version_offers(caller(), facts(VersionState.RELEASED)))["retire"].way is None
    running = by_name(version_offers(caller(), facts(VersionState.RETIRED, running=1)))["purge"]
    assert running.way is not None and running.way.name == "instances"
    fresh = by_name(version_offers(caller(), facts(VersionState.RETIRED, retired_at=NOW)))["purge"]
    assert not fresh.possible and fresh.way is None, "time is all that helps"
    nowhere = by_name(version_offers(caller(), facts(VersionState.RELEASED, regions=())))
    assert nowhere["launch"].way is not None and nowhere["launch"].way.name == "verify"
    assert not nowhere["prove"].possible and not nowhere["replicate"].possible


def line(**change: object) -> dict[str, Offer]:
    given = {
        "name": "gauge", "newest": "1.4.0", "regions": ("skerry-1",), "behind": 0, "running": 214, "versions": 3,
        "source": "", "placed": (), **change,
    }  # fmt: skip
    return by_name(line_offers(caller(), LineFacts(**given)))  # type: ignore[arg-type]


def test_a_line_offers_what_fits_it() -> None:
    assert line()["launch"].title == "Launch from 1.4.0" and line()["launch"].says == ("In skerry-1.",)
    assert line(newest="")["launch"].says == ("gauge has no released version yet.",)
    assert not line(newest="")["launch"].possible
    assert [line(versions=n)["capture"].title for n in (0, 3)] == [
        "Capture its first version",
        "Capture the next version",
    ]
    assert line(source="gauge-7")["capture"].says == ("The last one came from gauge-7.",)
    assert "behind" not in line() and "mark" in line() and "mark" not in line(versions=0)
    assert "drop" not in line() and line(versions=0)["drop"].loses
    assert line()["describe"].says == ("Nothing is said of it yet.",)
    assert line(about="Reads gauges.")["describe"].says == ("Reads gauges.",)
    assert line(behind=1)["behind"].title == "See the 1 that is behind"
    assert line(behind=1)["behind"].says == ("1 of 214 instances runs an older version.",)
    assert line(behind=38)["behind"].title == "See the 38 that are behind"
    assert line(behind=38)["behind"].says == ("38 of 214 instances run an older version.",)
    assert line()["placement"].says == ("Released versions stay where they are made.",)
    assert line(placed=("a", "b"))["placement"].says == ("Released versions go to a and b.",)
    assert line()["demand"].says == ("Findings of severity high and above are accepted.",)
    assert line(demands="low", proven_first=True)["demand"].says == (
        "Findings of severity low and above are accepted, and its last checks have passed.",
    )


def test_an_instance_offers_what_its_state_allows() -> None:
    for state, can in (
        ("running", "stop terminate"),
        ("stopped", "start terminate"),
        ("lost", "terminate"),
        ("terminated", ""),
    ):
        offers = instance_offers(caller(), "gauge-7", state)
        assert [o.name for o in offers if o.possible] == can.split()
        assert all(o.possible or o.says == (f"gauge-7 is {state}.",) for o in offers)
        assert [o.name for o in offers if o.loses] == ["terminate"]
    assert not any(o.possible for o in instance_offers(caller(Role.VIEWER), "gauge-7", "running"))


def sheet(role: Role = Role.STEWARD, **change: object) -> dict[str, Offer]:
    given = {"name": "logger", "line": "gauge", "scheduled": False, "paused": False, "running": False, **change}
    return by_name(sheet_offers(caller(role), SheetFacts(**given)))  # type: ignore[arg-type]


def test_a_sheet_offers_what_fits_it() -> None:
    assert list(sheet()) == ["run", "change", "drop"] and all(o.possible for o in sheet().values())
    assert sheet()["run"].says == ("It makes the next version of gauge.",)
    assert sheet(running=True)["run"].says[1:] == ("A run of it is under way: another one starts beside it.",)
    assert sheet(scheduled=True)["pause"].possible and sheet(scheduled=True, paused=True)["resume"].possible
    assert "pause" not in sheet(scheduled=True, paused=True)
    ours = sheet(repository="charts", scheduled=True)
    assert not ours["change"].possible and "repository charts" in ours["change"].says[0]
    assert ours["drop"].says[1:] == ("The next commit of its repository brings it back.",)
    gone = sheet(repository="charts", scheduled=True, withdrawn=True)
    assert not gone["pause"].possible and gone["drop"].says[1:] == ()
    assert list(sheet(is_part=True)) == ["change", "drop"]
    assert [o.name for o in sheet(Role.VIEWER).values() if o.possible] == []


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
    assert operation_offers("succeeded", "")[0].says == ("It has succeeded.",)
    [asked] = operation_offers("running", "", cancel_requested=True)
    assert not asked.possible and asked.says == ("It is being cancelled: it cleans up first.",)


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
        (sentences.of_today(needs=0, dates=0, running=0, versions=0, failed=0), "Nothing needs you. No instance runs."),
    ],
)  # fmt: skip
def test_sentences_agree_with_their_numbers(said: sentences.Sentence, text: str) -> None:
    assert sentences.text_of(said) == text
