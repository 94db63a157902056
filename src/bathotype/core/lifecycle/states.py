"""A version's life and what each state allows."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from enum import StrEnum

from bathotype.core.errors import Refused


class VersionState(StrEnum):
    """``staged`` recorded but not offered; ``released`` offered; ``sunset`` still launchable by exact version,
    with a warning; ``retired`` no launches; ``purged`` bytes gone, record kept."""

    STAGED = "staged"
    RELEASED = "released"
    SUNSET = "sunset"
    RETIRED = "retired"
    PURGED = "purged"

    @property
    def spoken(self) -> str:
        """The state as a sentence has it: ``retired``, ``in sunset``."""
        return "in sunset" if self is VersionState.SUNSET else self.value


#: Versions that are offered: released, and those whose end is announced.
OFFERED = (VersionState.RELEASED, VersionState.SUNSET)

#: Which moves the table allows.
MOVES: dict[VersionState, frozenset[VersionState]] = {
    VersionState.STAGED: frozenset({VersionState.RELEASED, VersionState.RETIRED}),
    VersionState.RELEASED: frozenset({VersionState.SUNSET, VersionState.RETIRED}),
    VersionState.SUNSET: frozenset({VersionState.RELEASED, VersionState.RETIRED}),
    VersionState.RETIRED: frozenset({VersionState.PURGED}),
    VersionState.PURGED: frozenset(),
}

_INSTEAD = {
    VersionState.STAGED: "Release it first, or retire it if it is not wanted.",
    VersionState.RELEASED: "Retire it first.",
    VersionState.SUNSET: "Retire it first.",
    VersionState.RETIRED: "It can only be purged now; capture a new version instead.",
    VersionState.PURGED: "Its bytes are gone; capture a new version instead.",
}


def check_move(reference: str, current: VersionState, wanted: VersionState) -> None:
    """Raises `Refused` unless a version may go from one state to the other."""
    if wanted not in MOVES[current]:
        if current == wanted:
            raise Refused(f"{reference} is {current.spoken} already.", code="state-same")
        raise Refused(
            f"{reference} is {current.spoken}; from there it cannot become {wanted}.",
            advice=_INSTEAD[current],
            code="state-forbids",
        )


@dataclass(frozen=True)
class LaunchVerdict:
    """Whether a version may be launched, with every reason against and every warning."""

    allowed: bool
    reasons: tuple[str, ...] = ()
    warnings: tuple[str, ...] = ()


def may_launch(
    reference: str,
    state: VersionState,
    *,
    exact: bool,
    pin_only: bool,
    as_is: bool,
    sunset_on: date | None = None,
    retire_on: date | None = None,
) -> LaunchVerdict:
    """Judge one launch.  Pure: the caller reads the facts in the transaction that records the launch."""
    reasons, warnings = [], []
    if state == VersionState.STAGED:
        if exact:
            warnings.append(f"{reference} is only staged: it has not been released.")
        else:
            reasons.append(f"{reference} is staged and not offered; name it exactly to try it, or release it.")
    elif state in (VersionState.RETIRED, VersionState.PURGED):
        reasons.append(f"{reference} is {state}: it takes no new launches. Launch a newer version of its line.")
    elif state == VersionState.SUNSET:
        until = f" Launches end on {retire_on}." if retire_on else ""
        text = f"{reference} is in sunset{f' since {sunset_on}' if sunset_on else ''}.{until}"
        if exact:
            warnings.append(text)
        else:
            reasons.append(f"{text} Name it exactly to launch it all the same, or launch a newer version.")
    if pin_only and not exact:
        reasons.append(f"{reference} is pin-only: it is launched only when named exactly.")
    if as_is:
        warnings.append(
            f"{reference} keeps the identity of its source: every instance begins with the same machine id, host keys "
            "and credentials."
        )
    return LaunchVerdict(not reasons, tuple(reasons), tuple(warnings))
