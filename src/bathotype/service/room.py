"""Places for what takes much memory or processor time: few at once, some waiting, the others asked to come again."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager

from bathotype.core.errors import TooMany


class Room:
    """Lets so many do something at once, and so many wait for it."""

    def __init__(self, at_once: int, waiting: int, full: str) -> None:
        """``full`` is the answer to the others."""
        self._full = full
        self._busy, self._all = threading.BoundedSemaphore(at_once), threading.BoundedSemaphore(at_once + waiting)

    @contextmanager
    def one(self) -> Iterator[None]:
        """A place.  Raises `TooMany` where even the places to wait are taken."""
        if not self._all.acquire(blocking=False):
            raise TooMany(self._full, advice="Try again in a moment.")
        try:
            with self._busy:
                yield
        finally:
            self._all.release()
