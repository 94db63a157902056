"""Changes of many instances: which a verb concerns, what is said of the rest, and what the plan is known by."""

from __future__ import annotations

import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bathotype.core.lifecycle.instances import INSTANCE_VERBS, Chosen, plan_change

STATES = ("running", "stopped", "lost", "terminated")


def one(number: int, state: str = "running", *, newest: bool = False, region: str = "skerry-1") -> Chosen:
    return Chosen(f"i-{number}", f"gauge-{number}", f"gauge@1.{number % 2}.0", region, state, newest)


def test_a_verb_concerns_those_that_it_can_change() -> None:
    chosen = [
        one(1),
        one(2, "stopped"),
        one(3, region="fjord-2"),
        one(4, "lost"),
        one(5, "terminated"),
        one(6, "stopped"),
    ]
    plan = plan_change(INSTANCE_VERBS["stop"], chosen)
    assert [c.id for c in plan.change] == ["i-1", "i-3"] and plan.blockers == ()
    assert plan.warnings == (
        "2 instances are stopped already.",
        "1 instance is lost: left alone.",
        "1 instance is terminated: left alone.",
    )
    assert plan.effects == ("2 instances will be stopped.", "gauge@1.1.0: 2")
    assert (plan.versions, plan.regions) == ({"gauge@1.1.0": 2}, {"skerry-1": 1, "fjord-2": 1})
    assert plan.subject == "stop 2 instances"


def test_where_nothing_can_be_changed_it_says_so() -> None:
    nobody = plan_change(INSTANCE_VERBS["start"], [])
    assert nobody.blockers == ("No instance fits.",) and nobody.change == () and nobody.effects == ()
    none = plan_change(INSTANCE_VERBS["start"], [one(1), one(2, "lost")])
    assert none.blockers == ("There is nothing to start: no instance among these is stopped.",)
    assert none.warnings == ("1 instance is running already.", "1 instance is lost: left alone.")


def test_what_loses_machines_counts_those_of_the_newest_release() -> None:
    verb = INSTANCE_VERBS["terminate"]
    assert [v.name for v in INSTANCE_VERBS.values() if v.loses] == ["terminate"]
    assert plan_change(verb, [one(1, newest=True), one(2)]).warnings == (
        "1 of them runs the newest release of the line.",
    )
    assert plan_change(verb, [one(1, newest=True), one(2, "lost", newest=True)]).warnings == (
        "2 of them run the newest release of the line.",
    )
    assert plan_change(verb, [one(1), one(2)]).warnings == ()
    assert plan_change(INSTANCE_VERBS["stop"], [one(1, newest=True)]).warnings == (), "nothing is lost by a stop"


@pytest.mark.parametrize("name", INSTANCE_VERBS)
@given(st.lists(st.sampled_from(STATES), max_size=12), st.integers(0, 99))
def test_everyone_is_changed_or_spoken_of(name: str, states: list[str], seed: int) -> None:
    verb = INSTANCE_VERBS[name]
    chosen = [one(number, state) for number, state in enumerate(states)]
    plan = plan_change(verb, chosen)
    assert {c.state for c in plan.change} <= set(verb.from_states)
    assert sum(plan.versions.values()) == sum(plan.regions.values()) == len(plan.change)
    told = sum(int(text.split()[0]) for text in plan.warnings if "left alone" in text or "already" in text)
    assert len(plan.change) + told == len(chosen)
    assert bool(plan.blockers) is (not plan.change)
    shuffled = random.Random(seed).sample(chosen, len(chosen))
    assert plan_change(verb, shuffled).selection == plan.selection, "the order in which they were chosen says nothing"
    if plan.change:
        without = [c for c in chosen if c != plan.change[0]]
        assert plan_change(verb, without).selection != plan.selection
