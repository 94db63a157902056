"""Which line is built on which: of a line, the lines below and above it, and who is behind its base."""

from __future__ import annotations

from collections.abc import Iterator

from sqlalchemy import case, select
from sqlalchemy.orm import Session, aliased

from bathotype.core.lifecycle.states import VersionState
from bathotype.service.access.principals import Principal
from bathotype.service.records import Line, Version
from bathotype.service.shares import reference_for
from bathotype.wire import lineage as wire

#: How far up and down is looked, in lines; and how many versions of one line are gone through for its base.
_MOST_LINES, _MOST_VERSIONS = 8, 200


def lineage_of(session: Session, caller: Principal, line: Line) -> wire.Lineage:
    """What the newest version of a line is built on, up to a line that is built on none; and what is built on the line."""
    newest = _newest(session, line.id)
    return wire.Lineage(
        line=line.name,
        newest=reference_for(session, newest, caller.account_id) if newest else None,
        bases=list(_bases(session, caller, newest)),
        built=list(_built(session, caller, line, {line.id}, 1)),
    )


def _newest(session: Session, line_id: str, *, offered: bool = False) -> Version | None:
    """The newest that is offered, else the newest that has bytes."""
    is_offered = (Version.state == VersionState.RELEASED) & ~Version.pin_only
    query = select(Version).where(Version.line_id == line_id, Version.state != VersionState.PURGED)
    if offered:
        query = query.where(is_offered)
    return session.scalar(query.order_by(case((is_offered, 0), else_=1), Version.sort_key.desc()).limit(1))


def _base_of(session: Session, version: Version) -> Version | None:
    """The version of another line that a version descends from, through versions of its own line."""
    at: Version | None = version
    for _ in range(_MOST_VERSIONS):
        at = session.get(Version, at.parent_id) if at is not None and at.parent_id else None
        if at is None or at.line_id != version.line_id:
            return at
    return None


def _bases(session: Session, caller: Principal, version: Version | None) -> Iterator[wire.Base]:
    seen = {version.line_id} if version else set()
    while version is not None and len(seen) <= _MOST_LINES:
        version = _base_of(session, version)
        if version is None or version.line_id in seen:
            return
        seen.add(version.line_id)
        newest = _newest(session, version.line_id, offered=True)
        yield wire.Base(
            reference=reference_for(session, version, caller.account_id),
            state=version.state,
            newest=reference_for(session, newest, caller.account_id) if newest else None,
            moved=newest is not None and newest.sort_key > version.sort_key,
        )


def _built(session: Session, caller: Principal, line: Line, seen: set[str], depth: int) -> Iterator[wire.BuiltLine]:
    """Lines of the caller's account whose newest version descends from one of the line, each followed by what is built on
    it."""
    parent = aliased(Version)
    lines = (
        select(Line)
        .join(Version, Version.line_id == Line.id)
        .join(parent, parent.id == Version.parent_id)
        .where(parent.line_id == line.id, Line.id != line.id, Line.account_id == caller.account_id)
        .distinct()
        .order_by(Line.name)
    )
    offered = _newest(session, line.id, offered=True)
    for child in session.scalars(lines).all():
        newest = _newest(session, child.id)
        base = _base_of(session, newest) if newest else None
        if child.id in seen or newest is None or base is None or base.line_id != line.id:
            continue
        seen.add(child.id)
        yield wire.BuiltLine(
            depth=depth,
            reference=reference_for(session, newest, caller.account_id),
            base=reference_for(session, base, caller.account_id),
            behind=offered is not None and offered.sort_key > base.sort_key,
            sheet=newest.source.get("sheet"),
        )
        if depth < _MOST_LINES:
            yield from _built(session, caller, child, seen, depth + 1)
