"""Running one operation to its end, from wherever an earlier worker left it."""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Iterator, Mapping
from typing import Any

import structlog
from sqlalchemy import select, update
from sqlalchemy.exc import DataError, DBAPIError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from sqlalchemy.orm import Session

from bathotype.core.errors import BathotypeError, Unavailable
from bathotype.service import audit
from bathotype.service.database import Database, try_lock
from bathotype.service.operations.context import Cancelled, LockLost, PutDown, WorkContext
from bathotype.service.operations.kind import AnyKind
from bathotype.service.reach import Reach
from bathotype.service.records import Operation, OperationStep
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.settings import Settings
from bathotype.wire.operations import OperationState

log = structlog.get_logger()
_STEP_ATTEMPTS = 3
#: How often a step may be begun anew after its worker was ended within it.
_LIVES = 5
_BEAT_EVERY = 1.0


class Runner:
    """Runs operations.  A lock in the database ensures that one worker at a time runs an operation."""

    def __init__(
        self, database: Database, settings: Settings, reach: Reach, kinds: Mapping[str, type[AnyKind]]
    ) -> None:
        self._database, self._settings, self._reach, self._kinds = database, settings, reach, kinds
        self._running: set[str] = set()
        self._running_lock = threading.Lock()

    def run(self, operation_id: str) -> None:
        """Run an operation unless another worker does.  If the database goes away, the operation is left as it is and
        can be continued later."""
        with self._running_lock:
            # After an outage of the database the lock is gone, but a thread of this process may still be running the
            # operation, in the same scratch folder.
            if operation_id in self._running:
                return
            self._running.add(operation_id)
        try:
            self._run(operation_id)
        finally:
            with self._running_lock:
                self._running.discard(operation_id)

    def _run(self, operation_id: str) -> None:
        try:
            with self._database.held_connection() as connection:
                if not try_lock(connection, f"operation {operation_id}"):
                    return
                with self._database.sessions.begin() as session:
                    operation = session.get(Operation, operation_id, with_for_update=CHANGE)
                    if operation is None or operation.state not in ("queued", "running"):
                        return
                    if operation.start_at and operation.start_at > utcnow() and not operation.cancel_requested:
                        return  # its moment has not come
                    operation.state, operation.attempts = "running", operation.attempts + 1
                    operation.started_at = operation.started_at or utcnow()
                    operation.beat_at = utcnow()
                context = WorkContext(self._database, self._settings, self._reach, operation, connection)
                bound = structlog.contextvars.bound_contextvars(operation_id=operation_id)
                try:
                    with bound, self._beating(context), context.reader:
                        self._work(self._kinds[operation.kind](context), operation)
                except PutDown:
                    self._put_down(context)
        except (DBAPIError, PoolTimeout, LockLost) as error:
            log.warning(
                "operation left to another worker: the database went away",
                operation_id=operation_id,
                error=str(error)[:200],
            )

    @staticmethod
    def _put_down(context: WorkContext) -> None:
        """Leave an operation to whoever takes it up again.  That is no interruption."""
        context.drop_scratch()
        context.must_hold()
        with context.session() as session:
            session.execute(update(Operation).where(Operation.id == context.id).values(attempts=0))
            step = (OperationStep.operation_id == context.id) & (OperationStep.state == "running")
            session.execute(update(OperationStep).where(step).values(starts=0))

    @contextlib.contextmanager
    def _beating(self, context: WorkContext) -> Iterator[None]:
        stop = threading.Event()

        def beat() -> None:
            while not stop.wait(_BEAT_EVERY):
                with contextlib.suppress(Exception):  # the database may be away; the sweep waits for it too
                    context.beat()

        thread = threading.Thread(target=beat, daemon=True)
        thread.start()
        try:
            yield
        finally:
            stop.set()
            thread.join()

    def _work(self, work: AnyKind, operation: Operation) -> None:
        context = work.context
        ending = operation.ending
        if ending is None:
            if operation.attempts > 1:
                context.log(f"Continued after an interruption (attempt {operation.attempts}).")
                self._rewind(work)
            ending = self._steps(work)
            context.must_hold()
            with context.session() as session:
                session.execute(update(Operation).where(Operation.id == context.id).values(ending=ending))
        context.stopping = True
        context.enter(len(work.steps), "clean_up")
        try:
            work.clean_up(ending["outcome"])
        except BathotypeError as error:
            # What stays behind carries the operation's tag: the reconciler removes it later.
            context.log(f"Not everything temporary could be removed yet: {error}", "warning")
        except (DBAPIError, PoolTimeout, LockLost):
            raise
        except Exception as error:  # the operation ends all the same, else it would be taken up for ever
            log.exception("clean-up broke", operation_id=context.id)
            context.log(f"The clean-up met an internal error ({type(error).__name__}).", "warning")
        context.drop_scratch()
        context.point("done")
        self._end(work, ending)

    def _rewind(self, work: AnyKind) -> None:
        """After a crash: steps whose scratch is gone or half-changed are done again."""
        names = [step.name for step in work.steps]
        with work.context.session() as session:
            rows = self._rows(session, work.context.id)
            next_one = next((r for r in rows if r.state not in ("done", "skipped")), None)
            target = work.steps[next_one.position].restart_from if next_one else None
            if target is not None:
                for row in rows[names.index(target) :]:
                    row.state, row.bytes_done, row.ended_at = "pending", 0, None

    @staticmethod
    def _rows(session: Session, operation_id: str) -> list[OperationStep]:
        query = select(OperationStep).where(OperationStep.operation_id == operation_id).order_by(OperationStep.position)
        return list(session.scalars(query))

    def _steps(self, work: AnyKind) -> dict[str, Any]:
        """Run the steps that are left; returns how the operation ended."""
        context = work.context
        with context.session() as session:
            rows = self._rows(session, context.id)
        for row, step in zip(rows, work.steps, strict=True):
            if row.state in ("done", "skipped"):
                continue
            try:
                context.check()
                if row.starts >= _LIVES:
                    raise BathotypeError(
                        f"It was started {row.starts} times, and each time its worker was killed.",
                        advice="See the workers' logs under this operation's id before you retry it.",
                        code="worker-ended",
                    )
                begun = {"started_at": utcnow(), "bytes_done": 0, "starts": row.starts + 1}
                self._mark(context, row.position, state="running", **begun)
                context.enter(row.position, step.name)
                skipped = self._attempts(work, step.name)
                context.point("done")
                self._mark(context, row.position, state="skipped" if skipped else "done", ended_at=utcnow(), starts=0)
            except Cancelled:
                self._mark(context, row.position, state="cancelled", ended_at=utcnow())
                return {"outcome": "cancelled"}
            except BathotypeError as error:
                self._mark(context, row.position, state="failed", ended_at=utcnow())
                context.log(f"{step.title}: {error}", "error")
                return {
                    "outcome": "failed",
                    "error": {"code": error.code, "message": f"{step.title}: {error.message}", "advice": error.advice},
                }
            except DataError as error:
                # The database is there: another worker would be refused the same value.
                log.warning("value refused by the database", operation_id=context.id, error=str(error.orig)[:300])
                self._mark(context, row.position, state="failed", ended_at=utcnow())
                message = f"{step.title}: what was read holds a text or a number that the database cannot keep."
                context.log(message, "error")
                advice = "See the service's log under this operation's id for the value, and correct it on the machine."
                return {"outcome": "failed", "error": {"code": "unrecordable", "message": message, "advice": advice}}
            except (DBAPIError, PoolTimeout, LockLost, PutDown):
                raise
            except Exception as error:
                log.exception("operation step broke", operation_id=context.id, step=step.name)
                self._mark(context, row.position, state="failed", ended_at=utcnow())
                message = f"{step.title}: an internal error ({type(error).__name__})."
                context.log(message, "error")
                advice = "The service's log has more under this operation's id. Retry it; report it if it comes back."
                return {"outcome": "failed", "error": {"code": "internal", "message": message, "advice": advice}}
        try:
            return {"outcome": "succeeded", "result": work.result()}
        except BathotypeError as error:
            context.log(error.message, "error")
            return {
                "outcome": "failed",
                "error": {"code": error.code, "message": error.message, "advice": error.advice},
            }

    @staticmethod
    def _attempts(work: AnyKind, name: str) -> bool:
        """Run a step, a few times if a site or store is unavailable.  True where there was nothing to do."""
        for attempt in range(1, _STEP_ATTEMPTS + 1):
            try:
                return getattr(work, name)() is False
            except Unavailable as error:
                if attempt == _STEP_ATTEMPTS or error.code not in ("unavailable", "agent-silent"):
                    raise
                work.context.log(f"{error.message} The step is tried again.", "warning")
                time.sleep(attempt)
                work.context.check()
        raise AssertionError("unreachable")

    @staticmethod
    def _mark(context: WorkContext, position: int, **values: object) -> None:
        context.must_hold()
        with context.session() as session:
            session.execute(
                update(OperationStep)
                .where(OperationStep.operation_id == context.id, OperationStep.position == position)
                .values(**values)
            )

    @staticmethod
    def _end(work: AnyKind, ending: dict[str, Any]) -> None:
        context = work.context
        outcome: OperationState = ending["outcome"]
        context.must_hold()
        with context.session() as session:
            operation = session.get_one(Operation, context.id, with_for_update=CHANGE)
            work.on_end(session, outcome)
            operation.state, operation.ended_at = outcome, utcnow()
            operation.result, operation.error = ending.get("result"), ending.get("error")
            audit.record(
                session,
                context.account_id,
                "bathotype",
                f"operation.{outcome}",
                operation.subject,
                after={"operation": context.id, "kind": operation.kind, "error": operation.error},
            )
