"""The API's answers about shares."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.service.access.principals import Principal
from bathotype.service.proposals import running_from
from bathotype.service.records import Account, Line, Share, Version
from bathotype.service.records.base import utcnow
from bathotype.wire import sharing as wire


def share_answers(session: Session, caller: Principal, rows: Sequence[Share]) -> list[wire.Share]:
    """Shares as either side sees them; the names of people on the other side are left out."""
    names = {a.id: a.name for a in session.scalars(select(Account))}
    out = []
    for row in rows:
        line = session.get_one(Line, row.line_id)
        version = session.get(Version, row.version_id) if row.version_id else None
        ours = row.owner_id == caller.account_id
        running = running_from(session, row, row.consumer_id if ours else caller.account_id)
        out.append(
            wire.Share(
                id=row.id,
                owner=names[row.owner_id],
                consumer=names[row.consumer_id] if row.consumer_id else None,
                subject=f"{line.name}@{version.number}" if version else line.name,
                regions=row.regions,
                until=row.until,
                expired=row.state == "active" and row.until is not None and row.until < utcnow().date(),
                note=row.note,
                state=row.state,  # type: ignore[arg-type]
                proposed_by=row.proposed_by if ours else None,
                proposed_at=row.proposed_at,
                decided_by=row.decided_by if not ours else None,
                decided_at=row.decided_at,
                ended_at=row.ended_at,
                running=running,
            )
        )
    return out
