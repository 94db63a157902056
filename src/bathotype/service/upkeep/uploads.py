"""Duty: remove uploads that nobody imported in time."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import delete, select

from bathotype.service.records import Operation, Upload
from bathotype.service.records.base import utcnow
from bathotype.service.upkeep.duty import Duty, Turn

_KEPT = timedelta(days=2)


def _run(turn: Turn) -> None:
    limit = utcnow() - _KEPT
    named = Operation.params["upload"].as_string()
    with turn.database.reads() as session:
        needed = select(named).where(Operation.state.in_(("queued", "running")), named.is_not(None))
        old = session.scalars(select(Upload).where(Upload.created_at < limit, Upload.id.not_in(needed))).all()
    for upload in old:
        with turn.alone(f"upload {upload.id}"):
            turn.reach.store(upload.region).delete_upload(upload.id)
            with turn.database.sessions.begin() as session:
                session.execute(delete(Upload).where(Upload.id == upload.id))


DUTY = Duty("uploads", _run)
