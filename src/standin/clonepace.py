"""How fast machines can be made from one base disk: storage gives each disk so much, however many want it."""

from __future__ import annotations

import threading
import time


class ClonePace:
    """Lets so many clones of each disk begin in a second, one after another."""

    def __init__(self, per_second: float) -> None:
        self._takes = 1 / per_second
        self._free: dict[str, float] = {}
        self._lock = threading.Lock()

    def wait(self, disk: str) -> None:
        """Wait until it is this clone's turn."""
        with self._lock:
            now = time.monotonic()
            turn = max(now, self._free.get(disk, now))
            self._free[disk] = turn + self._takes
        time.sleep(turn - now)
