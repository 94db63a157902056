"""What can be done with a thing now, why not, and what would make it possible: pure functions.

The console, the command line and every other caller of the API show the same answer.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime

from bathotype.core.access.roles import Verb, least_role
from bathotype.core.lifecycle.instances import INSTANCE_VERBS
from bathotype.core.lifecycle.retirement import Usage, plan_purge, plan_retire
from bathotype.core.lifecycle.states import VersionState
from bathotype.core.units import agree, plural


@dataclass(frozen=True)
class Way:
    """A step that would make something possible: the name of an offer, on the same thing unless ``subject`` is given."""

    title: str
    name: str
    subject: str = ""


@dataclass(frozen=True)
class Offer:
    """One thing that can be done.  ``says`` is what it would do, or each reason why it is not possible now."""

    name: str
    title: str
    possible: bool
    says: tuple[str, ...]
    way: Way | None = None
    #: Whether bytes or running machines are lost by it, so that a person must confirm it by name.
    loses: bool = False


@dataclass(frozen=True)
class Caller:
    """Who asks: name, role and account for the reasons, and what is allowed."""

    name: str
    role: str
    account: str
    may: frozenset[Verb]

    def lacks(self, verb: Verb) -> str:
        """Why the caller may not do what a verb covers; empty where it may."""
        if verb in self.may:
            return ""
        return f"{self.name} is {self.role} in {self.account}; this needs {least_role(verb)}."


@dataclass(frozen=True)
class VersionFacts:
    """What the offers of a version depend on."""

    usage: Usage
    blocking: int
    demands: str
    regions: tuple[str, ...]
    missing_regions: tuple[str, ...]
    retire_on: str
    pin_only: bool
    shared_with: tuple[str, ...]
    now: datetime
    #: Whether the line demands passed checks before a release; whether the last ones passed, None where none was run.
    proven_first: bool = False
    proven: bool | None = None


def version_offers(caller: Caller, facts: VersionFacts) -> list[Offer]:
    """All that can be done with a version of the caller's own account."""
    return [_allowed(caller, verb, offer) for verb, offer in _version_offers(facts)]


def _version_offers(facts: VersionFacts) -> Iterator[tuple[Verb, Offer]]:
    usage, state = facts.usage, facts.usage.state
    reference = usage.reference
    if state in (VersionState.STAGED, VersionState.SUNSET):
        yield Verb.OPERATE, _release(facts)
    yield Verb.OPERATE, _launch(facts)
    yield Verb.OPERATE, _prove(facts)
    yield Verb.OPERATE, _replicate(facts)
    yield Verb.SHARE, _share(facts)
    gone = state == VersionState.PURGED
    nothing = (f"{reference} is purged: its bytes are gone.",)
    for name, title, would in (
        (
            "edit",
            "Make a version from it by an edit",
            "Steps on a copy of its disk, without a boot. It stays as it is.",
        ),
        ("export", "Take it out as a file", "raw, qcow2, VHD, VHDX, VMDK or OVA, read from a region's store."),
        ("verify", "Check its bytes", "Every chunk in a region is read and checked against its digest."),
    ):
        yield Verb.OPERATE, Offer(name, title, not gone, nothing if gone else (would,))
    if state == VersionState.RELEASED:
        yield Verb.RETIRE, Offer("sunset", "Announce its end", True, _sunset_says(facts))
    if state == VersionState.SUNSET:
        when = f"It retires on {facts.retire_on} now." if facts.retire_on else "No day is set now."
        yield Verb.RETIRE, Offer("sunset", "Move its end", True, (when,))
    plan = plan_retire(usage)
    if state not in (VersionState.RETIRED, VersionState.PURGED):
        way = Way("Move the mark", "mark", reference) if usage.marks else None
        says = plan.blockers or (*plan.effects, *plan.warnings)
        yield Verb.RETIRE, Offer("retire", "Retire it", not plan.blockers, tuple(says), way if plan.blockers else None)
    if state != VersionState.PURGED:
        yield Verb.RETIRE, _purge(facts)
        yield (
            Verb.OPERATE,
            Offer("hold", "Forbid its purge", True, ("A named reason; nobody can purge it before it is lifted.",)),
        )


def _allowed(caller: Caller, verb: Verb, offer: Offer) -> Offer:
    if not (why := caller.lacks(verb)):
        return offer
    return Offer(offer.name, offer.title, False, (why, f"Ask a steward of {caller.account}."), None, offer.loses)


def _release(facts: VersionFacts) -> Offer:
    title = "Release it" if facts.usage.state == VersionState.STAGED else "Take back its end"
    if facts.blocking:
        which = "of high severity" if facts.demands == "high" else "that its line demands to be accepted"
        why = f"{plural(facts.blocking, 'finding')} {which} {agree(facts.blocking, 'is', 'are')} open."
        return Offer("release", title, False, (why,), Way("Look at the findings", "findings"))
    if facts.proven_first and not facts.proven:
        why = "Its line demands that checks have passed."
        return Offer("release", title, False, (why, _proven_says(facts)), Way("Prove it", "prove"))
    return Offer("release", title, True, ("Launches of the bare line take it, if it is the newest.",))


