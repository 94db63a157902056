"""What a kind of operation is made of, and what its steps may use while they run."""

from __future__ import annotations

import contextvars
import shutil
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, ClassVar

import structlog
from sqlalchemy import Connection, select, text, update
from sqlalchemy.orm import Session
from stamina.instrumentation import RetryDetails, set_on_retry_hooks

from bathotype.core.store.region import RegionStore
from bathotype.service.database import Database, lock_number, try_lock, try_shared_lock
from bathotype.service.places import Reach
from bathotype.service.records import LogLine, Operation, OperationStep
from bathotype.service.records.base import utcnow
from bathotype.service.settings import Settings

log = structlog.get_logger()
_current: contextvars.ContextVar[WorkContext | None] = contextvars.ContextVar("operation", default=None)
_WRITE_EVERY = 0.4
_LOCK_PAUSE = 0.5


class Cancelled(Exception):
    """Somebody asked for the operation to stop."""


class LockLost(Exception):
    """The database no longer knows that we work on this operation: another worker may."""


@dataclass(frozen=True)
class StepPlan:
    """One step: its name is the method that does it; ``weight`` is its share of the whole.

    A step that needs what an earlier one left on this worker's scratch names it in ``restart_from``: after a
    crash the work goes on from there.
    """

    name: str
    title: str
    weight: int = 1
    restart_from: str | None = None


class Work:
    """Base of all kinds.  Steps are methods, run in order, each safe to run again after a crash half-way."""

    kind: ClassVar[str]
    steps: ClassVar[tuple[StepPlan, ...]]

    def __init__(self, context: WorkContext) -> None:
        self.context = context

    def clean_up(self, outcome: str) -> None:
        """Remove what is temporary.  Run after the last step, a failure or a cancellation; may run twice."""

    def on_end(self, session: Session, outcome: str) -> None:
        """Records to change in the transaction that ends the operation."""

    def result(self) -> dict[str, Any]:
        """What the operation answers when it succeeded."""
        return {}


class WorkContext:
    """One operation while a worker has it in hand."""

    def __init__(
        self, database: Database, settings: Settings, reach: Reach, operation: Operation, connection: Connection
    ) -> None:
        self.database, self.settings, self.reach = database, settings, reach
        self.id, self.account_id = operation.id, operation.account_id
        self.created_by, self.params = operation.created_by, operation.params
        self.memo: dict[str, Any] = dict(operation.memo)
        self.stopping = False  # clean-up must not be cancelled
        self._connection = connection
        self._position = 0
        self._last_write = 0.0

    # Records

    @contextmanager
    def session(self) -> Iterator[Session]:
        """A transaction of its own."""
        with self.database.sessions.begin() as session:
            yield session

    def remember(self, **facts: Any) -> None:
        """Keep facts for later steps and for whoever takes over after a crash."""
        self.memo.update(facts)
        self.must_hold()
        with self.session() as session:
            session.execute(update(Operation).where(Operation.id == self.id).values(memo=self.memo))

    def log(self, told: str, level: str = "info") -> None:
        """Add a line to the operation's log."""
        log.info("operation", operation_id=self.id, text=told)
        with self.session() as session:
            session.add(LogLine(operation_id=self.id, level=level, text=told))

    # Progress and stopping

    def enter(self, position: int) -> None:
        """A step begins."""
        self._position, self._last_write = position, 0.0
        _current.set(self)

    def progress(self, done: int, total: int) -> None:
        """Record bytes done; also the place where a cancellation or a lost lock is noticed."""
        now = time.monotonic()
        if now - self._last_write < _WRITE_EVERY and done < total:
            return
        self._last_write = now
        self.check()
        with self.session() as session:
            session.execute(
                update(OperationStep)
                .where(OperationStep.operation_id == self.id, OperationStep.position == self._position)
                .values(bytes_done=done, bytes_total=total)
            )

    def check(self) -> None:
        """Raise `Cancelled` or `LockLost` where this worker must stop."""
        self.must_hold()
        if self.stopping:
            return
        with self.session() as session:
            if session.scalar(select(Operation.cancel_requested).where(Operation.id == self.id)):
                raise Cancelled

    def must_hold(self) -> None:
        """Raise `LockLost` unless this worker still has the operation to itself: called before whatever it records,
        so that a worker that lost its connection writes nothing over the one that took over."""
        try:
            self._connection.scalar(text("select 1"))
        except Exception as error:
            raise LockLost from error

    def beat(self) -> None:
        """Say that somebody works on this."""
        with self.session() as session:
            session.execute(update(Operation).where(Operation.id == self.id).values(beat_at=utcnow()))

    # Locks, held by this operation's own connection until it ends

    def lock(self, name: str, *, shared: bool = False, why: str = "") -> None:
        """Wait for a lock, cancellable; the wait is told in the log."""
        take: Callable[[Connection, str], bool] = try_shared_lock if shared else try_lock
        told = False
        while not take(self._connection, name):
            if not told:
                self.log(why or f"Waiting for {name}.")
                told = True
            time.sleep(_LOCK_PAUSE)
            self.check()

    def unlock(self, name: str) -> None:
        """Give a lock back before the operation ends."""
        self._connection.execute(text("select pg_advisory_unlock(:n)"), {"n": lock_number(name)})

    def keep_chunks(self, region: str) -> None:
        """Hold off purges in a region until this operation ends: they remove and rewrite packs."""
        self.lock(f"region {region}", shared=True, why=f"Waiting for a purge in {region} to end.")

    # Places

    def store(self, region: str) -> RegionStore:
        """A region's store."""
        return self.reach.store(region)

    def site(self, region: str) -> Any:
        """This operation's account's view of a region's site."""
        return self.reach.site(region, self.account_name)

    @property
    def account_name(self) -> str:
        """The account's name."""
        return self.reach.account_name(self.account_id)

    def tags(self, extra: dict[str, str] | None = None) -> dict[str, str]:
        """Tags for what is created at the site: the account's own, the request's, and the operation's."""
        return {**self.reach.account_tags(self.account_name), **(extra or {}), "bathotype-operation": self.id}

    @property
    def scratch(self) -> Path:
        """This operation's folder on this worker."""
        folder = self.settings.scratch_dir / self.id
        folder.mkdir(parents=True, exist_ok=True)
        return folder

    def drop_scratch(self) -> None:
        """Remove it."""
        shutil.rmtree(self.settings.scratch_dir / self.id, ignore_errors=True)


def _tell_retry(details: RetryDetails) -> None:
    context = _current.get()
    if context is not None and details.retry_num <= 20:
        told = f"{details.caused_by} (attempt {details.retry_num}; again in {details.wait_for:.1f} s)"
        try:
            context.log(told, "warning")
        except Exception:
            log.warning("operation log unavailable", operation_id=context.id, text=told)


set_on_retry_hooks([_tell_retry])
