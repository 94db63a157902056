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
    named, payload = Operation.params["upload"].as_string(), Operation.params["payload"]
    under_way = Operation.state.in_(("queued", "running"))
    with turn.database.reads() as session:
        needed = set(session.scalars(select(named).where(under_way, named.is_not(None))))
        for files in session.scalars(select(payload).where(under_way, payload.is_not(None))):
            needed |= {one["upload"] for one in (files or {}).values() if one.get("upload")}
        kept = select(SheetFile.upload_id).where(SheetFile.upload_id.is_not(None))
        late = select(Upload).where(Upload.created_at < limit, Upload.id.not_in(needed), Upload.id.not_in(kept))
        old = session.scalars(late).all()
    for upload in old:
        with turn.alone(f"upload {upload.id}"):
            discard(turn.database.sessions, turn.reach.store(upload.region), upload.id)


DUTY = Duty("uploads", _run, period=seldom)
