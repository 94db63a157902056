"""The processes: serve the API, work on operations."""

from __future__ import annotations

import contextlib
import ctypes
from functools import partial

import uvicorn
from fastapi import FastAPI

from bathotype.service.app import create_app
from bathotype.service.kinds import KINDS
from bathotype.service.logs import configure
from bathotype.service.operations.runner import Runner
from bathotype.service.operations.worker import Periodic, Worker
from bathotype.service.reach import Reach
from bathotype.service.settings import Settings
from bathotype.service.state import Service
from bathotype.service.upkeep import DUTIES
from bathotype.service.upkeep.duty import take_turn
from bathotype.sites import thawguard

# For how many seconds a failed call to a site is repeated: while a person waits, in an operation, in upkeep.
_SOMEBODY_WAITS, _WORK_WAITS, _LOOK_WAITS = 8.0, 45.0, 3.0


def serve(host: str, port: int, processes: int) -> None:
    """The API, until stopped; several processes answer at one address, and one that dies is started anew."""
    _application_settings()
    uvicorn.run(
        "bathotype.service.processes:application",
        factory=True,
        host=host,
        port=port,
        workers=processes,
        log_level="warning",
        timeout_graceful_shutdown=2,
    )


def _application_settings() -> None:
    """What is wrong with the settings is told once, not by every process."""
    _ = Settings.from_environment().places


def application() -> FastAPI:
    """The application of one serving process."""
    service = Service.from_environment(patience=_SOMEBODY_WAITS)
    configure(service.settings.log_level)
    return create_app(service)


def work(concurrency: int) -> None:
    """Operations and the reconciler, until stopped."""
    _keep_memory_small()
    thawguard.post.start()
    service = Service.from_environment(patience=_WORK_WAITS)
    settings, database = service.settings, service.database
    configure(settings.log_level)
    runner = Runner(database, settings, service.reach, KINDS)
    reach = Reach(database, settings.places, patience=_LOOK_WAITS)
    periodic = [
        Periodic(duty.name, duty.period(settings), partial(take_turn, duty, database, reach, settings))
        for duty in DUTIES
    ]
    Worker(database, runner, periodic).serve(concurrency=concurrency)


def _keep_memory_small() -> None:
    """Have glibc give large buffers back at once, and share its arenas between threads.

    A worker moves megabytes through many short-lived threads; left alone, the allocator keeps a pool for each.
    """
    arena_max, mmap_threshold = -8, -3  # M_ARENA_MAX and M_MMAP_THRESHOLD of malloc.h
    with contextlib.suppress(OSError, AttributeError):  # another C library
        libc = ctypes.CDLL(None)
        libc.mallopt(arena_max, 2)
        libc.mallopt(mmap_threshold, 256 * 1024)
