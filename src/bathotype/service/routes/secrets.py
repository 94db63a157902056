"""Secrets of accounts: set and removed by stewards, listed without their values."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query
from sqlalchemy import select

from bathotype.core.errors import NotFound
from bathotype.core.lifecycle.references import check_name
from bathotype.service import audit
from bathotype.service.records import Secret
from bathotype.service.routes.callers import Manager, Reader, ReadsOf, ServiceOf
from bathotype.service.routes.paging import REVERSED, Ordering, Paged
from bathotype.service.routes.route import api_router
from bathotype.service.vault import Vault
from bathotype.wire import secrets as wire
from bathotype.wire.common import Page

router = api_router("/secrets", tags=["secrets"])


_SECRETS = Ordering(Secret.name, name=Secret.name, set=Secret.set_at, used=Secret.used_at)


@router.get("")
def list_secrets(
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    sort: Annotated[wire.SecretSort, Query(description=REVERSED)] = "name",
) -> Page[wire.SecretFacts]:
    """The account's secrets without their values: who set each, and which operation was given it last."""
    with reads.session() as session:
        query = select(Secret).where(Secret.account_id == caller.account_id)
        rows, following, total = paging.in_order(session, query, _SECRETS, sort)
        return Page(items=[_facts(row[0]) for row in rows], next=following, total=total)


@router.put("/{name}")
def set_secret(name: str, body: wire.SecretRequest, caller: Manager, service: ServiceOf) -> wire.SecretFacts:
    """Keep a secret, in the place of an older one of its name."""
    check_name(name, "secret")
    with service.database.sessions.begin() as session:
        vault = Vault(service.settings)
        row = vault.put(
            session, caller.account_id, name, body.value.get_secret_value(), about=body.about, by=caller.actor
        )
        audit.record(session, caller.account_id, caller.actor, "secret.set", name)
        return _facts(row)


@router.delete("/{name}", status_code=204)
def drop_secret(name: str, caller: Manager, service: ServiceOf) -> None:
    """Remove a secret.  Runs that name it are refused from then on."""
    with service.database.sessions.begin() as session:
        row = session.get(Secret, (caller.account_id, name))
        if row is None:
            raise NotFound(f"There is no secret {name!r}.", advice="`bathotype secrets list` shows them.")
        session.delete(row)
        audit.record(session, caller.account_id, caller.actor, "secret.removed", name)


def _facts(row: Secret) -> wire.SecretFacts:
    return wire.SecretFacts(
        name=row.name, about=row.about, set_by=row.set_by, set_at=row.set_at, used_at=row.used_at, used_by=row.used_by
    )
