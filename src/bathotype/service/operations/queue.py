"""The queue: procrastinate brings operations to workers.

An operation is queued in the transaction that records it, so that there is never one without the other.
"""

from __future__ import annotations

from procrastinate import App, SyncPsycopgConnector
from procrastinate.exceptions import AlreadyEnqueued
from sqlalchemy.orm import Session

TASK = "bathotype.run_operation"

# Used on connections that callers bring: it never opens one of its own.
_app = App(connector=SyncPsycopgConnector(conninfo=""))


def enqueue(session: Session, operation_id: str) -> None:
    """Queue an operation when the session's transaction commits.  One that is queued already stays queued once."""
    try:
        with session.begin_nested():
            connection = session.connection().connection.driver_connection  # asked for here: this sets the savepoint
            task = _app.configure_task(TASK, queueing_lock=operation_id, connection=connection)
            task.defer(operation_id=operation_id)
    except AlreadyEnqueued:
        return
