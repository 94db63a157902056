"""Roles in an account, the verbs that they allow, and what a token leaves of them."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum

from bathotype.core.errors import Invalid


class Verb(StrEnum):
    """What somebody may do: ``read`` look; ``run`` saved sheets; ``operate`` that, and capture, launch, replicate and
    release; ``share`` grant versions to other accounts and answer their grants; ``rule`` set launch rules and
    allowances; ``retire`` end versions; ``manage`` members, tokens and keys."""

    READ = "read"
    RUN = "run"
    OPERATE = "operate"
    SHARE = "share"
    RULE = "rule"
    RETIRE = "retire"
    MANAGE = "manage"


class Role(StrEnum):
    """A member's role in one account."""

    VIEWER = "viewer"
    OPERATOR = "operator"
    STEWARD = "steward"


ALLOWS: dict[Role, frozenset[Verb]] = {
    Role.VIEWER: frozenset({Verb.READ}),
    Role.OPERATOR: frozenset({Verb.READ, Verb.RUN, Verb.OPERATE}),
    Role.STEWARD: frozenset(Verb),
}


def verbs_of(role: Role, scope: Iterable[str] | None = None) -> frozenset[Verb]:
    """What a role allows, narrowed to a token's scope: a token never gives more than its owner has."""
    allowed = ALLOWS[role]
    return allowed if scope is None else allowed & covered(scope)


def covered(scope: Iterable[str]) -> frozenset[Verb]:
    """The verbs that a token's scope covers: who operates may run sheets."""
    verbs = frozenset(Verb(v) for v in scope)
    return verbs | {Verb.RUN} if Verb.OPERATE in verbs else verbs


def least_role(verb: Verb) -> Role:
    """The least role that allows a verb."""
    return next(role for role in Role if verb in ALLOWS[role])


def parse_role(text: str) -> Role:
    """Raises `Invalid` for what is no role."""
    try:
        return Role(text)
    except ValueError:
        raise Invalid(f"{text!r} is no role.", advice=f"The roles are {', '.join(Role)}.") from None
