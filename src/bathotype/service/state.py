"""What one process of the service holds: database, settings, regions, queue."""

from __future__ import annotations

from dataclasses import dataclass

import structlog
from sqlalchemy.orm import Session

from bathotype.core.access.roles import Role, verbs_of
from bathotype.service.auth import Principal
from bathotype.service.database import Database
from bathotype.service.oidc import OidcLogIn
from bathotype.service.operations.queue import Queue
from bathotype.service.operations.work import Work
from bathotype.service.places import Reach
from bathotype.service.records import Account, Operation, OperationStep
from bathotype.service.records.base import new_id
from bathotype.service.settings import Settings


@dataclass(frozen=True)
class Service:
    """Made once a process; routes get it from the application."""

    settings: Settings
    database: Database
    reach: Reach
    queue: Queue
    oidc: OidcLogIn | None = None

    @classmethod
    def from_environment(cls, *, patience: float) -> Service:
        """Open everything that the settings name and bring the schema up to date."""
        settings = Settings()
        settings.scratch_dir.mkdir(parents=True, exist_ok=True)
        database = Database(settings.database_url)
        database.prepare()
        reach, queue = Reach(database, settings.places, patience=patience), Queue(settings.database_url)
        given = settings.places.oidc
        return cls(settings, database, reach, queue, OidcLogIn(**given.model_dump()) if given else None)


def robot(session: Session, account_id: str, name: str) -> Principal:
    """In whose name the service does for an account what nobody asked for just now."""
    account = session.get_one(Account, account_id)
    return Principal(account.id, account.name, name, "", Role.OPERATOR, verbs_of(Role.OPERATOR))


def start_operation(
    session: Session,
    principal: Principal,
    kind: type[Work],
    subject: str,
    params: dict[str, object],
    *,
    operation_id: str = "",
) -> Operation:
    """Record an operation with its steps; it is queued once the caller's transaction has committed."""
    operation = Operation(
        id=operation_id or new_id("op"),
        account_id=principal.account_id,
        kind=kind.kind,
        subject=subject,
        params=params,
        memo={},
        created_by=principal.actor,
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
    return operation
