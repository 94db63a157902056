"""Starting an operation: its record, its steps and its place in the queue, in one transaction."""

from __future__ import annotations

from datetime import datetime
from typing import TypeVar

import structlog
from sqlalchemy.orm import Session

from bathotype.core.access.roles import Role, verbs_of
from bathotype.service.access.principals import Principal
from bathotype.service.operations.kind import Kind, Memo, Params
from bathotype.service.operations.queue import enqueue
from bathotype.service.records import Account, Operation, OperationStep
from bathotype.service.records.base import new_id

P = TypeVar("P", bound=Params)
M = TypeVar("M", bound=Memo)


def unattended_principal(session: Session, account_id: str, name: str) -> Principal:
    """The principal for work that the service starts by itself on behalf of an account."""
    account = session.get_one(Account, account_id)
    return Principal(account.id, account.name, name, "", Role.OPERATOR, verbs_of(Role.OPERATOR))


def start_operation(
    session: Session,
    principal: Principal,
    kind: type[Kind[P, M]],
    subject: str,
    params: P,
    *,
    start_at: datetime | None = None,
) -> Operation:
    """Record an operation with its steps and queue it; both take effect when the session's transaction commits.

    One that waits for a moment is queued when that has come (`worker.sweep`).
    """
    operation = Operation(
        id=new_id("op"),
        account_id=principal.account_id,
        kind=kind.name,
        subject=subject,
        params=params.model_dump(mode="json"),
        memo={},
        leftovers_removed=not kind.may_leave,
        created_by=principal.actor,
        start_at=start_at,
        request_id=str(structlog.contextvars.get_contextvars().get("request_id", "")),
    )
    session.add(operation)
    session.flush()
    for position, step in enumerate(kind.steps):
        session.add(
            OperationStep(
                operation_id=operation.id, position=position, name=step.name, title=step.title, weight=step.weight
            )
        )
    session.flush()
    if start_at is None:
        enqueue(session, operation.id)
    return operation
