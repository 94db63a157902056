"""Duty: remove the scratch folders of operations that have ended, or that this database does not know."""

from __future__ import annotations

import shutil

from sqlalchemy import select

from bathotype.service.records import Operation
from bathotype.service.records.base import utcnow
from bathotype.service.upkeep.duty import Duty, Turn
from bathotype.wire.operations import ENDED

_FORGOTTEN_SECONDS = 86400


def _run(turn: Turn) -> None:
    folder = turn.settings.scratch_dir
    for item in folder.iterdir() if folder.is_dir() else ():
        turn.check()
        with turn.database.reads() as session:
            state = session.scalar(select(Operation.state).where(Operation.id == item.name))
        try:
            old = utcnow().timestamp() - item.stat().st_mtime > _FORGOTTEN_SECONDS
        except FileNotFoundError:  # its operation has just ended
            continue
        if item.name.startswith("op-") and (state in ENDED or (state is None and old)):
            shutil.rmtree(item, ignore_errors=True)


DUTY = Duty("scratch", _run)
