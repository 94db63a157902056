"""Events, alerts and saved first-boot settings."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Response
from sqlalchemy import select

from bathotype.core.errors import Invalid, NotFound
from bathotype.core.firstboot.checks import faults
from bathotype.core.firstboot.settings import FirstBoot
from bathotype.core.lifecycle.references import check_name
from bathotype.service import audit
from bathotype.service.answers.events import events_counted, events_of
from bathotype.service.answers.operations import operation_answers
from bathotype.service.kinds.eventcheck import EventCheck, EventCheckParams
from bathotype.service.operations.start import start_operation
from bathotype.service.records import Alert, FirstBootSet
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.routes.callers import Manager, Operator, Reader, ReadsOf, ServiceOf
from bathotype.service.routes.conditions import Conditional
from bathotype.service.routes.paging import REVERSED, Ordering, Paged
from bathotype.service.routes.route import api_router
from bathotype.wire import fleet as wire
from bathotype.wire.common import Page
from bathotype.wire.operations import Operation

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
    given = {name: value for name, value in (("subject", subject), ("action", action)) if value}
    flags, after = {"subject": bool(subject), "action": bool(action)}, paging.after(int)
    statement = events_of(**flags, after=after is not None, most=paging.fetched)
    last = {} if after is None else {"after": after}
    rows = statement.rows(reads.connection, caller=caller.account_id, **given, **last)
    return paging.answer(
        rows,
        lambda row: row.id,
        lambda: events_counted(**flags).first(reads.connection, caller=caller.account_id, **given).count,
    )


@router.post("/event-checks", status_code=202, tags=["events"])
def check_events(caller: Manager, service: ServiceOf) -> Operation:
    """Check that each event follows from the one before, and that none is missing at the end: the operation's result says
    it, as ``ChainCheck``.  It reads the trail of all accounts, so it is for stewards."""
    with service.database.sessions.begin() as session:
        row = start_operation(session, caller, EventCheck, "the audit trail", EventCheckParams())
        return operation_answers(session, [row])[0]


_ALERTS = Ordering(Alert.id, raised=Alert.id, kind=Alert.kind, subject=Alert.subject)
_FIRST_BOOTS = Ordering(FirstBootSet.name, name=FirstBootSet.name)


@router.get("/alerts", tags=["events"])
def list_alerts(
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    cleared: bool = False,
    kind: Annotated[str | None, Query(max_length=63, description="Only those of this kind.")] = None,
    sort: Annotated[wire.AlertSort, Query(description=REVERSED)] = "-raised",
) -> Page[wire.Alert]:
    """What somebody should look at, the newest first unless sorted."""
    with reads.session() as session:
        query = select(Alert).where(Alert.account_id == caller.account_id)
        if not cleared:
            query = query.where(Alert.cleared_at.is_(None))
        if kind is not None:
            query = query.where(Alert.kind == kind)
        rows, following, total = paging.in_order(session, query, _ALERTS, sort)
        items = [wire.Alert.model_validate(row[0], from_attributes=True) for row in rows]
        return Page[wire.Alert](items=items, next=following, total=total)


@router.post("/alerts/{alert}/acknowledgement", tags=["events"])
def acknowledge(alert: str, body: wire.AcknowledgeRequest, caller: Operator, service: ServiceOf) -> wire.Alert:
    """Say that one has seen an alert, and why it may be.

    It stays raised until it is over, and is no longer listed as needing somebody.  One about what has happened and cannot
    end by itself, such as a machine that was deleted at the site, ends with it.
    """
    reason = body.reason
    with service.database.sessions.begin() as session:
        row = session.get(Alert, alert, with_for_update=CHANGE)
        if row is None or row.account_id != caller.account_id:
            raise NotFound(f"There is no alert {alert!r}.", advice="`bathotype alerts` lists them.")
        if row.acknowledged_at is None:
            row.acknowledged_by, row.acknowledged_at, row.acknowledged_reason = caller.actor, utcnow(), reason or None
            after = {"kind": row.kind, "reason": reason}
            audit.record(session, caller.account_id, caller.actor, "alert.acknowledged", row.subject, after=after)
            if row.kind in audit.HAPPENED:
                audit.clear_alert(session, caller.account_id, row.kind, row.subject)
        return wire.Alert.model_validate(row, from_attributes=True)


@router.get("/first-boot", tags=["first boot"])
def list_first_boot(
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    sort: Annotated[wire.FirstBootSort, Query(description=REVERSED)] = "name",
) -> Page[wire.SavedFirstBoot]:
    """Saved first-boot settings."""
    with reads.session() as session:
        query = select(FirstBootSet).where(FirstBootSet.account_id == caller.account_id)
        rows, following, total = paging.in_order(session, query, _FIRST_BOOTS, sort)
        return Page(items=[_saved(row[0]) for row in rows], next=following, total=total)


@router.get("/first-boot/{name}", tags=["first boot"])
def show_first_boot(name: str, caller: Reader, reads: ReadsOf) -> wire.SavedFirstBoot:
    """Saved first-boot settings."""
    with reads.session() as session:
        row = session.get(FirstBootSet, (caller.account_id, name))
        if row is None:
            raise _no_settings(name)
        return _saved(row)


def _saved(row: FirstBootSet) -> wire.SavedFirstBoot:
    return wire.SavedFirstBoot(name=row.name, settings=FirstBoot.model_validate(row.settings))


def _no_settings(name: str) -> NotFound:
    return NotFound(
        f"There are no saved first-boot settings {name!r}.", advice="`bathotype first-boot list` shows them."
    )


@router.put("/first-boot/{name}", tags=["first boot"])
def save_first_boot(
    name: str, body: FirstBoot, caller: Operator, service: ServiceOf, conditions: Conditional
) -> wire.SavedFirstBoot:
    """Save first-boot settings under a name, replacing earlier ones."""
    check_name(name, "set of first-boot settings")
    with service.database.sessions.begin() as session:
        row = session.get(FirstBootSet, (caller.account_id, name), with_for_update=CHANGE)
        conditions.check(f"The set of first-boot settings {name}", _saved(row) if row else None)
        if wrong := faults(body):
            raise Invalid(" ".join(wrong))
        session.merge(FirstBootSet(account_id=caller.account_id, name=name, settings=body.model_dump(mode="json")))
        audit.record(session, caller.account_id, caller.actor, "first-boot.saved", name)
    return wire.SavedFirstBoot(name=name, settings=body)


@router.delete("/first-boot/{name}", status_code=204, tags=["first boot"])
def drop_first_boot(name: str, caller: Operator, service: ServiceOf, conditions: Conditional) -> None:
    """Remove saved settings."""
    with service.database.sessions.begin() as session:
        row = session.get(FirstBootSet, (caller.account_id, name))
        if row is None:
            raise _no_settings(name)
        conditions.check(f"The set of first-boot settings {name}", _saved(row))
        session.delete(row)
        audit.record(session, caller.account_id, caller.actor, "first-boot.removed", name)
