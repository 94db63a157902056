"""The queue: procrastinate brings operations to workers, and a sweep finds those that a crash left lying."""

from __future__ import annotations

import asyncio
import os
import signal
from datetime import timedelta
from typing import Any

import structlog
from procrastinate import App, PsycopgConnector
from procrastinate.exceptions import AlreadyEnqueued, ProcrastinateException
from sqlalchemy import Connection, select, text

from bathotype.service.database import Database, plain_url
from bathotype.service.operations.runner import Runner
from bathotype.service.records import Operation
from bathotype.service.records.base import utcnow

log = structlog.get_logger()
_ABANDONED_AFTER = timedelta(seconds=3)
_SWEEP_EVERY = 1.0
_TASK = "bathotype.run_operation"


def prepare_queue(url: str, connection: Connection) -> None:
    """Make procrastinate's tables where they are missing."""
    if connection.scalar(text("select to_regclass('procrastinate_jobs')")) is None:
        app = App(connector=PsycopgConnector(conninfo=plain_url(url)))
        with app.open():
            app.schema_manager.apply_schema()


class Queue:
    """Hands operations to workers.  Handing the same one over twice is harmless."""

    def __init__(self, url: str) -> None:
        self.app = App(connector=PsycopgConnector(conninfo=plain_url(url), min_size=1, max_size=4))
        self._sync = App(connector=PsycopgConnector(conninfo=plain_url(url), min_size=1, max_size=4))

    def open(self) -> None:
        """Connect, for `put`."""
        self._sync.open()

    def close(self) -> None:
        """Disconnect."""
        self._sync.close()

    def put(self, operation_id: str) -> None:
        """Queue an operation.  If this fails, the sweep of any worker queues it within seconds."""
        try:
            task = self._sync.configure_task(_TASK, queueing_lock=operation_id)
            task.defer(operation_id=operation_id)
        except AlreadyEnqueued:
            return
        except ProcrastinateException as error:
            log.warning("operation left to the sweep", operation_id=operation_id, error=str(error)[:200])


class Worker:
    """A process that runs operations and the periodic work, ``concurrency`` operations at a time."""

    def __init__(self, database: Database, queue: Queue, runner: Runner, periodic: list[tuple[float, Any]]) -> None:
        self._database, self._queue, self._periodic = database, queue, periodic
        self._stop = asyncio.Event()

        @queue.app.task(name=_TASK)
        def run_operation(operation_id: str) -> None:
            runner.run(operation_id)

    def serve(self, *, concurrency: int) -> None:
        """Work until told to stop by SIGTERM or SIGINT."""
        self._queue.open()
        asyncio.run(self._serve(concurrency))

    async def _serve(self, concurrency: int) -> None:
        loop = asyncio.get_running_loop()
        for number in (signal.SIGTERM, signal.SIGINT):
            loop.add_signal_handler(number, self._stop.set)
        timers = [asyncio.create_task(self._every(_SWEEP_EVERY, self._sweep))]
        timers += [asyncio.create_task(self._every(pause, call)) for pause, call in self._periodic]
        work = asyncio.create_task(self._work(concurrency))
        await self._stop.wait()
        for task in [*timers, work]:
            task.cancel()
        await asyncio.wait([*timers, work], timeout=1)
        # Operations in hand are let go as they are: every step can be taken up again by another worker.
        os._exit(0)

    async def _work(self, concurrency: int) -> None:
        """Run procrastinate's worker, and again when the database comes back after it went away."""
        while not self._stop.is_set():
            try:
                async with self._queue.app.open_async():
                    await self._queue.app.run_worker_async(
                        concurrency=concurrency,
                        install_signal_handlers=False,
                        wait=True,
                        delete_jobs="always",
                        fetch_job_polling_interval=1.0,
                        shutdown_graceful_timeout=0.5,
                    )
            except asyncio.CancelledError:
                raise
            except Exception as error:
                log.warning("the queue went away; trying again", error=str(error)[:200])
                await asyncio.sleep(1)

    async def _every(self, pause: float, call: Any) -> None:
        while True:
            try:
                await asyncio.to_thread(call)
            except Exception as error:
                log.warning("periodic work failed", work=getattr(call, "__name__", "?"), error=str(error)[:300])
            await asyncio.sleep(pause)

    def _sweep(self) -> None:
        """Queue again what nobody works on: its worker died, or it was never queued."""
        limit = utcnow() - _ABANDONED_AFTER
        with self._database.sessions() as session:
            lying = session.scalars(
                select(Operation.id).where(
                    Operation.state.in_(("queued", "running")),
                    (Operation.beat_at < limit) | (Operation.beat_at.is_(None) & (Operation.created_at < limit)),
                )
            )
            for operation_id in lying:
                self._queue.put(operation_id)
