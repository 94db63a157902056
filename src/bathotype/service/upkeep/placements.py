"""Duty: bring versions to the regions of their placement again where that failed, and replace lost base disks."""

from __future__ import annotations

from sqlalchemy import select

from bathotype.service.operations.start import unattended_principal
from bathotype.service.placements import PLACEMENT, bring_into_line
from bathotype.service.records import Line, Placement
from bathotype.service.records.base import CHANGE
from bathotype.service.upkeep.duty import Duty, Turn, seldom


def _run(turn: Turn) -> None:
    with turn.database.reads() as session:
        lines = session.scalars(select(Placement.line_id).distinct()).all()
    for line_id in lines:
        with turn.alone(f"placement of {line_id}"), turn.database.sessions.begin() as session:
            line = session.get_one(Line, line_id, with_for_update=CHANGE)
            bring_into_line(session, unattended_principal(session, line.account_id, PLACEMENT), line)


DUTY = Duty("placements", _run, period=seldom)
