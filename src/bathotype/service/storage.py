"""The bytes that accounts and lines need of each region's store: measuring them, and reading them by day."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import UTC, date, datetime, timedelta

from sqlalchemy import delete, func, insert, select
from sqlalchemy.orm import Session

from bathotype.core.errors import BathotypeError
from bathotype.core.store.chunks import CHUNK
from bathotype.core.store.manifest import Manifest
from bathotype.core.store.usage import measure
from bathotype.service.database import Database
from bathotype.service.reach import Reach
from bathotype.service.records import Line, Replica, StoredBytes, Version

EVERY = timedelta(days=1)
#: After so long, the last measure of each week is kept.
_WEEKLY_AFTER = timedelta(days=400)


def measure_region(
    database: Database, reach: Reach, region: str, at: datetime, skip: Callable[[str, BathotypeError], None]
) -> None:
    """Measure what each line and account needs of a region's store, and record it as of ``at``.

    A manifest that cannot be read is left out, and reported to ``skip``.
    """
    with database.reads() as session:
        held = session.execute(
            select(Version.id, Version.line_id, Line.account_id, Version.used_bytes)
            .join(Replica, Replica.version_id == Version.id)
            .join(Line, Line.id == Version.line_id)
            .where(Replica.region == region, Replica.state.in_(("ready", "damaged", "draining")))
            .order_by(Version.line_id, Version.id)
        ).all()
    store, account_of = reach.store(region), {line: account for _, line, account, _ in held}

    def manifests() -> Iterator[tuple[str, Manifest]]:
        for version, line, _, _ in held:
            try:
                yield line, store.get_manifest(version)
            except BathotypeError as error:
                skip(f"{version} in {region}", error)

    found = measure(manifests, account_of, rows=sum(used for *_, used in held) // CHUNK)
    rows = [
        {"account_id": account_of[line], "line_id": line, "alone": used.alone, "shared": used.shared}
        for line, used in found.holders.items()
    ] + [
        {"account_id": account, "line_id": "", "alone": used.alone, "shared": used.shared}
        for account, used in found.groups.items()
    ]
    if rows:
        with database.sessions.begin() as session:
            session.execute(insert(StoredBytes), [{**row, "at": at, "region": region} for row in rows])


def last_measured(session: Session) -> datetime | None:
    """When the stores were measured last."""
    return session.scalar(select(func.max(StoredBytes.at)))


def thin_measures(session: Session, now: datetime) -> None:
    """Remove old measures but the last of each week."""
    kept = select(func.max(StoredBytes.at)).group_by(func.date_trunc("week", StoredBytes.at, "UTC"))
    session.execute(delete(StoredBytes).where(StoredBytes.at < now - _WEEKLY_AFTER, StoredBytes.at.not_in(kept)))


def measures_of(session: Session, account_id: str, since: date) -> list[tuple[datetime, str, str, int, int]]:
    """``(at, region, line, alone, shared)`` of an account since a day, the line empty for the whole account."""
    begin = datetime(since.year, since.month, since.day, tzinfo=UTC)
    rows = session.execute(
        select(StoredBytes.at, StoredBytes.region, func.coalesce(Line.name, ""), StoredBytes.alone, StoredBytes.shared)
        .outerjoin(Line, Line.id == StoredBytes.line_id)
        .where(StoredBytes.account_id == account_id, StoredBytes.at >= begin)
        .order_by(StoredBytes.at, StoredBytes.region, Line.name.nulls_first())
    )
    return [(at, region, line, alone, shared) for at, region, line, alone, shared in rows]
