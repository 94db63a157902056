"""A confined child that is kept ready for somebody who waits: to start one takes half a second."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress

from bathotype.core.confined.reader import ConfinedReader
from bathotype.core.errors import BathotypeError

#: How long one that nobody asks for is kept, in seconds: it takes some sixty megabytes.
_KEPT = 300.0


def _started() -> ConfinedReader:
    return ConfinedReader().start()


class SpareReaders:
    """A child for each asker, which nobody else gets; after the first, the next one is ready."""

    def __init__(self, kept: float = _KEPT) -> None:
        """``kept`` is how long one waits for an asker, in seconds."""
        self._kept, self._lock = kept, threading.Lock()
        #: A child ends with the thread that started it (prctl(2), PR_SET_PDEATHSIG): this one stays.
        self._starter = ThreadPoolExecutor(1, thread_name_prefix="confined")
        self._spare: ConfinedReader | None = None
        self._timer: threading.Timer | None = None
        self._closed = False

    @contextmanager
    def one(self) -> Iterator[ConfinedReader]:
        """A child for the time of the block."""
        with self._lock:
            reader, self._spare = self._spare, None
        if reader is None or not reader.lives:
            if reader is not None:
                reader.close()
            reader = self._starter.submit(_started).result()
        try:
            yield reader
        finally:
            reader.close()
            self._have_one()

    @property
    def ready(self) -> bool:
        """Whether there is one."""
        with self._lock:
            return self._spare is not None

    def _have_one(self) -> None:
        with self._lock:
            if self._closed:
                return
            self._starter.submit(self._start)
            if self._timer is not None:
                self._timer.cancel()
            self._timer = threading.Timer(self._kept, self._drop)
            self._timer.daemon = True
            self._timer.start()

    def _start(self) -> None:
        if self.ready:
            return
        with suppress(OSError, BathotypeError):  # the next caller gets the reason why none can be started
            reader = _started()
            with self._lock:
                if not self._closed:
                    self._spare = reader
                    return
            reader.close()

    def _drop(self) -> None:
        with self._lock:
            spare, self._spare = self._spare, None
        if spare is not None:
            spare.close()

    def close(self) -> None:
        """End it, and keep no other."""
        with self._lock:
            self._closed = True
            if self._timer is not None:
                self._timer.cancel()
        self._drop()
        self._starter.shutdown()
        self._drop()  # one that was being started
