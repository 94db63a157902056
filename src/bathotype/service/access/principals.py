"""Who calls: tokens and sessions become a principal that acts for one account in one role."""

from __future__ import annotations

import hashlib
import hmac
import secrets
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import bindparam, select, update
from sqlalchemy.orm import Session

from bathotype.core.access.roles import Role, Verb, least_role, verbs_of
from bathotype.core.errors import Forbidden, Invalid, NotFound, NotSignedIn
from bathotype.service.database import Reads
from bathotype.service.records import Account, ApiToken, ConsoleSession, Membership, User
from bathotype.service.records.base import new_id, utcnow
from bathotype.service.statements import Statement
from bathotype.wire.access import UserKind

TOKEN_PREFIX = "bt_"
SESSION_COOKIE = "bathotype_session"
_NOTED_EVERY = timedelta(minutes=1)
_IDLE = timedelta(hours=2)


@dataclass(frozen=True)
class Standing:
    """A membership: an account that somebody may act for, and the role there."""

    account_id: str
    account: str
    role: Role


@dataclass(frozen=True)
class Person:
    """A user, or a robot, that has shown who it is, and what it may act for with what it showed, by name of account."""

    user_id: str
    name: str
    kind: UserKind
    standings: tuple[Standing, ...]
    accounts: frozenset[str] | None = None
    verbs: frozenset[str] | None = None
    #: The only saved sheets that it may run; None: all.
    sheets: frozenset[str] | None = None
    session_digest: str | None = None
    #: The token that was shown, and when it ends.
    token_id: str | None = None
    ends_at: datetime | None = None


@dataclass(frozen=True)
class Principal:
    """A caller that acts for an account: what it may there, and its name in events."""

    account_id: str
    account: str
    actor: str
    user_id: str
    role: Role
    verbs: frozenset[Verb]
    sheets: frozenset[str] | None = None

    def need_sheet(self, name: str) -> None:
        """Raises `Forbidden` where its token is for other sheets."""
        if self.sheets is not None and name not in self.sheets:
            raise Forbidden(
                f"This token of {self.actor} does not cover the sheet {name}.",
                advice=f"It is for {', '.join(sorted(self.sheets))}. Use another.",
            )

    def need(self, verb: Verb) -> None:
        """Raises `Forbidden` with the reason unless the caller may."""
        if verb in self.verbs:
            return
        least = least_role(verb)
        if verb in verbs_of(self.role):
            raise Forbidden(
                f"This token of {self.actor} does not cover {verb!s}.",
                advice=f"Use a token whose verbs include {verb}.",
            )
        raise Forbidden(
            f"{self.actor} is {self.role} in {self.account}; this needs {least}.",
            advice=f"Ask a steward of {self.account}.",
        )


@dataclass(frozen=True)
class Credentials:
    """What a request shows of its sender."""

    authorization: str = ""
    cookie: str = ""
    csrf: str = ""
    changes: bool = False
    origin: str = ""


def digest_of(secret: str) -> str:
    """What is kept of a token, a cookie or a code: each is long and random, so that a plain hash is enough."""
    return hashlib.sha256(secret.encode()).hexdigest()


def csrf_of(cookie: str) -> str:
    """The CSRF token of a session: it follows from the cookie, so that a page that is loaded again can ask for it,
    while a page of another site, which cannot read the cookie, does not know it."""
    return digest_of(f"csrf {cookie}")


def make_account(session: Session, name: str) -> Account:
    """The account with a name, made if need be."""
    row = session.scalar(select(Account).where(Account.name == name))
    if row is None:
        row = Account(id=new_id("ac"), name=name)
        session.add(row)
        session.flush()
    return row


def make_user(session: Session, name: str, kind: UserKind) -> User:
    """The user with a name, made if need be.  Raises `Invalid` where the name is of another kind."""
    row = session.scalar(select(User).where(User.name == name))
    if row is None:
        row = User(id=new_id("us"), name=name, kind=kind)
        session.add(row)
        session.flush()
    elif row.kind != kind:
        raise Invalid(f"{name} is a {row.kind}.", advice="Take another name.")
    return row


def set_role(session: Session, account: Account, user: User, role: Role) -> None:
    """Make a user a member that has accepted it, or change its role."""
    session.merge(Membership(account_id=account.id, user_id=user.id, role=role, accepted_at=utcnow()))
    session.flush()