def _prove(facts: VersionFacts) -> Offer:
    if facts.usage.state == VersionState.PURGED or not facts.regions:
        why = f"No region holds a sound replica of {facts.usage.reference}."
        return Offer("prove", "Prove it", False, (why,))
    return Offer("prove", "Prove it", True, ("A throwaway instance of it is judged by checks.", _proven_says(facts)))


def _proven_says(facts: VersionFacts) -> str:
    if facts.proven is None:
        return "It has not been proven yet."
    return "Its last checks passed." if facts.proven else "Its last checks did not all pass."


def _launch(facts: VersionFacts) -> Offer:
    state, reference = facts.usage.state, facts.usage.reference
    if state in (VersionState.RETIRED, VersionState.PURGED):
        return Offer("launch", "Launch from it", False, (f"{reference} is {state}: it takes no new launches.",))
    if not facts.regions:
        way = Way("Check its bytes", "verify")
        return Offer("launch", "Launch from it", False, ("No region holds a sound replica of it.",), way)
    says = [f"In {_listing(facts.regions)}."]
    if state == VersionState.STAGED:
        says.append("It is only staged: it has not been released.")
    if state == VersionState.SUNSET:
        says.append(f"It is in sunset; launches end on {facts.retire_on}." if facts.retire_on else "It is in sunset.")
    if facts.pin_only:
        says.append("It is pin-only: launched only when named exactly, as here.")
    return Offer("launch", "Launch from it", True, tuple(says))


def _replicate(facts: VersionFacts) -> Offer:
    title, reference = "Copy it to other regions", facts.usage.reference
    if facts.usage.state == VersionState.PURGED or not facts.regions:
        return Offer("replicate", title, False, (f"No region holds a sound replica of {reference}.",))
    if not facts.missing_regions:
        return Offer("replicate", title, True, ("It is in every region; the number of copies can be changed.",))
    return Offer("replicate", title, True, (f"It is not yet in {_listing(facts.missing_regions)}.",))


def _share(facts: VersionFacts) -> Offer:
    state, reference = facts.usage.state, facts.usage.reference
    if state == VersionState.PURGED:
        return Offer("share", "Share it", False, (f"{reference} is purged.",))
    shared = f"Shared with {_listing(facts.shared_with)}." if facts.shared_with else "Shared with nobody yet."
    return Offer("share", "Share it", True, (shared,))


def _sunset_says(facts: VersionFacts) -> tuple[str, ...]:
    runs = f"{plural(facts.usage.running, 'instance')} of it {'runs' if facts.usage.running == 1 else 'run'}."
    return (
        "Launches warn from now on, and its users are notified. It retires by itself on the day that you give.",
        runs,
    )


def _purge(facts: VersionFacts) -> Offer:
    usage = facts.usage
    if usage.state != VersionState.RETIRED:
        return Offer("purge", "Purge its bytes", False, ("Only a retired version can be purged.",), loses=True)
    plan = plan_purge(usage, facts.now)
    way = Way("See the holds", "holds") if usage.holds else Way("See what runs", "instances") if usage.running else None
    if plan.blockers:
        return Offer("purge", "Purge its bytes", False, plan.blockers, way, loses=True)
    return Offer("purge", "Purge its bytes", True, plan.effects, loses=True)


@dataclass(frozen=True)
class LineFacts:
    """What the offers of a line depend on."""

    name: str
    newest: str
    regions: tuple[str, ...]
    behind: int
    running: int
    versions: int
    source: str
    placed: tuple[str, ...]
    demands: str = "high"
    proven_first: bool = False
    about: str = ""


def line_offers(caller: Caller, facts: LineFacts) -> list[Offer]:
    """All that can be done with a line of the caller's own account."""
    return [_allowed(caller, verb, offer) for verb, offer in _line_offers(facts)]


