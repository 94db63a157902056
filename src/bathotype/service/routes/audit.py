"""Events, alerts and saved first-boot settings."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Response
from sqlalchemy import select

from bathotype.core.errors import NotFound
from bathotype.core.firstboot.settings import FirstBoot
from bathotype.core.lifecycle.references import check_name
from bathotype.service import audit
from bathotype.service.answers.events import events_of
from bathotype.service.records import Alert, FirstBootSet
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.routes.callers import Operator, Reader, ReadsOf, ServiceOf
from bathotype.service.routes.common import Paged
from bathotype.service.routes.route import api_router
from bathotype.wire import fleet as wire
from bathotype.wire.common import Page

router = api_router()


@router.get("/events", tags=["events"], response_model=Page[wire.Event])
def list_events(
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    subject: str | None = None,
    action: Annotated[str | None, Query(description="An action, or its first part, such as 'version'.")] = None,
) -> Response:
    """The audit trail, newest first."""
    asked = {"subject": subject or None, "action": action or None, "after": paging.after(int)}
    given = {name: value for name, value in asked.items() if value is not None}
    statement = events_of(**{name: name in given for name in asked}, most=paging.fetched)
    rows = statement.rows(reads.connection, caller=caller.account_id, **given)
    return paging.answer(rows, lambda row: row.id)


@router.get("/events/chain", tags=["events"])
def check_chain(caller: Reader, service: ServiceOf) -> wire.ChainCheck:
    """Check that each event follows from the one before."""
    with service.database.sessions() as session:  # read in parts, which takes a transaction
        broken = audit.broken_links(session)
        return wire.ChainCheck(whole=not broken, broken_at=broken[:100])


@router.get("/alerts", tags=["events"])
def list_alerts(caller: Reader, reads: ReadsOf, cleared: bool = False) -> list[wire.Alert]:
    """What somebody should look at."""
    with reads.session() as session:
        query = select(Alert).where(Alert.account_id == caller.account_id).order_by(Alert.raised_at.desc())
        if not cleared:
            query = query.where(Alert.cleared_at.is_(None))
        return [wire.Alert.model_validate(row, from_attributes=True) for row in session.scalars(query.limit(500))]


@router.post("/alerts/{alert}/acknowledgement", tags=["events"])
def acknowledge(alert: str, caller: Operator, service: ServiceOf) -> wire.Alert:
    """Say that one has seen an alert: it stays raised until it is over, and is no longer listed as needing somebody."""
    with service.database.sessions.begin() as session:
        row = session.get(Alert, alert, with_for_update=CHANGE)
        if row is None or row.account_id != caller.account_id:
            raise NotFound(f"There is no alert {alert!r}.", advice="`bathotype alerts` lists them.")
        if row.acknowledged_at is None:
            row.acknowledged_by, row.acknowledged_at = caller.actor, utcnow()
            audit.record(
                session, caller.account_id, caller.actor, "alert.acknowledged", row.subject, after={"kind": row.kind}
            )
        return wire.Alert.model_validate(row, from_attributes=True)


@router.get("/first-boot", tags=["first boot"])
def list_first_boot(caller: Reader, reads: ReadsOf) -> list[wire.SavedFirstBoot]:
    """Saved first-boot settings."""
    with reads.session() as session:
        rows = session.scalars(
            select(FirstBootSet).where(FirstBootSet.account_id == caller.account_id).order_by(FirstBootSet.name)
        )
        return [wire.SavedFirstBoot(name=r.name, settings=FirstBoot.model_validate(r.settings)) for r in rows]


@router.put("/first-boot/{name}", tags=["first boot"])
def save_first_boot(name: str, body: FirstBoot, caller: Operator, service: ServiceOf) -> wire.SavedFirstBoot:
    """Save first-boot settings under a name, replacing earlier ones."""
    check_name(name, "set of first-boot settings")
    with service.database.sessions.begin() as session:
        session.merge(FirstBootSet(account_id=caller.account_id, name=name, settings=body.model_dump(mode="json")))
        audit.record(session, caller.account_id, caller.actor, "first-boot.saved", name)
    return wire.SavedFirstBoot(name=name, settings=body)


@router.delete("/first-boot/{name}", status_code=204, tags=["first boot"])
def drop_first_boot(name: str, caller: Operator, service: ServiceOf) -> None:
    """Remove saved settings."""
    with service.database.sessions.begin() as session:
        row = session.get(FirstBootSet, (caller.account_id, name))
        if row is None:
            raise NotFound(f"There are no saved first-boot settings {name!r}.")
        session.delete(row)
        audit.record(session, caller.account_id, caller.actor, "first-boot.removed", name)
