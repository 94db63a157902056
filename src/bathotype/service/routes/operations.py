"""Operations: list, show, watch, cancel, retry."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Sequence
from typing import Any

from fastapi import Request
from sqlalchemy import select
from sqlalchemy.orm import Session
from sse_starlette import EventSourceResponse
from starlette.concurrency import run_in_threadpool

from bathotype.core.errors import NotFound, Refused
from bathotype.service import audit
from bathotype.service.admission import rooms
from bathotype.service.auth import Principal
from bathotype.service.records import Instance, LogLine, NumberClaim, Operation, OperationStep, Version
from bathotype.service.records.base import CHANGE, REST, utcnow
from bathotype.service.routes.common import (
    Cursor,
    Limit,
    Operator,
    Reader,
    ServiceOf,
    api_router,
    decode_cursor,
    encode_cursor,
)
from bathotype.service.sharing import still_granted
from bathotype.wire import operations as wire
from bathotype.wire.common import Page

router = api_router("/operations", tags=["operations"])
_LOOK_EVERY = 0.3


def operation_answers(session: Session, rows: Sequence[Operation]) -> list[wire.Operation]:
    """What the API tells about operations."""
    steps: dict[str, list[OperationStep]] = {row.id: [] for row in rows}
    query = select(OperationStep).where(OperationStep.operation_id.in_(list(steps))).order_by(OperationStep.position)
    for step in session.scalars(query):
        steps[step.operation_id].append(step)
    return [_answer(row, steps[row.id]) for row in rows]


def _answer(row: Operation, steps: list[OperationStep]) -> wire.Operation:
    total = sum(s.weight for s in steps) or 1
    done = sum(s.weight * _share(s) for s in steps)
    running = next((s for s in steps if s.state == "running"), None)
    rate = eta = None
    if running is not None and running.bytes_done and running.started_at:
        spent = (utcnow() - running.started_at).total_seconds()
        rate = running.bytes_done / spent if spent > 0 else None
        if rate and running.bytes_total:
            eta = max(0.0, (running.bytes_total - running.bytes_done) / rate)
    percent = 100.0 if row.state == "succeeded" else min(99.0, 100 * done / total)
    return wire.Operation(
        id=row.id,
        kind=row.kind,
        subject=row.subject,
        state=row.state,
        percent=round(percent, 1),  # type: ignore[arg-type]
        attempts=row.attempts,
        steps=[wire.Step.model_validate(s, from_attributes=True) for s in steps],
        rate=rate,
        eta=eta,
        result=row.result,
        error=wire.Failure(**row.error) if row.error else None,
        created_by=row.created_by,
        created_at=row.created_at,
        started_at=row.started_at,
        ended_at=row.ended_at,
    )


def _share(step: OperationStep) -> float:
    if step.state in ("done", "skipped"):
        return 1.0
    return min(1.0, step.bytes_done / step.bytes_total) if step.state == "running" and step.bytes_total else 0.0


def find_operation(session: Session, principal: Principal, operation_id: str, *, lock: bool = False) -> Operation:
    """An operation of the caller's account.  Raises `NotFound`."""
    row = session.get(Operation, operation_id, with_for_update=CHANGE if lock else False)
    if row is None or row.account_id != principal.account_id:
        raise NotFound(f"There is no operation {operation_id!r}.", advice="`bathotype operations list` shows them.")
    return row


@router.get("")
def list_operations(
    caller: Reader,
    service: ServiceOf,
    state: wire.OperationState | None = None,
    limit: Limit = 50,
    cursor: Cursor = None,
) -> Page[wire.Operation]:
    """Operations, newest first."""
    with service.database.reads() as session:
        query = select(Operation).where(Operation.account_id == caller.account_id).order_by(Operation.id.desc())
        if state:
            query = query.where(Operation.state == state)
        if cursor:
            query = query.where(Operation.id < str(decode_cursor(cursor)))
        rows = list(session.scalars(query.limit(limit + 1)))
        following = encode_cursor(rows[limit - 1].id) if len(rows) > limit else None
        return Page[wire.Operation](items=operation_answers(session, rows[:limit]), next=following)