def add_token(
    session: Session,
    user: User,
    name: str,
    *,
    made_by: str,
    days: float,
    accounts: Iterable[str] | None = None,
    verbs: Iterable[str] | None = None,
    sheets: Iterable[str] | None = None,
    token: str | None = None,
    made_with: Person | None = None,
) -> tuple[ApiToken, str]:
    """A token of a user; its text is known here and never again.  One that is made with another ends no later."""
    ends = utcnow() + timedelta(days=days)
    if made_with is not None and made_with.ends_at is not None:
        ends = min(ends, made_with.ends_at)
    token = token or TOKEN_PREFIX + secrets.token_urlsafe(32)
    row = ApiToken(
        id=new_id("tk"),
        user_id=user.id,
        name=name,
        digest=digest_of(token),
        accounts=sorted(accounts) if accounts is not None else None,
        verbs=sorted(verbs) if verbs is not None else None,
        sheets=sorted(sheets) if sheets is not None else None,
        made_by=made_by,
        parent_id=made_with.token_id if made_with is not None else None,
        expires_at=ends,
    )
    session.add(row)
    session.flush()
    return row, token


def revoke(session: Session, row: ApiToken) -> None:
    """End a token, and every one that was made with it."""
    ending = select(ApiToken.id).where(ApiToken.id == row.id).cte("ending", recursive=True)
    ending = ending.union_all(select(ApiToken.id).where(ApiToken.parent_id == ending.c.id))
    session.execute(
        update(ApiToken)
        .where(ApiToken.id.in_(select(ending.c.id)), ApiToken.revoked_at.is_(None))
        .values(revoked_at=utcnow())
        .execution_options(synchronize_session=False)
    )


def withdraw(session: Session, row: ApiToken, account: str) -> None:
    """End what a token reaches of one account: it stays good for the others that its owner has now."""
    held = (
        select(Account.name)
        .join(Membership, Membership.account_id == Account.id)
        .where(Membership.user_id == row.user_id, Membership.accepted_at.is_not(None))
    )
    reached = set(row.accounts) if row.accounts is not None else set(session.scalars(held))
    if left := sorted(reached - {account}):
        row.accounts = left
    else:
        revoke(session, row)


def make_token(session: Session, account: str, name: str, *, token: str | None = None, days: int = 365) -> str:
    """Account, robot and token for a start, where the service's own settings are; steward of that account."""
    row, robot = make_account(session, account), make_user(session, f"{account}-{name}", "robot")
    set_role(session, row, robot, Role.STEWARD)
    if token and session.scalar(select(ApiToken.id).where(ApiToken.digest == digest_of(token))):
        return token
    return add_token(session, robot, name, made_by="the service's host", days=days, token=token)[1]


_MEMBER = (Membership.role, Account.id.label("account_id"), Account.name.label("account"))


def _asking(shown: type[ApiToken] | type[ConsoleSession], *columns: Any) -> Statement:
    """The owner of a token or session, and its memberships by account."""
    return Statement(
        select(*columns, User.id.label("user_id"), User.name, User.kind, *_MEMBER)
        .select_from(shown)
        .join(User, User.id == shown.user_id)
        .outerjoin(Membership, (Membership.user_id == User.id) & Membership.accepted_at.is_not(None))
        .outerjoin(Account, Account.id == Membership.account_id)
        .where(shown.digest == bindparam("digest"))
        .order_by(Account.name)
    )


_BY_TOKEN = _asking(
    ApiToken, ApiToken.id, ApiToken.accounts, ApiToken.verbs, ApiToken.sheets, ApiToken.revoked_at, ApiToken.expires_at,
    ApiToken.last_used_at,
)  # fmt: skip
_BY_SESSION = _asking(ConsoleSession, ConsoleSession.expires_at, ConsoleSession.seen_at)


def person_of(reads: Reads, shown: Credentials, *, note: bool = True) -> Person:
    """Who sent a request.  ``note`` records that the token or session was used: a page that is only open does not keep its
    session alive.  Raises `NotSignedIn`, or `Forbidden` for a change by a browser without its CSRF token."""
    scheme, _, token = shown.authorization.partition(" ")
    if scheme.lower() == "bearer" and token:
        return _by_token(reads, token, shown.origin, note)
    if shown.cookie:
        return _by_session(reads, shown, note)
    raise NotSignedIn(
        "This call needs a token.", advice="Send `Authorization: Bearer TOKEN`; for the CLI, `bathotype auth login`."
    )