def _line_offers(facts: LineFacts) -> Iterator[tuple[Verb, Offer]]:
    if facts.newest:
        yield Verb.OPERATE, Offer("launch", f"Launch from {facts.newest}", True, (f"In {_listing(facts.regions)}.",))
    else:
        yield Verb.OPERATE, Offer("launch", "Launch from it", False, (f"{facts.name} has no released version yet.",))
    came = (
        f"The last one came from {facts.source}."
        if facts.source
        else "From a machine at a site; its source keeps running."
    )
    first = "Capture the next version" if facts.versions else "Capture its first version"
    yield Verb.OPERATE, Offer("capture", first, True, (came,))
    yield (
        Verb.OPERATE,
        Offer("import", "Bring in a version from a file", True, ("raw, qcow2, VHD, VHDX, VDI, VMDK or OVA.",)),
    )
    if facts.behind:
        behind = f"{facts.behind} of {plural(facts.running, 'instance')} {'runs' if facts.behind == 1 else 'run'} an older version."
        yield (
            Verb.READ,
            Offer("behind", f"See the {facts.behind} that {agree(facts.behind, 'is', 'are')} behind", True, (behind,)),
        )
    yield (
        Verb.SHARE,
        Offer("share", "Share it", True, ("Another account may launch from its versions, once it accepts.",)),
    )
    placed = (
        f"Released versions go to {_listing(facts.placed)}."
        if facts.placed
        else "Released versions stay where they are made."
    )
    proven = ", and its last checks have passed" if facts.proven_first else ""
    needs = f"Findings of severity {facts.demands} and above are accepted{proven}."
    yield Verb.OPERATE, Offer("demand", "Say what a release needs", True, (needs,))
    yield Verb.OPERATE, Offer("placement", "Choose its regions", True, (placed,))
    if facts.versions:
        yield Verb.OPERATE, Offer("mark", "Set a mark", True, ("A movable name for one version, such as stable.",))
    about = facts.about or "Nothing is said of it yet."
    yield Verb.OPERATE, Offer("describe", "Say what it is for", True, (about,))
    if not facts.versions:
        yield Verb.OPERATE, Offer("drop", "Remove it", True, ("It has no version: nothing is lost.",), loses=True)


def operation_offers(state: str, never_cancelled: str, *, cancel_requested: bool = False) -> list[Offer]:
    """What can be done with an operation."""
    ended = state in ("succeeded", "failed", "cancelled")
    if ended:
        retry = state != "succeeded"
        says = (
            "It runs again, from where it failed if that is sound, else from its beginning."
            if retry
            else "It has succeeded."
        )
        return [Offer("retry", "Run it again", retry, (says,))]
    if never_cancelled:
        return [Offer("cancel", "Cancel it", False, (never_cancelled,))]
    if cancel_requested:
        return [Offer("cancel", "Cancel it", False, ("It is being cancelled: it cleans up first.",))]
    return [Offer("cancel", "Cancel it", True, ("It cleans up first; nothing of it stays.",))]


def instance_offers(caller: Caller, name: str, state: str) -> list[Offer]:
    """What can be done with an instance."""
    offers = [
        Offer(
            verb.name,
            verb.title,
            state in verb.from_states,
            (verb.says if state in verb.from_states else f"{name} is {state}.",),
            loses=verb.loses,
        )
        for verb in INSTANCE_VERBS.values()
    ]
    return [_allowed(caller, Verb.OPERATE, offer) for offer in offers]


def _listing(names: tuple[str, ...]) -> str:
    """``a, b and c``."""
    return f"{', '.join(names[:-1])} and {names[-1]}" if len(names) > 1 else "".join(names)


@dataclass(frozen=True)
class SheetFacts:
    """What the offers of a saved sheet depend on; ``scheduled`` says that it runs by itself unless it is paused, and
    ``repository`` where it comes from."""

    name: str
    line: str
    scheduled: bool
    paused: bool
    running: bool
    repository: str = ""
    withdrawn: bool = False
    is_part: bool = False


def sheet_offers(caller: Caller, facts: SheetFacts) -> list[Offer]:
    """All that can be done with a saved sheet."""
    needs = {"run": Verb.RUN}
    return [_allowed(caller, needs.get(offer.name, Verb.OPERATE), offer) for offer in _sheet_offers(facts)]


def _sheet_offers(facts: SheetFacts) -> Iterator[Offer]:
    if facts.is_part:
        yield Offer("change", "Change it", True, ("Sheets that include it keep the text that they have.",))
        yield Offer("drop", "Remove it", True, ("With every text that it had. Sheets that include it keep theirs.",))
        return
    meanwhile = ("A run of it is under way: another one starts beside it.",) if facts.running else ()
    yield Offer("run", "Run it now", True, (f"It makes the next version of {facts.line}.", *meanwhile))
    if facts.repository:
        yield Offer(
            "change", "Change it", False, (f"It comes from the repository {facts.repository}: change it there.",)
        )
    else:
        yield Offer("change", "Change it", True, ("The text before stays, and can be looked at.",))
    if facts.withdrawn:
        why = f"It is not in the repository {facts.repository} any more, and does not run by itself."
        yield Offer("pause", "Pause it", False, (why,))
    elif facts.paused:
        yield Offer("resume", "Let it run by itself again", True, ("From its next date on.",))
    elif facts.scheduled:
        yield Offer("pause", "Pause it", True, ("It runs when somebody asks, and not by itself.",))
    back = ("The next commit of its repository brings it back.",) if facts.repository and not facts.withdrawn else ()
    yield Offer("drop", "Remove it", True, ("With every text that it had. Its runs, and what they made, stay.", *back))
