"""The end of a version: what prevents its sunset, its retirement and its purge, and what each does, by every fact."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, date, datetime, timedelta

import pytest

from bathotype.core.lifecycle.retirement import GRACE, RetirementPlan, Usage, plan_purge, plan_retire, plan_sunset
from bathotype.core.lifecycle.states import MOVES, VersionState

NOW = datetime(2026, 11, 26, 12, tzinfo=UTC)
TODAY = NOW.date()
RELEASED = Usage("x@1.0.0", VersionState.RELEASED, None, 0, (), (), (), 0, 3 << 20)
SUNSET = replace(RELEASED, state=VersionState.SUNSET)
RETIRED = replace(RELEASED, state=VersionState.RETIRED, retired_at=NOW - GRACE)


def in_days(days: int) -> date:
    return TODAY + timedelta(days=days)


def is_free(plan: RetirementPlan) -> bool:
    return not plan.blockers


# Sunset


@pytest.mark.parametrize("state", list(VersionState))
def test_only_a_released_version_goes_into_sunset(state: VersionState) -> None:
    plan = plan_sunset(replace(RELEASED, state=state), None, TODAY)
    assert is_free(plan) is (VersionState.SUNSET in MOVES[state])
    assert plan.verb == "sunset" and plan.subject == "x@1.0.0"
    if state is VersionState.SUNSET:
        assert plan.blockers == ("x@1.0.0 is in sunset already.",)
    elif not is_free(plan):
        assert plan.blockers == (f"x@1.0.0 is {state}: only a released version goes into sunset.",)


def test_the_day_of_an_end_lies_ahead() -> None:
    assert is_free(plan_sunset(RELEASED, in_days(1), TODAY))
    for day in (in_days(0), in_days(-1)):
        plan = plan_sunset(RELEASED, day, TODAY)
        assert plan.blockers == (f"{day} is not in the future. Give a later date, or retire it now.",)
        assert plan.effects == ()


def test_a_sunset_tells_its_day_or_that_it_has_none() -> None:
    without, with_day = plan_sunset(RELEASED, None, TODAY), plan_sunset(RELEASED, in_days(9), TODAY)
    assert without.warnings == ("No day is given: it stays in sunset until somebody retires it.",)
    assert without.effects == ("Launches of x@1.0.0 warn from now on, and the accounts that run it are notified.",)
    assert with_day.warnings == ()
    assert with_day.effects == (
        *without.effects,
        f"It is retired on {in_days(9)}: new launches are refused from then on.",
    )  # fmt: skip


@pytest.mark.parametrize(("before", "said"), [(None, "no day"), (TODAY + timedelta(days=3), "2026-11-29")])
def test_the_day_of_a_sunset_is_moved(before: date | None, said: str) -> None:
    in_sunset = replace(SUNSET, retire_on=before)
    plan = plan_sunset(in_sunset, in_days(9), TODAY)
    assert is_free(plan)
    assert plan.effects[0] == f"The end of x@1.0.0 moves from {said}; its users are notified."
    assert plan.effects[-1].startswith(f"It is retired on {in_days(9)}")
    assert not is_free(plan_sunset(in_sunset, before, TODAY)), "to where it is"
    assert not is_free(plan_sunset(in_sunset, None, TODAY)), "to nowhere"
    assert not is_free(plan_sunset(in_sunset, in_days(-9), TODAY)), "into the past"


@pytest.mark.parametrize(
    ("marks", "said"),
    [
        (("stable",), "The mark stable points to it; launches by it warn as well."),
        (("next", "stable"), "The marks next, stable point to it; launches by them warn as well."),
    ],
)
def test_a_sunset_names_its_marks(marks: tuple[str, ...], said: str) -> None:
    assert plan_sunset(replace(RELEASED, marks=marks), in_days(9), TODAY).warnings == (said,)


@pytest.mark.parametrize(("running", "said"), [(1, "1 instance of it keeps"), (2, "2 instances of it keep")])
def test_a_sunset_counts_who_must_be_renewed(running: int, said: str) -> None:
    plan = plan_sunset(replace(RELEASED, running=running), in_days(9), TODAY)
    assert plan.effects[1] == f"{said} running, and should be renewed."


# Retirement


@pytest.mark.parametrize("state", list(VersionState))
def test_what_is_not_retired_can_be(state: VersionState) -> None:
    plan = plan_retire(replace(RELEASED, state=state))
    assert is_free(plan) is (VersionState.RETIRED in MOVES[state])
    assert is_free(plan) or plan.blockers == (f"x@1.0.0 is {state} already.",)
    unwarned = "It has not been in sunset: its users get no warning before its retirement."
    assert (unwarned in plan.warnings) is (state is VersionState.RELEASED)


@pytest.mark.parametrize(
    ("marks", "said"),
    [
        (("stable",), "The mark stable points to it. Move the mark to another version first."),
        (("next", "stable"), "The marks next, stable point to it. Move these marks to another version first."),
    ],
)
def test_a_mark_holds_a_version(marks: tuple[str, ...], said: str) -> None:
    assert plan_retire(replace(SUNSET, marks=marks)).blockers == (said,)


def test_a_retirement_leaves_instances_alone() -> None:
    assert plan_retire(replace(SUNSET, running=1)) == RetirementPlan(
        "retire", "x@1.0.0", (), ("1 instance of it keeps running.",),
        ("New launches of x@1.0.0 are refused from now on.",),
    )  # fmt: skip
    assert plan_retire(replace(SUNSET, running=3)).warnings == ("3 instances of it keep running.",)


@pytest.mark.parametrize(
    ("count", "said"),
    [
        (1, "1 launch-ready base disk at the site is removed once no launch uses it."),
        (2, "2 launch-ready base disks at the site are removed once no launch uses them."),
    ],
)
def test_a_retirement_counts_base_disks(count: int, said: str) -> None:
    assert plan_retire(replace(SUNSET, base_disks=count)).effects[1:] == (said,)


# Purge


@pytest.mark.parametrize("state", list(VersionState))
def test_only_a_retired_version_is_purged(state: VersionState) -> None:
    plan = plan_purge(replace(RETIRED, state=state), NOW)
    assert is_free(plan) is (VersionState.PURGED in MOVES[state])
    if state is VersionState.PURGED:
        assert plan.blockers == ("x@1.0.0 is purged already.",)
    elif not is_free(plan):
        assert plan.blockers == (f"x@1.0.0 is {'in sunset' if state == 'sunset' else state}. Retire it first.",)


def test_the_grace_period_ends_to_the_second() -> None:
    retired = replace(RETIRED, retired_at=NOW)
    assert is_free(plan_purge(retired, NOW + GRACE))
    early = plan_purge(retired, NOW + GRACE - timedelta(seconds=1))
    assert early.blockers == ("Its grace period lasts until 2026-12-03 12:00 UTC. Wait, or waive it with --no-grace.",)
    waived = plan_purge(retired, NOW, waive_grace=True)
    assert is_free(waived) and waived.warnings == ("The grace period until 2026-12-03 12:00 UTC is waived.",)
    assert plan_purge(retired, NOW + GRACE, waive_grace=True).warnings == (), "nothing is left to waive"


def test_no_waiver_lifts_a_hold_or_ends_an_instance() -> None:
    held = replace(RETIRED, running=2, holds=("audit", "court"))
    assert plan_purge(held, NOW, waive_grace=True).blockers == (
        "2 instances of it run. Terminate or renew them first.",
        "The hold 'audit' forbids it. Lift the hold first.",
        "The hold 'court' forbids it. Lift the hold first.",
    )
    one = plan_purge(replace(RETIRED, running=1), NOW)
    assert one.blockers == ("1 instance of it runs. Terminate or renew it first.",)


def test_a_purge_tells_what_goes_and_what_stays() -> None:
    plan = plan_purge(replace(RETIRED, base_disks=2, children=("x@1.1.0",)), NOW)
    assert plan.effects == (
        "2 base disks at the site are removed.",
        "Those of its chunks that no other version needs are removed: 3.0 MiB at most.",
        "Its record, contents, findings and events are kept.",
    )
    assert plan.warnings == ("Made from it: x@1.1.0. It keeps its own bytes.",)
    many = plan_purge(replace(RETIRED, base_disks=1, children=("x@1.1.0", "y@2.0.0")), NOW)
    assert many.effects[0] == "1 base disk at the site is removed."
    assert many.warnings == ("Made from it: x@1.1.0, y@2.0.0. They keep their own bytes.",)
    assert plan_purge(RETIRED, NOW).effects == plan.effects[1:] and plan_purge(RETIRED, NOW).warnings == ()


def test_what_is_forbidden_has_no_effect() -> None:
    marked = replace(RELEASED, state=VersionState.SUNSET, marks=("stable",), base_disks=1)
    for plan in (plan_retire(marked), plan_purge(marked, NOW), plan_sunset(marked, None, TODAY)):
        assert plan.blockers and plan.effects == ()
