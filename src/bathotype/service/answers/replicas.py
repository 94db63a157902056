"""The API's answers about replicas."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from bathotype.service.records import BaseDisk, Replica
from bathotype.wire import regions as wire


def replica_answers(session: Session, versions: Sequence[str]) -> dict[str, list[wire.Replica]]:
    """Where each of some versions is, by the version's id."""
    ready = (
        select(BaseDisk.version_id, BaseDisk.region, BaseDisk.zone, func.count())
        .where(BaseDisk.version_id.in_(versions), BaseDisk.state == "ready")
        .group_by(BaseDisk.version_id, BaseDisk.region, BaseDisk.zone)
    )
    zones: dict[tuple[str, str], Counter[str]] = {}
    for version, region, zone, count in session.execute(ready):
        zones.setdefault((version, region), Counter())[zone] = count
    found: dict[str, list[wire.Replica]] = {version: [] for version in versions}
    rows = session.scalars(
        select(Replica)
        .where(Replica.version_id.in_(versions), Replica.state != "removed")
        .order_by(Replica.version_id, Replica.region)
    )
    for row in rows:
        standing = zones.get((row.version_id, row.region), Counter())
        found[row.version_id].append(
            wire.Replica(
                region=row.region, state=row.state, copies=row.copies, standing=standing.total(), zones=dict(standing),
                multi_zone=row.multi_zone, verified_at=row.verified_at,
            )
        )  # fmt: skip
    return found
