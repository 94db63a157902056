"""The worker process: operations and upkeep.  It loads nothing of the HTTP API."""

from __future__ import annotations

import contextlib
import ctypes
import gc
import os
from functools import partial

from bathotype.core.store.threads import hand_over_quickly
from bathotype.service.everykind import KINDS
from bathotype.service.logs import configure
from bathotype.service.operations.runner import Runner
from bathotype.service.operations.worker import Periodic, Worker
from bathotype.service.reach import Reach
from bathotype.service.settings import Settings
from bathotype.service.state import Service
from bathotype.service.upkeep import DUTIES
from bathotype.service.upkeep.duty import take_turn
from bathotype.sites import thawguard

# Seconds for which a failed call to a site is repeated: in an operation, and in upkeep.
_WORK_PATIENCE, _UPKEEP_PATIENCE = 45.0, 3.0


def work(concurrency: int) -> None:
    """Work until stopped.  What a worker writes, copies of disks among it, is its own user's alone."""
    os.umask(0o077)
    _keep_memory_small()
    hand_over_quickly()
    Settings.from_environment()  # a mistake in the settings is said before anything is started
    thawguard.post.start()
    service = Service.from_environment(patience=_WORK_PATIENCE)
    settings, database = service.settings, service.database
    configure(settings.log_level)
    runner = Runner(database, settings, service.reach, KINDS)
    reach = Reach(database, settings.places, patience=_UPKEEP_PATIENCE)
    periodic = [
        Periodic(duty.name, duty.period(settings), partial(take_turn, duty, database, reach, settings))
        for duty in DUTIES
    ]
    gc.freeze()  # none of this becomes garbage: it need not be looked through again and again
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
