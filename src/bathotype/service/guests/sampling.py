"""Looking again and again how busy a guest is, in between what else its agent is asked."""

from __future__ import annotations

import time
from dataclasses import asdict
from typing import Any

from bathotype.core.errors import BathotypeError, Unavailable
from bathotype.core.guest.agent import GuestAgent
from bathotype.core.guest.figures import FILES, Counters, between, read_counters
from bathotype.service.records.base import utcnow

_MOST_TEXT = 256 * 1024
_JUST = 1.0  # seconds
#: Figures that are kept: of more every second one goes, and the pauses double.
_MOST_KEPT = 600


class Sampler:
    """The figures of a guest.  One that does not report them is not asked again."""

    def __init__(self, pause: float = 5.0) -> None:
        """``pause`` in seconds between two looks."""
        self.figures: list[dict[str, Any]] = []
        self._pause, self._looked, self._able = pause, 0.0, True
        self._last: Counters | None = None

    @property
    def has_just_looked(self) -> bool:
        """Whether another look would show nothing more."""
        return time.monotonic() - self._looked < _JUST

    def look_in_time(self, agent: GuestAgent) -> None:
        """Look if the pause is over."""
        if time.monotonic() - self._looked >= self._pause:
            self.look(agent)

    def look(self, agent: GuestAgent) -> None:
        """Look now.  Raises `Unavailable` where the agent is silent."""
        if not self._able:
            return
        try:
            texts = {path: agent.read_file(path, most=_MOST_TEXT).decode("utf-8", "replace") for path in FILES}
        except Unavailable:
            raise
        except BathotypeError:
            self._able = False
            return
        now, found = time.monotonic(), read_counters(texts)
        if found is None:
            self._able = False
            return
        figure = between(self._last, found, now - self._looked) if self._last is not None else None
        self._last, self._looked = found, now
        if figure is not None:
            self.figures.append({"at": utcnow().isoformat(), **asdict(figure)})
            if len(self.figures) > _MOST_KEPT:
                self.figures, self._pause = self.figures[1::2], self._pause * 2
