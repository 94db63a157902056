"""Duty: forget the kept answers to repeated requests once no client repeats them any more."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import delete

from bathotype.service.records import IdempotentAnswer
from bathotype.service.records.base import utcnow
from bathotype.service.upkeep.duty import Duty, Turn

_KEPT = timedelta(days=7)


def _run(turn: Turn) -> None:
    with turn.database.sessions.begin() as session:
        session.execute(delete(IdempotentAnswer).where(IdempotentAnswer.created_at < utcnow() - _KEPT))


DUTY = Duty("answers", _run, period=lambda settings: 3600.0)
