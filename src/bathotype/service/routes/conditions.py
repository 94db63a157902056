"""Conditions of a change (RFC 9110, section 13): it happens only where nobody else has changed the thing meanwhile."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

from fastapi import Depends, Header

from bathotype.core.errors import ChangedMeanwhile, Invalid
from bathotype.wire.common import Revised


@dataclass(frozen=True)
class Conditions:
    """``match`` are the revisions of which the thing must have one; ``absent`` says that it must not be there yet."""

    match: frozenset[str] | None = None
    absent: bool = False

    def check(self, what: str, now: Revised | None) -> None:
        """Raises `ChangedMeanwhile` unless they hold.  The caller has locked the thing, or what it belongs to."""
        if self.absent and now is not None:
            raise ChangedMeanwhile(f"{what} is there already.", advice="Look at it, or take another name.")
        if self.match is None:
            return
        if now is None:
            raise ChangedMeanwhile(f"{what} is not there any more.", advice="Send it without If-Match to make it anew.")
        if "*" not in self.match and now.revision not in self.match:
            raise ChangedMeanwhile(
                f"{what} was changed by somebody else since you looked.", advice="Look at it again, then change it."
            )


async def _conditions(
    if_match: Annotated[
        str | None,
        Header(max_length=1000, description="The `revision` that you saw, in quotes: 412 if it is another by now."),
    ] = None,
    if_none_match: Annotated[str | None, Header(max_length=10, description="`*`: 412 if it is there already.")] = None,
) -> Conditions:
    if if_none_match not in (None, "*"):
        raise Invalid("A change takes no If-None-Match but *.", advice="Use If-Match with a revision.")
    match = None if if_match is None else frozenset(tag.strip().strip('"') for tag in if_match.split(","))
    return Conditions(match, if_none_match == "*")


Conditional = Annotated[Conditions, Depends(_conditions)]
