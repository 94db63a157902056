"""The API's answers about operations."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.lifecycle.offers import Offer, operation_offers
from bathotype.service.operations.kind import why_never_cancelled
from bathotype.service.records import Operation, OperationStep
from bathotype.service.records.base import utcnow
from bathotype.wire import operations as wire


def operation_answers(session: Session, rows: Sequence[Operation]) -> list[wire.Operation]:
    """Operations with their steps: one more statement, however many there are."""
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
        percent=round(percent, 1),
        attempts=row.attempts,
        steps=[wire.Step.model_validate(s, from_attributes=True) for s in steps],
        rate=rate,
        eta=eta,
        result=row.result,
        error=wire.Failure(**row.error) if row.error else None,
        created_by=row.created_by,
        created_at=row.created_at,
        start_at=row.start_at,
        started_at=row.started_at,
        ended_at=row.ended_at,
        offers=offers_answer(
            operation_offers(row.state, why_never_cancelled(row.kind), cancel_requested=row.cancel_requested)
        ),
    )


def offers_answer(offers: Iterable[Offer]) -> list[wire.Offer]:
    """What can be done with a thing, as it is sent."""
    return [wire.Offer.model_validate(offer, from_attributes=True) for offer in offers]


def _share(step: OperationStep) -> float:
    if step.state in ("done", "skipped"):
        return 1.0
    return min(1.0, step.bytes_done / step.bytes_total) if step.state == "running" and step.bytes_total else 0.0
