"""What prevents announcing the end of a version, retiring it and purging it, and what each would do."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime, timedelta

from bathotype.core.lifecycle.states import MOVES, VersionState
from bathotype.core.units import agree, iec, plural

#: How long a version stays retired before it may be purged, unless waived.
GRACE = timedelta(days=7)


@dataclass(frozen=True)
class Usage:
    """The facts about a version on which its end depends."""

    reference: str
    state: VersionState
    retired_at: datetime | None
    running: int
    marks: tuple[str, ...]
    holds: tuple[str, ...]
    children: tuple[str, ...]
    base_disks: int
    stored_bytes: int
    retire_on: date | None = None


@dataclass(frozen=True)
class RetirementPlan:
    """``blockers`` forbid it, ``warnings`` do not, ``effects`` say what will happen: nothing, where something forbids
    it."""

    verb: str
    subject: str
    blockers: tuple[str, ...]
    warnings: tuple[str, ...]
    effects: tuple[str, ...]


def plan_sunset(usage: Usage, retire_on: date | None, today: date) -> RetirementPlan:
    """Sunset: launches warn, and the version is retired by itself on a day, if one is given.

    Of a version that is in sunset the day is moved.
    """
    blockers, warnings = [], []
    moves = usage.state == VersionState.SUNSET and retire_on is not None and retire_on != usage.retire_on
    if VersionState.SUNSET not in MOVES[usage.state] and not moves:
        already = " already" if usage.state == VersionState.SUNSET else ": only a released version goes into sunset"
        blockers.append(f"{usage.reference} is {usage.state.spoken}{already}.")
    if retire_on is not None and retire_on <= today:
        blockers.append(f"{retire_on} is not in the future. Give a later date, or retire it now.")
    if retire_on is None:
        warnings.append("No day is given: it stays in sunset until somebody retires it.")
    if usage.marks:
        by = agree(len(usage.marks), "it", "them")
        warnings.append(f"{_marks(usage)} to it; launches by {by} warn as well.")
    if moves:
        effects = [f"The end of {usage.reference} moves from {usage.retire_on or 'no day'}; its users are notified."]
    else:
        effects = [f"Launches of {usage.reference} warn from now on, and the accounts that run it are notified."]
    if usage.running:
        effects.append(f"{_instances(usage, 'keep')} running, and should be renewed.")
    if blockers:
        effects = []
    elif retire_on is not None:
        effects.append(f"It is retired on {retire_on}: new launches are refused from then on.")
    return RetirementPlan("sunset", usage.reference, tuple(blockers), tuple(warnings), tuple(effects))


def plan_retire(usage: Usage) -> RetirementPlan:
    """Retire: refuse new launches.  Running instances keep running."""
    blockers, warnings = [], []
    if VersionState.RETIRED not in MOVES[usage.state]:
        blockers.append(f"{usage.reference} is {usage.state.spoken} already.")
    if usage.marks:
        what = agree(len(usage.marks), "the mark", "these marks")
        blockers.append(f"{_marks(usage)} to it. Move {what} to another version first.")
    if usage.running:
        warnings.append(f"{_instances(usage, 'keep')} running.")
    if usage.state == VersionState.RELEASED:
        warnings.append("It has not been in sunset: its users get no warning before its retirement.")
    effects = [f"New launches of {usage.reference} are refused from now on."]
    if usage.base_disks:
        effects.append(
            f"{_removed(usage, 'launch-ready base disk')} once no launch uses {agree(usage.base_disks, 'it', 'them')}."
        )
    return RetirementPlan(
        "retire", usage.reference, tuple(blockers), tuple(warnings), () if blockers else tuple(effects)
    )


def plan_purge(usage: Usage, now: datetime, *, waive_grace: bool = False) -> RetirementPlan:
    """Purge: remove the bytes that nothing else needs, keep the record."""
    blockers, warnings = [], []
    if usage.state == VersionState.PURGED:
        blockers.append(f"{usage.reference} is purged already.")
    elif usage.state != VersionState.RETIRED:
        blockers.append(f"{usage.reference} is {usage.state.spoken}. Retire it first.")
    if usage.running:
        blockers.append(f"{_instances(usage, 'run')}. Terminate or renew {agree(usage.running, 'it', 'them')} first.")
    for hold in usage.holds:
        blockers.append(f"The hold {hold!r} forbids it. Lift the hold first.")
    if usage.retired_at is not None and usage.state == VersionState.RETIRED and now < usage.retired_at + GRACE:
        until = (usage.retired_at + GRACE).strftime("%Y-%m-%d %H:%M UTC")
        if waive_grace:
            warnings.append(f"The grace period until {until} is waived.")
        else:
            blockers.append(f"Its grace period lasts until {until}. Wait, or waive it with --no-grace.")
    if usage.children:
        keep = agree(len(usage.children), "It keeps its", "They keep their")
        warnings.append(f"Made from it: {', '.join(usage.children)}. {keep} own bytes.")
    effects = [
        f"Those of its chunks that no other version needs are removed: {iec(usage.stored_bytes)} at most.",
        "Its record, contents, findings and events are kept.",
    ]
    if usage.base_disks:
        effects.insert(0, f"{_removed(usage, 'base disk')}.")
    return RetirementPlan(
        "purge", usage.reference, tuple(blockers), tuple(warnings), () if blockers else tuple(effects)
    )


def _marks(usage: Usage) -> str:
    """``The mark stable points``, ``The marks next, stable point``."""
    count = len(usage.marks)
    return f"{agree(count, 'The mark', 'The marks')} {', '.join(usage.marks)} {agree(count, 'points', 'point')}"


def _instances(usage: Usage, verb: str) -> str:
    """``1 instance of it runs``, ``2 instances of it run``."""
    return f"{plural(usage.running, 'instance')} of it {agree(usage.running, f'{verb}s', verb)}"


def _removed(usage: Usage, noun: str) -> str:
    verb = agree(usage.base_disks, "is", "are")
    return f"{plural(usage.base_disks, noun)} at the site {verb} removed"
