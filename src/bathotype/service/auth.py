"""Who calls: bearer tokens, kept as digests."""

from __future__ import annotations

import hashlib
import secrets
from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.errors import BathotypeError
from bathotype.service.records import Account, ApiToken
from bathotype.service.records.base import new_id, utcnow

_PREFIX = "bt_"


class NotSignedIn(BathotypeError):
    """No token, or one that is not good."""

    code = "not-signed-in"


@dataclass(frozen=True)
class Principal:
    """An authenticated caller: the account it acts for, and its name in events."""

    account_id: str
    account: str
    actor: str


def make_token(session: Session, account: str, name: str, *, token: str | None = None, days: int = 365) -> str:
    """Create an account if need be and a token for it; the token is shown here and never again."""
    row = session.scalar(select(Account).where(Account.name == account))
    if row is None:
        row = Account(id=new_id("ac"), name=account)
        session.add(row)
        session.flush()
    token = token or _PREFIX + secrets.token_urlsafe(32)
    if session.scalar(select(ApiToken).where(ApiToken.digest == _digest(token))) is None:
        session.add(
            ApiToken(
                id=new_id("tk"),
                account_id=row.id,
                name=name,
                digest=_digest(token),
                expires_at=utcnow() + timedelta(days=days),
            )
        )
    return token


def principal_of(session: Session, authorization: str) -> Principal:
    """Whom an ``Authorization`` header names.  Raises `NotSignedIn`."""
    scheme, _, token = authorization.partition(" ")
    if scheme.lower() != "bearer" or not token:
        raise NotSignedIn(
            "This call needs a token.", advice="Send `Authorization: Bearer TOKEN`; for the CLI, set BATHOTYPE_TOKEN."
        )
    found = session.execute(
        select(ApiToken, Account).join(Account).where(ApiToken.digest == _digest(token))
    ).one_or_none()
    if found is None:
        raise NotSignedIn("The token is not known.", advice="Check BATHOTYPE_TOKEN.")
    row, account = found
    if row.expires_at is not None and row.expires_at < utcnow():
        raise NotSignedIn("The token has expired.", advice="Have a new one made.")
    return Principal(account.id, account.name, f"{account.name}/{row.name}")


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()
