"""Events, alerts and saved first-boot settings."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query
from sqlalchemy import select

from bathotype.core.errors import NotFound
from bathotype.core.firstboot.settings import FirstBoot
from bathotype.core.lifecycle.references import check_name
from bathotype.service import audit
from bathotype.service.records import Alert, Event, FirstBootSet
from bathotype.service.routes.common import (
    Operator,
    Paged,
    Reader,
    ServiceOf,
    api_router,
)
from bathotype.wire import fleet as wire
from bathotype.wire.common import Page

router = api_router()


@router.get("/events", tags=["events"])
def list_events(
    caller: Reader,
    service: ServiceOf,
    paging: Paged,
    subject: str | None = None,
    action: Annotated[str | None, Query(description="An action, or its first part, such as 'version'.")] = None,
) -> Page[wire.Event]:
    """The audit trail, newest first."""
    with service.database.reads() as session:
        query = select(Event).where(Event.account_id == caller.account_id).order_by(Event.id.desc())
        if subject:
            query = query.where(Event.subject == subject)
        if action:
            query = query.where((Event.action == action) | Event.action.startswith(f"{action}.", autoescape=True))
        if (after := paging.after(int)) is not None:
            query = query.where(Event.id < after)
        rows = list(session.scalars(query.limit(paging.fetched)))
        page, following = paging.cut(rows, lambda row: row.id)
        return Page[wire.Event](
            items=[wire.Event.model_validate(r, from_attributes=True) for r in page], next=following
        )


@router.get("/events/chain", tags=["events"])
def check_chain(caller: Reader, service: ServiceOf) -> wire.ChainCheck:
    """Check that each event follows from the one before."""
    with service.database.sessions() as session:  # read in parts, which takes a transaction
        broken = audit.broken_links(session)
        return wire.ChainCheck(whole=not broken, broken_at=broken[:100])


@router.get("/alerts", tags=["events"])
def list_alerts(caller: Reader, service: ServiceOf, cleared: bool = False) -> list[wire.Alert]:
    """What somebody should look at."""
    with service.database.reads() as session:
        query = select(Alert).where(Alert.account_id == caller.account_id).order_by(Alert.raised_at.desc())
        if not cleared:
            query = query.where(Alert.cleared_at.is_(None))
        return [wire.Alert.model_validate(row, from_attributes=True) for row in session.scalars(query.limit(500))]


@router.get("/first-boot", tags=["first boot"])
def list_first_boot(caller: Reader, service: ServiceOf) -> list[wire.SavedFirstBoot]:
    """Saved first-boot settings."""
    with service.database.reads() as session:
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
