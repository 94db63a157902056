"""What can be done with instances, one or many: from which states, and what comes of it.  Pure functions."""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field

from bathotype.core.units import agree, plural


@dataclass(frozen=True)
class InstanceVerb:
    """Something that can be done with an instance.  ``done`` is the state that it leads to, ``says`` what it does."""

    name: str
    title: str
    from_states: tuple[str, ...]
    done: str
    says: str
    loses: bool = False


INSTANCE_VERBS = {
    verb.name: verb
    for verb in (
        InstanceVerb("stop", "Stop it", ("running",), "stopped", "It is switched off and keeps its disk."),
        InstanceVerb("start", "Start it", ("stopped",), "running", "It is switched on."),
        InstanceVerb(
            "terminate", "Terminate it", ("running", "stopped", "lost"), "terminated",
            "The machine and its disks are removed for good, but for data disks that were launched to be kept.", loses=True,
        ),
    )
}  # fmt: skip


@dataclass(frozen=True)
class Chosen:
    """An instance among those that were chosen; ``newest`` says whether it runs its line's newest release."""

    id: str
    name: str
    reference: str
    region: str
    state: str
    newest: bool


@dataclass(frozen=True)
class ChangePlan:
    """What a verb would do to the instances that were chosen: ``change`` are those that it concerns."""

    verb: InstanceVerb
    change: tuple[Chosen, ...]
    blockers: tuple[str, ...] = ()
    warnings: tuple[str, ...] = ()
    effects: tuple[str, ...] = ()
    #: How many of those that it concerns run each version, and how many are in each region.
    versions: dict[str, int] = field(default_factory=dict)
    regions: dict[str, int] = field(default_factory=dict)

    @property
    def selection(self) -> str:
        """A digest of what it would change: who saw the plan can ask for just this, and nothing that came since."""
        return hashlib.sha256("\n".join(sorted(one.id for one in self.change)).encode()).hexdigest()[:32]

    @property
    def subject(self) -> str:
        """What the operation is about, in words."""
        return f"{self.verb.name} {plural(len(self.change), 'instance')}"


def plan_change(verb: InstanceVerb, chosen: Sequence[Chosen]) -> ChangePlan:
    """Which of the chosen instances a verb concerns, and what is said of the rest."""
    change = tuple(one for one in chosen if one.state in verb.from_states)
    rest = Counter(one.state for one in chosen if one.state not in verb.from_states)
    already = rest.pop(verb.done, 0)
    warnings = [f"{plural(already, 'instance')} {agree(already, 'is', 'are')} {verb.done} already."] if already else []
    warnings += [
        f"{plural(count, 'instance')} {agree(count, 'is', 'are')} {state}: left alone."
        for state, count in sorted(rest.items())
    ]
    if not change:
        wanted = " or ".join(verb.from_states)
        blocker = (
            f"There is nothing to {verb.name}: no instance among these is {wanted}." if chosen else "No instance fits."
        )
        return ChangePlan(verb, (), (blocker,), tuple(warnings))
    current = sum(one.newest for one in change)
    if verb.loses and current:
        warnings.append(f"{current} of them {agree(current, 'runs', 'run')} the newest release of the line.")
    versions = Counter(one.reference for one in change)
    regions = Counter(one.region for one in change)
    effects = (
        f"{plural(len(change), 'instance')} will be {verb.done}.",
        *(f"{reference}: {count}" for reference, count in sorted(versions.items())),
    )
    return ChangePlan(verb, change, (), tuple(warnings), effects, dict(versions), dict(regions))
