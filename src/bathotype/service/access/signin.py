"""Log-in with a password, sessions of browsers, and invitations."""

from __future__ import annotations

import secrets
from datetime import timedelta
from functools import cache

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerifyMismatchError
from sqlalchemy import delete, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from bathotype.core.errors import Invalid, NotSignedIn, Refused
from bathotype.service.access.principals import Person, csrf_of, digest_of
from bathotype.service.database import Database
from bathotype.service.records import ConsoleSession, Invitation, SignInFailure, User
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.room import Room

SESSION_LASTS = timedelta(hours=12)
INVITATION_LASTS = timedelta(days=7)
#: Wrong passwords that are let pass: for a name from one address, and from one address for all names together.
_FREE_TRIES, _FREE_FOR_ALL = 5, 100
_LONGEST_LOCK, _FORGOTTEN = timedelta(minutes=15), timedelta(days=1)
_SHORTEST_PASSWORD = 12
_hasher = PasswordHasher()


def hash_password(password: str) -> str:
    """Raises `Invalid` for one that is too short."""
    if not _SHORTEST_PASSWORD <= len(password) <= 1000:
        raise Invalid(f"A password has {_SHORTEST_PASSWORD} characters or more.", advice="Take a few words.")
    with _room.one():
        return _hasher.hash(password)


def log_in(database: Database, name: str, password: str, origin: str) -> User:
    """The user with this name and password.

    After a few wrong passwords for a name from one address it is locked there, each time for twice as long, whether there
    is such a name or not: nobody else is locked out, and nobody learns who is here.  The same goes for an address that
    tries many names.  Raises `NotSignedIn`, and `TooMany` while others are being checked.
    """
    own = digest_of(f"{name}\0{origin}")
    keys = {own: _FREE_TRIES, digest_of(f"\0{origin}"): _FREE_FOR_ALL}
    with database.sessions.begin() as session:
        for key in keys:
            _check_lock(session.get(SignInFailure, key))
        user = session.scalar(select(User).where(User.name == name, User.kind == "person"))
        if user is not None:
            session.expunge(user)
    with _room.one():  # outside of a transaction: it takes a while, and much memory
        right = _verifies(user.password if user else None, password)
    with database.sessions.begin() as session:
        if right and user is not None:
            session.execute(delete(SignInFailure).where(SignInFailure.key == own))
            return user
        for key, free in keys.items():
            _count(session, key, free)
    raise NotSignedIn("Name or password is wrong.", advice="Try again, or ask a steward for a new invitation.")


def another_password(database: Database, person: Person, old: str, new: str, origin: str) -> str:
    """The hash of another password, for a person who gives the one that counts.

    Raises `Refused` where the old one is wrong, and as `log_in` after a few wrong ones.
    """
    if person.kind == "robot":
        raise Refused(f"{person.name} is a robot: it has tokens, and no password.", code="state-forbids")
    hashed = hash_password(new)
    try:
        log_in(database, person.name, old, origin)
    except NotSignedIn as error:  # who asks is signed in all the same
        if error.code == "locked-out":
            raise Refused(error.message, advice=error.advice, code=error.code) from error
        advice = "Try again. A steward can give you a new invitation if you do not know it."
        raise Refused("The old password is wrong.", advice=advice, code="wrong-password") from error
    return hashed


def set_password(session: Session, person: Person, hashed: str) -> None:
    """Let another password count; the person's other sessions end."""
    session.execute(update(User).where(User.id == person.user_id).values(password=hashed))
    others = (ConsoleSession.user_id == person.user_id) & (ConsoleSession.digest != (person.session_digest or ""))
    session.execute(delete(ConsoleSession).where(others))


def _check_lock(row: SignInFailure | None) -> None:
    now = utcnow()
    if row is not None and row.locked_until is not None and row.locked_until > now:
        wait = max(1, round((row.locked_until - now).total_seconds()))
        raise NotSignedIn("Too many wrong passwords.", advice=f"Try again in {wait} s.", code="locked-out")


def _count(session: Session, key: str, free: int) -> None:
    now = utcnow()
    session.execute(delete(SignInFailure).where(SignInFailure.at < now - _FORGOTTEN))
    fresh = insert(SignInFailure).values(key=key, failures=1, at=now)
    again = {"failures": SignInFailure.failures + 1, "at": now}
    asked = fresh.on_conflict_do_update(index_elements=[SignInFailure.key], set_=again).returning(
        SignInFailure.failures
    )
    failures = session.scalar(asked) or 1
    if failures >= free:
        pause = min(timedelta(seconds=2.0 ** min(failures - free, 20)), _LONGEST_LOCK)
        session.execute(update(SignInFailure).where(SignInFailure.key == key).values(locked_until=now + pause))


_room = Room(2, 8, "Too many are signing in just now.")


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


def open_invitation(session: Session, code: str) -> Invitation:
    """The invitation with a code, locked.  Raises `NotSignedIn` where there is none, or not any more."""
    row = session.scalar(select(Invitation).where(Invitation.digest == digest_of(code)).with_for_update(**CHANGE))
    if row is None or row.expires_at < utcnow():
        raise NotSignedIn("The invitation is no longer valid.", advice="Ask a steward for a new one.")
    return row


def accept_invitation(session: Session, code: str, hashed: str) -> User:
    """Set the password, which was hashed before, and end every open session.

    Raises `NotSignedIn` for a code that is not valid.
    """
    row = open_invitation(session, code)
    user = session.get_one(User, row.user_id)
    user.password = hashed
    session.delete(row)
    session.execute(delete(ConsoleSession).where(ConsoleSession.user_id == user.id))
    return user
