"""Duty: remove the scratch folders of operations that have ended or that this database does not know, and old copies of
repositories, which somebody who died has left."""

from __future__ import annotations

import shutil

from sqlalchemy import select

from bathotype.service.records import Operation
from bathotype.service.records.base import utcnow
from bathotype.service.upkeep.duty import Duty, Turn, seldom
from bathotype.wire.operations import ENDED

_FORGOTTEN_SECONDS, _READING_SECONDS = 86400, 3600


def _run(turn: Turn) -> None:
    folder = turn.settings.scratch_dir
    for item in folder.iterdir() if folder.is_dir() else ():
        turn.check()
        with turn.database.reads() as session:
            state = session.scalar(select(Operation.state).where(Operation.id == item.name))
        try:
            age = utcnow().timestamp() - item.stat().st_mtime
        except FileNotFoundError:  # its operation has just ended
            continue
        forgotten = state in ENDED or (state is None and age > _FORGOTTEN_SECONDS)
        if (item.name.startswith("op-") and forgotten) or (item.name.startswith("git-") and age > _READING_SECONDS):
            shutil.rmtree(item, ignore_errors=True)


DUTY = Duty("scratch", _run, period=seldom)
