"""What the kernel of a modelled guest counts: processor time, memory, bytes of its disk and its network."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager

_TICKS = 100
_KIB = 1024
#: Programs that fetch what they write.
_FETCH = ("apt-get",)
#: What a program reads of itself and its libraries, in bytes.
_PROGRAM = 24 * _KIB
_BASE_KIB, _WORKING_KIB = 150 * _KIB, 60 * _KIB


class Counters:
    """Counters since the guest started, as its files in /proc show them."""

    def __init__(self, processors: int, memory_mib: int) -> None:
        self._processors, self._memory = processors, memory_mib * _KIB
        self._began, self._busy, self._running = time.monotonic(), 0.0, 0
        self.written = self._read = self._received = 0

    @contextmanager
    def working(self, program: str) -> Iterator[None]:
        """While a program runs, which keeps a processor busy."""
        began, written = time.monotonic(), self.written
        self._running += 1
        try:
            yield
        finally:
            self._running -= 1
            self._read += _PROGRAM
            self._busy += time.monotonic() - began
            self._received += self.written - written if program in _FETCH else 0

    @property
    def files(self) -> Mapping[str, Callable[[], bytes]]:
        """What each file holds."""
        return {
            "/proc/stat": self._stat, "/proc/meminfo": self._meminfo, "/proc/diskstats": self._disks,
            "/proc/net/dev": self._network,
        }  # fmt: skip

    def _stat(self) -> bytes:
        every = int((time.monotonic() - self._began) * _TICKS * self._processors) + _TICKS
        busy = min(int(self._busy * _TICKS), every)
        return f"cpu  {busy} 0 0 {every - busy} 0 0 0 0 0 0\nctxt 1\n".encode()

    def _meminfo(self) -> bytes:
        used = min(_BASE_KIB + self._running * _WORKING_KIB, self._memory)
        return f"MemTotal: {self._memory} kB\nMemFree: 1 kB\nMemAvailable: {self._memory - used} kB\n".encode()

    def _disks(self) -> bytes:
        read, written = self._read // 512, self.written // 512
        return f" 254       0 vda {read // 8} 0 {read} 1 {written // 8} 0 {written} 1 0 1 1\n".encode()

    def _network(self) -> bytes:
        rest = " 0" * 7
        rows = [f"    lo: 64{rest} 64{rest}", f"enp1s0: {self._received}{rest} {self._received // 40}{rest}"]
        return ("Inter-|   Receive  |  Transmit\n face |bytes\n" + "\n".join(rows) + "\n").encode()
