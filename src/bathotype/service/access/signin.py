"""Log-in with a password, sessions of browsers, and invitations."""

from __future__ import annotations

import secrets
from datetime import timedelta
from functools import cache

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerifyMismatchError
from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from bathotype.core.errors import Invalid, NotSignedIn
from bathotype.service.access.principals import csrf_of, digest_of
from bathotype.service.database import Database
from bathotype.service.records import ConsoleSession, Invitation, User
from bathotype.service.records.base import CHANGE, utcnow

SESSION_LASTS = timedelta(hours=12)
INVITATION_LASTS = timedelta(days=7)
_FREE_TRIES = 5
_LONGEST_LOCK = timedelta(minutes=15)
_SHORTEST_PASSWORD = 12
_hasher = PasswordHasher()


def hash_password(password: str) -> str:
    """Raises `Invalid` for one that is too short."""
    if not _SHORTEST_PASSWORD <= len(password) <= 1000:
        raise Invalid(f"A password has {_SHORTEST_PASSWORD} characters or more.", advice="Take a few words.")
    return _hasher.hash(password)


def log_in(database: Database, name: str, password: str) -> User:
    """The user with this name and password.

    After a few wrong passwords the name is locked, each time for twice as long.  Raises `NotSignedIn`, with the same
    words whether the name exists or not.
    """
    with database.sessions.begin() as session:
        user = session.scalar(select(User).where(User.name == name, User.kind == "person").with_for_update(**CHANGE))
        now = utcnow()
        if user is not None and user.locked_until is not None and user.locked_until > now:
            wait = max(1, round((user.locked_until - now).total_seconds()))
            raise NotSignedIn("Too many wrong passwords.", advice=f"Try again in {wait} s.", code="locked-out")
        if _verifies(user.password if user else None, password):
            assert user is not None
            user.failures, user.locked_until = 0, None
            return user
        if user is not None:
            user.failures += 1
            if user.failures >= _FREE_TRIES:
                pause = timedelta(seconds=2.0 ** (user.failures - _FREE_TRIES))
                user.locked_until = now + min(pause, _LONGEST_LOCK)
    raise NotSignedIn("Name or password is wrong.", advice="Try again, or ask a steward for a new invitation.")


@cache
def _nobody() -> str:
    """Verified where there is no such user, so that the time of an answer does not show whether there is one."""
    return _hasher.hash(secrets.token_hex(16))


def _verifies(kept: str | None, password: str) -> bool:
    try:
        return _hasher.verify(kept or _nobody(), password) and kept is not None
    except (VerifyMismatchError, InvalidHashError):
        return False


def open_session(session: Session, user: User) -> tuple[str, str]:
    """``(cookie, CSRF token)`` of a new session."""
    cookie = secrets.token_urlsafe(32)
    session.execute(delete(ConsoleSession).where(ConsoleSession.expires_at < utcnow()))
    session.add(ConsoleSession(digest=digest_of(cookie), user_id=user.id, expires_at=utcnow() + SESSION_LASTS))
    return cookie, csrf_of(cookie)


def invite(session: Session, user: User) -> str:
    """A code with which a person chooses a password, once."""
    code = secrets.token_urlsafe(24)
    session.execute(delete(Invitation).where(Invitation.user_id == user.id))
    session.add(Invitation(digest=digest_of(code), user_id=user.id, expires_at=utcnow() + INVITATION_LASTS))
    return code


def accept_invitation(session: Session, code: str, password: str) -> User:
    """Set the password and end every open session.  Raises `NotSignedIn` for a code that is not valid."""
    row = session.scalar(select(Invitation).where(Invitation.digest == digest_of(code)).with_for_update(**CHANGE))
    if row is None or row.expires_at < utcnow():
        raise NotSignedIn("The invitation is not good any more.", advice="Ask a steward for a new one.")
    user = session.get_one(User, row.user_id)
    user.password, user.failures, user.locked_until = hash_password(password), 0, None
    session.delete(row)
    session.execute(delete(ConsoleSession).where(ConsoleSession.user_id == user.id))
    return user
