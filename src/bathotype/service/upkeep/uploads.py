"""Duty: remove uploads that nobody used in time, but for those that a saved sheet refers to."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import select

from bathotype.service.records import Operation, SheetFile, Upload
from bathotype.service.records.base import utcnow
from bathotype.service.upkeep.duty import Duty, Turn, seldom
from bathotype.service.uploads import discard

_KEPT = timedelta(days=2)


def _run(turn: Turn) -> None:
    limit = utcnow() - _KEPT
    named = Operation.params["upload"].as_string()
    with turn.database.reads() as session:
        needed = select(named).where(Operation.state.in_(("queued", "running")), named.is_not(None))
        kept = select(SheetFile.upload_id).where(SheetFile.upload_id.is_not(None))
        late = select(Upload).where(Upload.created_at < limit, Upload.id.not_in(needed), Upload.id.not_in(kept))
        old = session.scalars(late).all()
    for upload in old:
        with turn.alone(f"upload {upload.id}"):
            discard(turn.database.sessions, turn.reach.store(upload.region), upload.id)


DUTY = Duty("uploads", _run, period=seldom)
