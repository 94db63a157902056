"""Who signs in: people, robots, their memberships, tokens and sessions."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, String
from sqlalchemy.orm import Mapped, mapped_column

from bathotype.core.access.roles import Role
from bathotype.service.records.base import Base, utcnow
from bathotype.wire.access import KeyState, UserKind


class User(Base):
    """A person, or a robot: a name for a program.  A person may have a password, an outside log-in, or both."""

    __tablename__ = "users"

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    kind: Mapped[UserKind] = mapped_column(String)
    password: Mapped[str | None]  # an Argon2 hash (RFC 9106), in its own encoding
    subject: Mapped[str | None] = mapped_column(unique=True)  # "issuer subject" of an OpenID Connect log-in
    created_at: Mapped[datetime] = mapped_column(default=utcnow)


class SignInFailure(Base):
    """Wrong passwords for a name from an address, of which a digest is kept: also for names that nobody has."""

    __tablename__ = "sign_in_failures"

    key: Mapped[str] = mapped_column(primary_key=True)
    failures: Mapped[int] = mapped_column(default=0)
    locked_until: Mapped[datetime | None]
    at: Mapped[datetime] = mapped_column(index=True)


class Membership(Base):
    """A user's role in an account.  It counts once the person has accepted it."""

    __tablename__ = "memberships"

    account_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"), primary_key=True)
    user_id: Mapped[str] = mapped_column(ForeignKey("users.id", ondelete="CASCADE"), primary_key=True, index=True)
    role: Mapped[Role] = mapped_column(String)
    since: Mapped[datetime] = mapped_column(default=utcnow)
    accepted_at: Mapped[datetime | None]


class ApiToken(Base):
    """A token, kept as its digest.  ``accounts`` and ``verbs`` narrow what its owner may, ``sheets`` which saved sheets it
    may run; null means all of it."""

    __tablename__ = "api_tokens"

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    user_id: Mapped[str] = mapped_column(ForeignKey("users.id", ondelete="CASCADE"), index=True)
    name: Mapped[str]
    digest: Mapped[str] = mapped_column(unique=True)
    accounts: Mapped[list[Any] | None]
    verbs: Mapped[list[Any] | None]
    sheets: Mapped[list[Any] | None]
    made_by: Mapped[str] = mapped_column(default="")
    #: The token with which it was made: it ends when that does.
    parent_id: Mapped[str | None] = mapped_column(ForeignKey("api_tokens.id", ondelete="CASCADE"), index=True)
    expires_at: Mapped[datetime]
    last_used_at: Mapped[datetime | None]
    last_used_from: Mapped[str] = mapped_column(default="")
    revoked_at: Mapped[datetime | None]
    created_at: Mapped[datetime] = mapped_column(default=utcnow)


class ConsoleSession(Base):
    """A signed-in browser; its cookie is kept as a digest."""

    __tablename__ = "console_sessions"

    digest: Mapped[str] = mapped_column(primary_key=True)
    user_id: Mapped[str] = mapped_column(ForeignKey("users.id", ondelete="CASCADE"), index=True)
    created_at: Mapped[datetime] = mapped_column(default=utcnow)
    seen_at: Mapped[datetime] = mapped_column(default=utcnow)
    expires_at: Mapped[datetime]


class OidcAttempt(Base):
    """An outside log-in under way: what the answer must fit."""

    __tablename__ = "oidc_attempts"

    state: Mapped[str] = mapped_column(primary_key=True)
    nonce: Mapped[str]
    verifier: Mapped[str]
    #: Whose invitation was shown when it began: who is new here comes with one.
    user_id: Mapped[str | None] = mapped_column(ForeignKey("users.id", ondelete="CASCADE"), index=True)
    expires_at: Mapped[datetime]


class AccountKey(Base):
    """An account's signing key; the private half is encrypted with the service's own key."""

    __tablename__ = "account_keys"

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    account_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"), primary_key=True)
    public: Mapped[str]  # base64
    private: Mapped[str | None]
    state: Mapped[KeyState] = mapped_column(String)
    created_at: Mapped[datetime] = mapped_column(default=utcnow)
    ended_at: Mapped[datetime | None]


class Invitation(Base):
    """A way for a new person to choose a password, once; kept as its digest."""

    __tablename__ = "invitations"

    digest: Mapped[str] = mapped_column(primary_key=True)
    user_id: Mapped[str] = mapped_column(ForeignKey("users.id", ondelete="CASCADE"), index=True)
    expires_at: Mapped[datetime]