@router.get("/{operation_id}")
def show_operation(operation_id: str, caller: Reader, service: ServiceOf) -> wire.Operation:
    """One operation with its steps."""
    with service.database.reads() as session:
        return operation_answers(session, [find_operation(session, caller, operation_id)])[0]


@router.get("/{operation_id}/log")
def operation_log(operation_id: str, caller: Reader, service: ServiceOf) -> list[wire.LogLine]:
    """What an operation has told, oldest first; the newest 1000 lines."""
    with service.database.reads() as session:
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
        while not await request.is_disconnected():
            now = await run_in_threadpool(look)
            text = now.model_dump_json()
            if text != last:
                last = text
                yield {"event": "operation", "data": text}
            if now.state in wire.ENDED:
                return
            await asyncio.sleep(_LOOK_EVERY)

    return EventSourceResponse(stream())


@router.post("/{operation_id}/cancel")
def cancel_operation(operation_id: str, caller: Operator, service: ServiceOf) -> wire.Operation:
    """Ask an operation to stop; it cleans up first."""
    with service.database.sessions.begin() as session:
        row = find_operation(session, caller, operation_id, lock=True)
        if row.state in wire.ENDED:
            raise Refused(f"The operation has {row.state} already.", code="state-forbids")
        if row.kind == "purge":
            raise Refused("A purge cannot be cancelled: the version is purged already.", code="state-forbids")
        row.cancel_requested = True
        audit.record(
            session, caller.account_id, caller.actor, "operation.cancel", row.subject, after={"operation": row.id}
        )
        return operation_answers(session, [row])[0]


@router.post("/{operation_id}/retry")
def retry_operation(operation_id: str, caller: Operator, service: ServiceOf) -> wire.Operation:
    """Run a failed or cancelled operation again from its beginning."""
    with service.database.sessions.begin() as session:
        row = find_operation(session, caller, operation_id, lock=True)
        if row.state not in ("failed", "cancelled"):
            raise Refused(
                f"The operation is {row.state}; only failed or cancelled ones are retried.", code="state-forbids"
            )
        _take_back(session, row)
        row.state, row.memo, row.ending, row.error, row.result = "queued", {}, None, None, None
        row.cancel_requested, row.ended_at, row.beat_at, row.attempts = False, None, None, 0
        for step in session.scalars(select(OperationStep).where(OperationStep.operation_id == row.id)):
            step.state, step.bytes_done, step.bytes_total, step.started_at, step.ended_at = "pending", 0, 0, None, None
        audit.record(
            session, caller.account_id, caller.actor, "operation.retry", row.subject, after={"operation": row.id}
        )
        session.flush()
        answer = operation_answers(session, [row])[0]
    service.queue.put(operation_id)
    return answer


def _take_back(session: Session, row: Operation) -> None:
    """What a retry needs again: the number that a capture claimed, the instances that a launch gave up."""
    if "line_id" in row.params and "number" in row.params:
        number, line = row.params["number"], row.params["line_id"]
        claim = session.get(NumberClaim, (line, number))
        taken = session.scalar(select(Version.id).where(Version.line_id == line, Version.number == number))
        if claim is not None or taken is not None:
            raise Refused(
                f"The number {number} has been taken meanwhile.",
                advice="Start again with another number.",
                code="number-taken",
            )
        session.add(NumberClaim(line_id=line, number=number, operation_id=row.id))
    if row.kind == "launch":
        version = session.get_one(Version, row.params["version_id"], with_for_update={**REST, "of": Version})
        if version.state in ("retired", "purged"):
            raise Refused(
                f"{row.subject} is {version.state} meanwhile: it takes no new launches.", code="state-forbids"
            )
        query = select(Instance).where(Instance.operation_id == row.id, Instance.state == "failed")
        failed = session.scalars(query).all()
        still_granted(session, row.account_id, version.id, str(row.params["region"]))
        full = [b for r in rooms(session, row.account_id, version, lock=True) if (b := r.blocker(len(failed)))]
        if full:
            raise Refused(" ".join(full), code="launch-refused")
        for instance in failed:
            instance.state, instance.reason, instance.ended_at, instance.site_machine = "pending", None, None, None
