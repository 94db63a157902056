"""The processes: serve the API, work on operations."""

from __future__ import annotations

import contextlib
import ctypes

import uvicorn
from fastapi import FastAPI

from bathotype.service.app import create_app
from bathotype.service.logs import configure
from bathotype.service.operations.queue import Worker
from bathotype.service.operations.runner import Runner
from bathotype.service.places import Reach
from bathotype.service.reconcile import Reconciler
from bathotype.service.settings import Settings
from bathotype.service.state import Service
from bathotype.service.work import KINDS

# For how many seconds a site that does not answer is asked again.
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
    _ = Settings().places


def application() -> FastAPI:
    """The application of one serving process."""
    service = Service.from_environment(patience=_SOMEBODY_WAITS)
    configure(service.settings.log_level)
    return create_app(service)


def work(concurrency: int) -> None:
    """Operations and the reconciler, until stopped."""
    _keep_memory_small()
    service = Service.from_environment(patience=_WORK_WAITS)
    configure(service.settings.log_level)
    runner = Runner(service.database, service.settings, service.reach, KINDS)
    brisk = Reach(service.database, service.settings.places, patience=_LOOK_WAITS)
    reconciler = Reconciler(service.database, brisk, service.settings, service.queue)
    periodic = [(float(service.settings.reconcile_seconds), reconciler.run)]
    Worker(service.database, service.queue, runner, periodic).serve(concurrency=concurrency)


def _keep_memory_small() -> None:
    """Have glibc give large buffers back at once, and share its arenas between threads.

    A worker moves megabytes through many short-lived threads; left alone, the allocator keeps a pool for each.
    """
    arena_max, mmap_threshold = -8, -3  # M_ARENA_MAX and M_MMAP_THRESHOLD of malloc.h
    with contextlib.suppress(OSError, AttributeError):  # another C library
        libc = ctypes.CDLL(None)
        libc.mallopt(arena_max, 2)
        libc.mallopt(mmap_threshold, 256 * 1024)
