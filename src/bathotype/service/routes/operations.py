"""Operations: list, show, watch, cancel, retry."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from typing import Annotated, Any

from fastapi import Query, Request
from sqlalchemy import select
from sqlalchemy.orm import Session
from sse_starlette import EventSourceResponse
from starlette.concurrency import run_in_threadpool

from bathotype.core.errors import NotFound, Refused
from bathotype.service import audit
from bathotype.service.access.principals import Principal
from bathotype.service.answers.operations import operation_answers
from bathotype.service.changes import EVERYTHING, Listener
from bathotype.service.everykind import KINDS
from bathotype.service.operations.kind import why_never_cancelled
from bathotype.service.operations.queue import enqueue
from bathotype.service.records import LogLine, Operation, OperationStep
from bathotype.service.records.base import CHANGE
from bathotype.service.routes.callers import Operator, Reader, ReadsOf, ServiceOf
from bathotype.service.routes.paging import REVERSED, Ordering, Paged
from bathotype.service.routes.route import api_router
from bathotype.wire import operations as wire
from bathotype.wire.common import Page

router = api_router("/operations", tags=["operations"])
_LOOK_AT_LEAST = 5.0  # seconds between two looks where no change is reported


def find_operation(session: Session, principal: Principal, operation_id: str, *, lock: bool = False) -> Operation:
    """An operation of the caller's account.  Raises `NotFound`."""
    row = session.get(Operation, operation_id, with_for_update=CHANGE if lock else False)
    if row is None or row.account_id != principal.account_id:
        raise NotFound(f"There is no operation {operation_id!r}.", advice="`bathotype operations list` shows them.")
    return row


_OPERATIONS = Ordering(
    Operation.id,
    started=Operation.id,
    kind=Operation.kind,
    subject=Operation.subject,
    state=Operation.state,
    by=Operation.created_by,
    ended=Operation.ended_at,
)


@router.get("")
def list_operations(
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    state: wire.OperationState | None = None,
    kind: Annotated[str | None, Query(max_length=63, description="For example `capture`.")] = None,
    subject: Annotated[str | None, Query(max_length=200, description="What it is about, such as a reference.")] = None,
    by: Annotated[str | None, Query(max_length=63, description="Who asked for it.")] = None,
    sort: Annotated[wire.OperationSort, Query(description=REVERSED)] = "-started",
) -> Page[wire.Operation]:
    """Operations, newest first unless sorted."""
    with reads.session() as session:
        query = select(Operation).where(Operation.account_id == caller.account_id)
        asked = {Operation.state: state, Operation.kind: kind, Operation.subject: subject, Operation.created_by: by}
        for column, value in asked.items():
            if value:
                query = query.where(column == value)
        rows, following, total = paging.in_order(session, query, _OPERATIONS, sort)
        items = operation_answers(session, [row[0] for row in rows])
        return Page[wire.Operation](items=items, next=following, total=total)


@router.get("/{operation_id}")
def show_operation(operation_id: str, caller: Reader, reads: ReadsOf) -> wire.Operation:
    """One operation with its steps."""
    with reads.session() as session:
        return operation_answers(session, [find_operation(session, caller, operation_id)])[0]


@router.get("/{operation_id}/log")
def operation_log(operation_id: str, caller: Reader, reads: ReadsOf) -> list[wire.LogLine]:
    """An operation's log, oldest first; the newest 1000 lines."""
    with reads.session() as session:
        find_operation(session, caller, operation_id)
        query = select(LogLine).where(LogLine.operation_id == operation_id).order_by(LogLine.id.desc()).limit(1000)
        return [
            wire.LogLine.model_validate(line, from_attributes=True) for line in reversed(list(session.scalars(query)))
        ]


@router.get(
    "/{operation_id}/events",
    response_class=EventSourceResponse,
    responses={200: {"content": {"text/event-stream": {}}}},
)
async def operation_events(
    operation_id: str, caller: Reader, service: ServiceOf, request: Request
) -> EventSourceResponse:
    """Progress as server-sent events: ``operation`` whenever something changed, until it has ended."""

    def look() -> wire.Operation:
        with service.database.reads() as session:
            return operation_answers(session, [find_operation(session, caller, operation_id)])[0]

    await run_in_threadpool(look)

    async def stream() -> AsyncIterator[dict[str, Any]]:
        last = ""
        async with service.changes.listener(caller.account_id) as listener:
            while not await request.is_disconnected():
                now = await run_in_threadpool(look)
                text = now.model_dump_json()
                if text != last:
                    last = text
                    yield {"event": "operation", "data": text}
                if now.state in wire.ENDED:
                    return
                await _until_changed(listener, operation_id)

    return EventSourceResponse(stream())


async def _until_changed(listener: Listener, operation_id: str) -> None:
    """Return when an operation has changed, or may have; after a while in any case."""
    ends = asyncio.get_running_loop().time() + _LOOK_AT_LEAST
    while (left := ends - asyncio.get_running_loop().time()) > 0:
        if any(c == EVERYTHING or c.id == operation_id for c in await listener.next(left)):
            return


@router.post("/{operation_id}/cancel")
def cancel_operation(operation_id: str, caller: Operator, service: ServiceOf) -> wire.Operation:
    """Ask an operation to stop; it cleans up first."""
    with service.database.sessions.begin() as session:
        row = find_operation(session, caller, operation_id, lock=True)
        if row.state in wire.ENDED:
            raise Refused(f"The operation has {row.state} already.", code="state-forbids")
        if why := why_never_cancelled(row.kind):
            raise Refused(why, code="state-forbids")
        row.cancel_requested = True
        audit.record(
            session, caller.account_id, caller.actor, "operation.cancel", row.subject, after={"operation": row.id}
        )
        return operation_answers(session, [row])[0]


@router.post("/{operation_id}/retry")
def retry_operation(operation_id: str, caller: Operator, service: ServiceOf) -> wire.Operation:
    """Run a failed or cancelled operation again: from the step that failed where that is sound, else from its beginning."""
    with service.database.sessions.begin() as session:
        row = find_operation(session, caller, operation_id, lock=True)
        if row.state not in ("failed", "cancelled"):
            raise Refused(
                f"The operation is {row.state}; only failed or cancelled ones are retried.", code="state-forbids"
            )
        kind = KINDS[row.kind]
        params = kind.params_type.model_validate(row.params)
        begins = kind.resumes_at(session, row.id, params)
        if begins is None:
            kind.before_retry(session, service.reach, row.account_id, row.id, params)
            row.memo = {}
        row.state, row.ending, row.error, row.result = "queued", None, None, None
        row.cancel_requested, row.started_at, row.ended_at, row.beat_at, row.attempts = False, None, None, None, 0
        row.leftovers_removed, row.start_at = not kind.may_leave, None
        names = [step.name for step in kind.steps]
        again = OperationStep.position >= (names.index(begins) if begins is not None else 0)
        for step in session.scalars(select(OperationStep).where(OperationStep.operation_id == row.id, again)):
            step.state, step.bytes_done, step.bytes_total, step.started_at, step.ended_at = "pending", 0, 0, None, None
            step.starts = 0
        audit.record(
            session, caller.account_id, caller.actor, "operation.retry", row.subject, after={"operation": row.id}
        )
        session.flush()
        enqueue(session, row.id)
        return operation_answers(session, [row])[0]
