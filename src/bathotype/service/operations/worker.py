"""The worker: a process that runs operations and the periodic duties."""

from __future__ import annotations

import asyncio
import os
import signal
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import timedelta

import structlog
from procrastinate import App, PsycopgConnector
from sqlalchemy import select

from bathotype.service.database import Database, plain_url
from bathotype.service.operations.queue import TASK, enqueue
from bathotype.service.operations.runner import Runner
from bathotype.service.records import Operation
from bathotype.service.records.base import utcnow

log = structlog.get_logger()
_ABANDONED_AFTER = timedelta(seconds=3)
_SWEEP_EVERY = 1.0


@dataclass(frozen=True)
class Periodic:
    """A job that a worker repeats, with a pause in seconds between one end and the next start."""

    name: str
    pause: float
    call: Callable[[], object]


def sweep(database: Database) -> None:
    """Queue again what no worker runs, because its worker died; and what has waited for a moment that has come."""
    limit = utcnow() - _ABANDONED_AFTER
    waits = Operation.start_at > utcnow()
    with database.sessions.begin() as session:
        abandoned = session.scalars(
            select(Operation.id)
            .where(
                Operation.state.in_(("queued", "running")),
                (Operation.beat_at < limit) | (Operation.beat_at.is_(None) & (Operation.created_at < limit)),
                Operation.start_at.is_(None) | ~waits | Operation.cancel_requested,
            )
            .order_by(Operation.id)  # two workers that sweep at once insert in the same order
        ).all()
        for operation_id in abandoned:
            enqueue(session, operation_id)


class Worker:
    """Runs ``concurrency`` operations at a time, and the periodic work beside them."""

    def __init__(self, database: Database, runner: Runner, periodic: list[Periodic]) -> None:
        self._app = App(connector=PsycopgConnector(conninfo=plain_url(database.url), min_size=1, max_size=4))
        self._periodic = [Periodic("sweep", _SWEEP_EVERY, lambda: sweep(database)), *periodic]
        self._stop = asyncio.Event()

        @self._app.task(name=TASK)
        def run_operation(operation_id: str) -> None:
            runner.run(operation_id)

    def serve(self, *, concurrency: int) -> None:
        """Work until SIGTERM or SIGINT."""
        asyncio.run(self._serve(concurrency))

    async def _serve(self, concurrency: int) -> None:
        loop = asyncio.get_running_loop()
        # A thread for each operation and each duty: none waits for another one's thread.
        loop.set_default_executor(ThreadPoolExecutor(concurrency + len(self._periodic)))
        for number in (signal.SIGTERM, signal.SIGINT):
            loop.add_signal_handler(number, self._stop.set)
        timers = [asyncio.create_task(self._every(work)) for work in self._periodic]
        work = asyncio.create_task(self._work(concurrency))
        await self._stop.wait()
        for task in [*timers, work]:
            task.cancel()
        await asyncio.wait([*timers, work], timeout=1)
        # Operations that are running are left as they are: another worker can continue each of them.
        os._exit(0)

    async def _work(self, concurrency: int) -> None:
        """Run procrastinate's worker, and start it again when the database comes back after an outage."""
        while not self._stop.is_set():
            try:
                async with self._app.open_async():
                    await self._app.run_worker_async(
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

    async def _every(self, work: Periodic) -> None:
        while True:
            try:
                await asyncio.to_thread(work.call)
            except Exception as error:
                log.warning("periodic work failed", work=work.name, error=str(error)[:300])
            await asyncio.sleep(work.pause)
