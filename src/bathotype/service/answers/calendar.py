"""What is coming to its end while instances run it."""

from __future__ import annotations

from sqlalchemy import func, or_, select
from sqlalchemy.orm import Session, aliased

from bathotype.core.lifecycle.states import VersionState
from bathotype.service.access.principals import Principal
from bathotype.service.catalogue import written
from bathotype.service.records import Account, Instance, Line, Notice, Version
from bathotype.service.records.base import utcnow
from bathotype.service.records.fleet import IS_PRESENT
from bathotype.wire import sharing as wire

_ENDING = (VersionState.SUNSET, VersionState.RETIRED, VersionState.PURGED)


def calendar_of(session: Session, caller: Principal) -> list[wire.Due]:
    """Versions at or near their end that the account runs, and its own that others run; the next first."""
    consumer = aliased(Account)
    rows = session.execute(
        select(Version, Account.id, Account.name, consumer.id, consumer.name, func.count())
        .join(Instance, Instance.version_id == Version.id)
        .join(Line, Line.id == Version.line_id)
        .join(Account, Account.id == Line.account_id)
        .join(consumer, consumer.id == Instance.account_id)
        .where(
            or_(Instance.account_id == caller.account_id, Line.account_id == caller.account_id),
            IS_PRESENT,
            Version.state.in_(_ENDING),
        )
        .group_by(Version.id, Line.id, Account.id, consumer.id)
    ).all()
    newest = _newest(session, {version.line_id for version, *_ in rows})
    notices = _notices(session, caller, {version.id for version, *_ in rows})
    found: dict[str, wire.Due] = {}
    for version, owner_id, owner, runner_id, runner, count in rows:
        due = found.setdefault(
            version.id,
            wire.Due(
                reference=written(version.line.name, version.number, (owner_id, owner), caller.account_id),
                state=version.state,
                sunset_on=version.sunset_on,
                retire_on=version.retire_on,
                running=0,
                newest=newest.get(version.line_id),
                notice=notices.get(version.id),
            ),
        )
        if runner_id == caller.account_id:
            due.running += count
        else:
            due.elsewhere[runner] = count
    today = utcnow().date()
    return sorted(
        found.values(), key=lambda d: (d.retire_on is None and d.state == "sunset", d.retire_on or today, d.reference)
    )


def _newest(session: Session, lines: set[str]) -> dict[str, str]:
    offered = (Version.line_id.in_(lines), Version.state == VersionState.RELEASED, Version.pin_only.is_(False))
    query = select(Version.line_id, Version.number).where(*offered).order_by(Version.sort_key)
    return dict(session.execute(query).all())  # the last of each line stays


def _notices(session: Session, caller: Principal, versions: set[str]) -> dict[str, str]:
    query = select(Notice.version_id, Notice.text).where(
        Notice.account_id == caller.account_id, Notice.version_id.in_(versions)
    )
    return dict(session.execute(query.order_by(Notice.at)).all())
