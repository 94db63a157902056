"""What is coming to its end while instances run it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from sqlalchemy import func, select, union
from sqlalchemy.orm import Session

from bathotype.core.lifecycle.retirement import GRACE, plan_purge
from bathotype.core.lifecycle.states import VersionState
from bathotype.service.access.principals import Principal
from bathotype.service.catalogue import usage_of, written
from bathotype.service.records import Account, Instance, Line, Notice, Version
from bathotype.service.records.base import utcnow
from bathotype.service.records.fleet import IS_PRESENT
from bathotype.wire import sharing as wire

_ENDING = (VersionState.SUNSET, VersionState.RETIRED, VersionState.PURGED)


def dates_of(session: Session, caller: Principal, *, purging: bool = False) -> list[wire.Due]:
    """Versions at or near their end, the next first: what the account runs, and its own, whoever runs them.

    With ``purging`` each says what prevents its purge.
    """
    found: dict[str, wire.Due] = {}
    versions = list(_ending_versions(session, caller))
    own = {version.id for version, owner_id, _ in versions if owner_id == caller.account_id}
    newest = _newest(session, {version.line_id for version, *_ in versions})
    notices = _notices(session, caller, {version.id for version, *_ in versions})
    for version, owner_id, owner in versions:
        found[version.id] = wire.Due(
            reference=written(version.line.name, version.number, (owner_id, owner), caller.account_id),
            state=version.state,
            sunset_on=version.sunset_on,
            retire_on=version.retire_on,
            running=0,
            newest=newest.get(version.line_id),
            notice=notices.get(version.id),
            **(_purging(session, version) if purging and owner_id == caller.account_id else {}),
        )
    for version_id, runner_id, runner, count in _running(session, found):
        if runner_id == caller.account_id:
            found[version_id].running = count
        elif version_id in own:
            found[version_id].elsewhere[runner] = count
    today = utcnow().date()
    return sorted(
        found.values(), key=lambda d: (d.retire_on is None and d.state == "sunset", d.retire_on or today, d.reference)
    )


def calendar_of(session: Session, caller: Principal) -> list[wire.Due]:
    """Versions at or near their end that the account runs."""
    return [due for due in dates_of(session, caller) if due.running]


def _ending_versions(session: Session, caller: Principal) -> Iterator[tuple[Version, str, str]]:
    """With their owners: those that instances of the account run, and of its own those that are not purged yet."""
    mine = select(Instance.version_id).where(Instance.account_id == caller.account_id, IS_PRESENT)
    lines = select(Line.id).where(Line.account_id == caller.account_id)
    own = select(Version.id).where(
        Version.line_id.in_(lines), Version.state.in_(_ENDING), Version.state != VersionState.PURGED
    )
    # Each by an index of its own: asked as one condition, every version of every account would be looked at.
    query = select(Version, Account.id, Account.name).join(Line, Line.id == Version.line_id)
    query = query.join(Account, Account.id == Line.account_id).where(Version.state.in_(_ENDING))
    # As an array, whose few ids are found by index; joined with it, PostgreSQL would read all versions.
    ids = func.array(union(mine, own).scalar_subquery())
    query = query.where(Version.id == func.any(ids))
    yield from session.execute(query).all()


def _running(session: Session, versions: Iterable[str]) -> Iterator[tuple[str, str, str, int]]:
    query = (
        select(Instance.version_id, Account.id, Account.name, func.count())
        .join(Account, Account.id == Instance.account_id)
        .where(Instance.version_id.in_(list(versions)), IS_PRESENT)
        .group_by(Instance.version_id, Account.id)
    )
    yield from session.execute(query)


def _purging(session: Session, version: Version) -> dict[str, Any]:
    """From when a retired version may be purged, and what else is in the way."""
    if version.state != VersionState.RETIRED or version.retired_at is None:
        return {}
    plan = plan_purge(usage_of(session, version), utcnow(), waive_grace=True)
    return {"purge_from": version.retired_at + GRACE, "in_the_way": list(plan.blockers)}


def _newest(session: Session, lines: set[str]) -> dict[str, str]:
    offered = (Version.line_id.in_(lines), Version.state == VersionState.RELEASED, Version.pin_only.is_(False))
    query = select(Version.line_id, Version.number).where(*offered).order_by(Version.sort_key)
    return dict(session.execute(query).all())  # the last of each line stays


def _notices(session: Session, caller: Principal, versions: set[str]) -> dict[str, str]:
    query = select(Notice.version_id, Notice.text).where(
        Notice.account_id == caller.account_id, Notice.version_id.in_(versions)
    )
    return dict(session.execute(query.order_by(Notice.at)).all())
