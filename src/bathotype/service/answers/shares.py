"""The API's answers about shares."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from bathotype.service.access.principals import Principal
from bathotype.service.proposals import running_from
from bathotype.service.records import Account, Instance, Line, Replica, Share, Version
from bathotype.service.records.base import utcnow
from bathotype.service.records.fleet import IS_PRESENT
from bathotype.service.shares import in_regions, reference_for, shares_of_version
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
                warnings=_warnings(session, row, line, version),
            )
        )
    return out


def _warnings(session: Session, row: Share, line: Line, version: Version | None) -> list[str]:
    """Whether nothing can be launched by a share yet."""
    if row.state not in ("proposed", "active"):
        return []
    if version is not None:
        staged = version.state == "staged"
        text = f"{line.name}@{version.number} is staged: nothing can be launched from it before it is released."
        return [text] if staged else []
    offered = select(Version.id).where(Version.line_id == line.id, Version.state.in_(("released", "sunset"))).limit(1)
    return [] if session.scalar(offered) else [f"{line.name} has no released version yet: nothing can be launched."]


def shared_version_answers(session: Session, account_id: str, versions: Sequence[Version]) -> list[wire.SharedVersion]:
    """Versions as an account sees them that they are shared with: where it may launch them, and how many it runs."""
    ids = [version.id for version in versions]
    held: dict[str, list[str]] = {}
    ready = select(Replica).where(Replica.version_id.in_(ids), Replica.state == "ready").order_by(Replica.region)
    for replica in session.scalars(ready):
        held.setdefault(replica.version_id, []).append(replica.region)
    mine = dict(
        session.execute(
            select(Instance.version_id, func.count())
            .where(Instance.version_id.in_(ids), Instance.account_id == account_id, IS_PRESENT)
            .group_by(Instance.version_id)
        ).all()
    )
    out = []
    for version in versions:
        allowed = in_regions(shares_of_version(session, account_id, version))
        out.append(
            wire.SharedVersion(
                reference=reference_for(session, version, account_id),
                state=version.state,
                regions=[r for r in held.get(version.id, []) if allowed is None or r in allowed],
                released_at=version.released_at,
                retire_on=version.retire_on,
                running=mine.get(version.id, 0),
            )
        )
    return out
