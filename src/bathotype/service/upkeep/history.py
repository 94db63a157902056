"""Duty: count instances once an hour, for the drawing of a line over time, and thin what is old."""

from __future__ import annotations

from bathotype.service.history import EVERY, last_sample, take_sample, thin
from bathotype.service.records.base import utcnow
from bathotype.service.upkeep.duty import Duty, Turn


def _run(turn: Turn) -> None:
    with turn.database.sessions.begin() as session:
        last, now = last_sample(session), utcnow()
        if last is None or now - last >= EVERY:
            take_sample(session, now)
            thin(session, now)


DUTY = Duty("history", _run, period=lambda _: 60.0)
