"""Log-in, tokens, members and keys."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field

from bathotype.core.access.roles import Role, Verb
from bathotype.core.forms import form
from bathotype.wire.common import Answer, Revised, Wire, example

UserKind = Literal["person", "robot"]
KeyState = Literal["active", "rotated", "distrusted"]
_USER = form(
    r"^[a-z][a-z0-9]*(?:[-.][a-z0-9]+)*$",
    "lower-case letters, digits, single hyphens and dots, beginning with a letter",
)
UserName = Field(pattern=_USER, max_length=63, examples=["orla"])


class LogIn(Wire):
    """A log-in with a password."""

    model_config = example({"user": "orla", "password": "three words and a number 7"})

    user: str = Field(max_length=63)
    password: str = Field(max_length=1000)


class Standing(Answer):
    """An account that somebody may act for."""

    account: str
    role: Role
    verbs: list[Verb]


class WhoAmI(Answer):
    """Who is signed in.  ``csrf`` is given to browser sessions: each change sends it as X-CSRF-Token."""

    user: str
    kind: UserKind
    accounts: list[Standing]
    csrf: str | None = None


class LogInWays(Answer):
    """How one can log in here; ``oidc`` is the address that begins an outside log-in, where there is one."""

    password: bool = True
    oidc: str | None = None


class TokenRequest(Wire):
    """A token for oneself, or for a robot of the account."""

    model_config = example({"name": "pipeline", "robot": "tide-builder", "verbs": ["read", "operate"], "days": 90})

    name: str = Field(min_length=1, max_length=100)
    robot: str | None = Field(default=None, max_length=63, description="A robot of the account; else it is yours.")
    accounts: list[str] | None = Field(default=None, min_length=1, max_length=100, description="All yours if left out.")
    verbs: list[Verb] | None = Field(default=None, min_length=1, max_length=10, description="All yours if left out.")
    sheets: list[str] | None = Field(
        default=None, min_length=1, max_length=100, description="The only saved sheets that it may run; needs verbs."
    )
    days: float = Field(default=90, gt=0, le=730, description="Until it expires.")


TokenSort = Literal["made", "-made", "name", "-name", "user", "-user", "used", "-used", "expires", "-expires"]
MemberSort = Literal["user", "-user", "role", "-role", "since", "-since"]


class Token(Answer):
    """A token; its text is shown once, when it is made."""

    id: str
    name: str
    user: str
    kind: UserKind
    accounts: list[str] | None
    verbs: list[Verb] | None
    sheets: list[str] | None = Field(description="The only saved sheets that it may run; null: all.")
    made_by: str
    created_at: datetime
    expires_at: datetime
    last_used_at: datetime | None
    last_used_from: str
    revoked_at: datetime | None


class NewToken(Token):
    """A token with its text."""

    token: str


class MemberRequest(Wire):
    """A new member.  A person gets an invitation to choose a password, unless it is a user already."""

    model_config = example({"user": "orla", "role": "operator"})

    user: str = UserName
    role: Role
    robot: bool = False


class RoleRequest(Wire):
    """A member's new role."""

    model_config = example({"role": "operator"})

    role: Role


class Member(Revised):
    """A member of an account."""

    edited = ("role",)

    user: str
    kind: UserKind
    role: Role
    since: datetime
    accepted: bool = Field(default=True, description="False until the person has accepted the membership.")
    invitation: str | None = Field(default=None, description="Shown once: with it the person chooses a password.")


class OfferedMembership(Answer):
    """A membership that a steward offers to the person who asks; it counts once that person accepts it."""

    account: str
    role: Role
    since: datetime


class OidcStart(Wire):
    """A log-in by the provider that begins with an invitation, for who is new here."""

    model_config = example({"invitation": "nX3p0q9s..."})

    invitation: str = Field(min_length=1, max_length=200)


class OidcAddress(Answer):
    """Where the browser goes for a log-in by the provider."""

    address: str


class InvitationAcceptance(Wire):
    """The code of an invitation and the password that is chosen."""

    model_config = example({"code": "nX3p0q9s...", "password": "three words and a number 7"})

    code: str = Field(max_length=200)
    password: str = Field(max_length=1000)


class PasswordChange(Wire):
    """Another password, and the one that counts until then."""

    model_config = example({"old": "three words and a number 7", "new": "four other words and 8"})

    old: str = Field(max_length=1000)
    new: str = Field(max_length=1000)


class PublicKey(Answer):
    """A key that an account signs with: Ed25519, base64."""

    id: str
    account: str
    public: str
    state: KeyState
    created_at: datetime
    ended_at: datetime | None
