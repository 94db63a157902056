"""Several connections to one NBD export, one for each thread that reads: the server works on the next request while
the last answer is still being received."""

from __future__ import annotations

import contextlib
import threading

from bathotype.core.disk.nbd import NbdDisk
from bathotype.core.disk.ranges import Ranges
from bathotype.core.errors import BathotypeError

_MOST = 4


class NbdPool:
    """A `BlockSource` over a read-only export; a server that allows one connection only gets one."""

    def __init__(self, uri: str, *, changes: str | None = None) -> None:
        self._uri = uri
        self._first = NbdDisk(uri, changes=changes)
        self._all = [self._first]
        self._mine = threading.local()
        self._lock = threading.Lock()

    @property
    def size(self) -> int:
        return self._first.size

    def read(self, offset: int, length: int) -> bytes:
        return self._connection().read(offset, length)

    def read_into(self, offset: int, view: memoryview) -> None:
        """Fill ``view`` from ``offset``."""
        self._connection().read_into(offset, view)

    def _connection(self) -> NbdDisk:
        known: NbdDisk | None = getattr(self._mine, "disk", None)
        if known is None:
            known = self._mine.disk = self._another()
        return known

    def _another(self) -> NbdDisk:
        with self._lock:
            if len(self._all) >= _MOST:
                return self._first
            with contextlib.suppress(BathotypeError):
                self._all.append(NbdDisk(self._uri))
            return self._all[-1]

    def allocated(self) -> Ranges:
        return self._first.allocated()

    def changed(self) -> Ranges | None:
        """What the server's bitmap reports as changed; None where it offers none."""
        return self._first.changed()

    def close(self) -> None:
        """Close every connection."""
        for disk in self._all:
            disk.close()

    def __enter__(self) -> NbdPool:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()
