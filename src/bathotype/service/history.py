"""The number of instances over time: taking samples, thinning old ones, and reading them by day."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta

from sqlalchemy import delete, func, insert, literal, select
from sqlalchemy.orm import Session

from bathotype.service.records import CountSample, Instance, InstanceCount, Version
from bathotype.service.records.fleet import IS_PRESENT

EVERY = timedelta(hours=1)
#: After so long, the last sample of each unit of time is kept.
_THINNED: tuple[tuple[timedelta, str], ...] = ((timedelta(days=3), "day"), (timedelta(days=400), "week"))


def take_sample(session: Session, at: datetime) -> None:
    """Count all instances that are there or coming, by version, account, region and state."""
    session.add(CountSample(at=at))
    session.flush()
    keys = (Instance.version_id, Instance.account_id, Instance.region, Instance.state)
    counted = select(*keys, literal(at), func.count()).where(IS_PRESENT).group_by(*keys)
    session.execute(
        insert(InstanceCount).from_select(["version_id", "account_id", "region", "state", "at", "count"], counted)
    )


def last_sample(session: Session) -> datetime | None:
    """When instances were counted last."""
    return session.scalar(select(func.max(CountSample.at)))


def thin(session: Session, now: datetime) -> None:
    """Remove old samples but the last of each day, later of each week."""
    for age, unit in _THINNED:
        kept = select(func.max(CountSample.at)).group_by(func.date_trunc(unit, CountSample.at, "UTC"))
        session.execute(delete(CountSample).where(CountSample.at < now - age, CountSample.at.not_in(kept)))


@dataclass(frozen=True)
class Course:
    """How many instances ran of each version (by its id), day by day; every list is as long as ``days``."""

    days: list[date]
    counts: dict[str, list[int]]


def course_of(session: Session, lines: Sequence[str], since: date, *, account_id: str | None = None) -> Course:
    """What ran of all versions of some lines since a day: at each day's last sample, as far as there is one.

    With ``account_id`` only this account's instances are counted.
    """
    begin = datetime(since.year, since.month, since.day, tzinfo=UTC)
    day = func.date(func.timezone("UTC", CountSample.at))
    last = select(func.max(CountSample.at)).where(CountSample.at >= begin).group_by(day)
    moments = sorted(session.scalars(last))
    place = {moment: number for number, moment in enumerate(moments)}
    query = (
        select(InstanceCount.version_id, InstanceCount.at, func.sum(InstanceCount.count))
        .join(Version, Version.id == InstanceCount.version_id)
        .where(Version.line_id.in_(lines), InstanceCount.at.in_(moments))
        .group_by(InstanceCount.version_id, InstanceCount.at)
    )
    if account_id is not None:
        query = query.where(InstanceCount.account_id == account_id)
    counts: dict[str, list[int]] = {}
    for version_id, at, count in session.execute(query):
        counts.setdefault(version_id, [0] * len(moments))[place[at]] = int(count)
    return Course([moment.astimezone(UTC).date() for moment in moments], counts)
