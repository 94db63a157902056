"""The keys with which an account signs its versions."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.service import audit
from bathotype.service.records import Account, AccountKey
from bathotype.service.routes.callers import Manager, ReadsOf, ServiceOf, Signed
from bathotype.service.routes.route import api_router
from bathotype.service.signatures import KeyRing
from bathotype.wire import access as wire

router = api_router()


def _keys(session: Session, account: Account) -> list[wire.PublicKey]:
    rows = session.scalars(
        select(AccountKey).where(AccountKey.account_id == account.id).order_by(AccountKey.created_at.desc())
    )
    return [
        wire.PublicKey(
            id=r.id, account=account.name, public=r.public, state=r.state,
            created_at=r.created_at, ended_at=r.ended_at,
        )
        for r in rows
    ]  # fmt: skip


@router.get("/accounts/{account}/keys", tags=["access"])
def list_keys(account: str, person: Signed, reads: ReadsOf) -> list[wire.PublicKey]:
    """The public keys with which an account signs its versions.  Public for everybody who is signed in here."""
    with reads.session() as session:
        row = session.scalar(select(Account).where(Account.name == account))
        return _keys(session, row) if row is not None else []


@router.post("/keys/rotation", tags=["access"])
def rotate_key(caller: Manager, service: ServiceOf) -> list[wire.PublicKey]:
    """Sign with a new key from now on; what the old one signed still counts."""
    with service.database.sessions.begin() as session:
        made = KeyRing(service.settings).rotate(session, caller.account_id)
        audit.record(session, caller.account_id, caller.actor, "key.rotated", made)
        return _keys(session, session.get_one(Account, caller.account_id))


@router.post("/keys/{key}/distrust", tags=["access"])
def distrust_key(key: str, caller: Manager, service: ServiceOf) -> list[wire.PublicKey]:
    """Let nothing count that a key has signed, after it was lost."""
    with service.database.sessions.begin() as session:
        KeyRing.distrust(session, caller.account_id, key)
        audit.record(session, caller.account_id, caller.actor, "key.distrusted", key)
        return _keys(session, session.get_one(Account, caller.account_id))
