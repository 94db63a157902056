"""Duty: announce the end of versions that retire soon, and retire those whose sunset has reached its date."""

from __future__ import annotations

from bathotype.service.lifecycle import retire_what_is_due
from bathotype.service.upkeep.duty import Duty, Turn, seldom


def _run(turn: Turn) -> None:
    with turn.database.sessions.begin() as session:
        retire_what_is_due(session)


DUTY = Duty("sunsets", _run, period=seldom)
