"""What the steps of an operation use while they run: records, progress, locks, regions, scratch space."""

from __future__ import annotations

import contextvars
import shutil
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import structlog
from sqlalchemy import Connection, select, text, update
from sqlalchemy.orm import Session
from stamina.instrumentation import RetryDetails, set_on_retry_hooks

from bathotype.core.confined.reader import ConfinedReader
from bathotype.core.store.region import RegionStore
from bathotype.service.database import Database, lock_number, try_lock, try_shared_lock
from bathotype.service.operations import killpoints
from bathotype.service.reach import Reach
from bathotype.service.records import LogLine, Operation, OperationStep
from bathotype.service.records.base import utcnow
from bathotype.service.settings import Settings
from bathotype.sites.protocol import Site

log = structlog.get_logger()
_current: contextvars.ContextVar[WorkContext | None] = contextvars.ContextVar("operation", default=None)
_WRITE_EVERY = 0.4
_LOCK_PAUSE = 0.5


class Cancelled(Exception):
    """Somebody asked for the operation to stop."""


class PutDown(Exception):
    """The operation waits for others to end: its worker is free meanwhile, and a sweep has it taken up again in seconds.

    The step begins anew then, perhaps on another worker; what lies in the scratch folder is gone.
    """


class LockLost(Exception):
    """This worker's lock on the operation is gone: another worker may have taken the operation."""


class WorkContext:
    """One operation while a worker runs it."""

    def __init__(
        self, database: Database, settings: Settings, reach: Reach, operation: Operation, connection: Connection
    ) -> None:
        self.database, self.settings, self.reach, self.operation = database, settings, reach, operation
        self.id, self.account_id, self.created_by = operation.id, operation.account_id, operation.created_by
        self.stopping = False  # clean-up must not be cancelled
        self._connection = connection
        self._position, self._step = 0, ""
        self._last_write = 0.0
        #: Reads disks that strangers wrote, in a process of its own that ends with the operation.
        self.reader = ConfinedReader(self.check)

    # Records

    @contextmanager
    def session(self) -> Iterator[Session]:
        """A transaction of its own."""
        with self.database.sessions.begin() as session:
            yield session

    def save_memo(self, memo: dict[str, Any]) -> None:
        """Record what the steps remember."""
        self.must_hold()
        with self.session() as session:
            session.execute(update(Operation).where(Operation.id == self.id).values(memo=memo))

    def log(self, message: str, level: str = "info") -> None:
        """Add a line to the operation's log."""
        log.info("operation", operation_id=self.id, text=message)
        with self.session() as session:
            session.add(LogLine(operation_id=self.id, level=level, text=message))

    # Progress and stopping

    def enter(self, position: int, step: str) -> None:
        """A step begins."""
        self._position, self._step, self._last_write = position, step, 0.0
        _current.set(self)
        self.point("begin")

    def point(self, name: str) -> None:
        """A named point of the step: where a test may have asked for this process to die (`killpoints`)."""
        killpoints.reached(self.settings.kill_file, self.operation.kind, self._step, name)

    def progress(self, done: int, total: int) -> None:
        """Record bytes done; also the place where a cancellation or a lost lock is noticed."""
        now = time.monotonic()
        if now - self._last_write < _WRITE_EVERY and done < total:
            return
        self._last_write = now
        self.check()
        self.point("progress")
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
        """Raise `LockLost` unless this worker still holds the operation's lock.

        It is called before anything is recorded, so that a worker that lost its connection does not overwrite what the
        next worker recorded.
        """
        try:
            self._connection.scalar(text("select 1"))
        except Exception as error:
            raise LockLost from error

    def beat(self) -> None:
        """Record that a worker runs this operation."""
        with self.session() as session:
            session.execute(update(Operation).where(Operation.id == self.id).values(beat_at=utcnow()))

    # Locks, held by this operation's own connection until it ends

    def lock(self, name: str, *, shared: bool = False, why: str = "") -> None:
        """Wait for a lock; the wait can be cancelled and is written to the log."""
        take: Callable[[Connection, str], bool] = try_shared_lock if shared else try_lock
        logged = False
        while not take(self._connection, name):
            if not logged:
                self.log(why or f"Waiting for {name}.")
                logged = True
            time.sleep(_LOCK_PAUSE)
            self.check()

    def unlock(self, name: str) -> None:
        """Release a lock before the operation ends."""
        self._connection.execute(text("select pg_advisory_unlock(:n)"), {"n": lock_number(name)})

    def keep_chunks(self, region: str) -> None:
        """Keep purges out of a region until this operation ends: they remove and rewrite packs."""
        self.lock(f"region {region}", shared=True, why=f"Waiting for a purge in {region} to end.")

    # Regions

    def store(self, region: str) -> RegionStore:
        """A region's store."""
        return self.reach.store(region)

    def site(self, region: str) -> Site:
        """A region's site, as the operation's account sees it."""
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
        folder = self.settings.scratch / self.id
        folder.mkdir(mode=0o700, exist_ok=True)
        return folder

    def drop_scratch(self) -> None:
        """Remove it."""
        shutil.rmtree(self.settings.scratch_dir / self.id, ignore_errors=True)


def _tell_retry(details: RetryDetails) -> None:
    context = _current.get()
    if context is not None and details.retry_num <= 20:
        message = f"{details.caused_by} (attempt {details.retry_num}; again in {details.wait_for:.1f} s)"
        try:
            context.log(message, "warning")
        except Exception:
            log.warning("operation log unavailable", operation_id=context.id, text=message)


set_on_retry_hooks([_tell_retry])
