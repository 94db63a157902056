"""Duty: keep the end of the audit trail outside the database as well."""

from __future__ import annotations

from bathotype.service.trailend import end_of, keep
from bathotype.service.upkeep.duty import Duty, Turn


def _run(turn: Turn) -> None:
    with turn.database.reads() as session:
        end = end_of(session)
    if end is not None:
        keep(turn.settings, end)


DUTY = Duty("trail", _run, period=lambda settings: 300.0)