def _by_token(reads: Reads, token: str, origin: str, note: bool) -> Person:
    rows = _BY_TOKEN.rows(reads.connection, digest=digest_of(token))
    if not rows:
        raise NotSignedIn("The token is not known.", advice="Check BATHOTYPE_TOKEN, or sign in again.")
    row, now = rows[0], utcnow()
    if row.revoked_at is not None:
        raise NotSignedIn("The token was revoked.", advice="Have a new one made.")
    if row.expires_at < now:
        raise NotSignedIn("The token has expired.", advice="Have a new one made.")
    if note and (row.last_used_at is None or now - row.last_used_at > _NOTED_EVERY):
        with reads.database.sessions.begin() as session:
            session.execute(
                update(ApiToken).where(ApiToken.id == row.id).values(last_used_at=now, last_used_from=origin[:100])
            )
    accounts = frozenset(row.accounts) if row.accounts is not None else None
    verbs = frozenset(row.verbs) if row.verbs is not None else None
    standings = _standings(rows, accounts)
    return Person(
        row.user_id, row.name, row.kind, standings, accounts, verbs,
        frozenset(row.sheets) if row.sheets is not None else None, token_id=row.id, ends_at=row.expires_at,
    )  # fmt: skip


def _by_session(reads: Reads, shown: Credentials, note: bool) -> Person:
    digest, now = digest_of(shown.cookie), utcnow()
    rows = _BY_SESSION.rows(reads.connection, digest=digest)
    if not rows or rows[0].expires_at < now or now - rows[0].seen_at > _IDLE:
        raise NotSignedIn("The session has ended.", advice="Sign in again.")
    row = rows[0]
    if shown.changes and not hmac.compare_digest(digest_of(shown.csrf), digest_of(csrf_of(shown.cookie))):
        raise Forbidden(
            "A change from a browser needs the session's CSRF token.",
            advice="Send the `csrf` of the log-in as X-CSRF-Token.",
            code="csrf",
        )
    if note and now - row.seen_at > _NOTED_EVERY:
        with reads.database.sessions.begin() as session:
            session.execute(update(ConsoleSession).where(ConsoleSession.digest == digest).values(seen_at=now))
    return Person(row.user_id, row.name, row.kind, _standings(rows), session_digest=digest)


def _standings(rows: Iterable[Any], accounts: frozenset[str] | None = None) -> tuple[Standing, ...]:
    return tuple(
        Standing(row.account_id, row.account, Role(row.role))
        for row in rows
        if row.account_id is not None and (accounts is None or row.account in accounts)
    )


def person_named(session: Session, user: User) -> Person:
    """A user that has just signed in with a password, a code, or another provider."""
    members = select(*_MEMBER).join(Account, Account.id == Membership.account_id)
    held = members.where(Membership.user_id == user.id, Membership.accepted_at.is_not(None))
    rows = session.execute(held.order_by(Account.name))
    return Person(user.id, user.name, user.kind, _standings(rows))


def principal_of(person: Person, account: str) -> Principal:
    """A person acting for an account; without a name, for the only one that it has.

    Raises `NotFound` for an account that it is no member of, whether there is one or not.
    """
    held = person.standings
    if account:
        held = tuple(s for s in held if s.account == account)
        if not held:
            raise NotFound(f"There is no account {account!r} here.", advice="`bathotype auth whoami` shows yours.")
    if not held:
        raise NotFound(f"{person.name} is a member of no account.", advice="Ask a steward to add you.")
    if len(held) > 1:
        raise Invalid(
            f"{person.name} has several accounts: {', '.join(s.account for s in held)}.",
            advice="Say which: --account NAME, BATHOTYPE_ACCOUNT, or the header Bathotype-Account.",
            code="which-account",
        )
    (one,) = held
    return Principal(
        one.account_id, one.account, person.name, person.user_id, one.role, verbs_of(one.role, person.verbs),
        person.sheets,
    )  # fmt: skip
