"""Lines and their marks."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Response
from sqlalchemy import ColumnElement, delete, func, select
from sqlalchemy.exc import IntegrityError
from sqlalchemy.orm import Session

from bathotype.core.errors import NotFound, Refused
from bathotype.core.lifecycle.references import check_name
from bathotype.core.lifecycle.states import VersionState
from bathotype.core.units import plural
from bathotype.service import audit, lifecycle
from bathotype.service.answers.lineage import lineage_of
from bathotype.service.answers.lines import line_answer, lines_of
from bathotype.service.answers.versions import versions_of
from bathotype.service.catalogue import find_line, find_version
from bathotype.service.records import (
    Allowance,
    Line,
    Mark,
    MarkMove,
    NumberClaim,
    Placement,
    PoolLine,
    SavedSheet,
    Share,
    Version,
)
from bathotype.service.records.base import Base, new_id
from bathotype.service.routes.callers import Operator, Reader, ReadsOf, ServiceOf
from bathotype.service.routes.common import Key, once
from bathotype.service.routes.conditions import Conditional
from bathotype.service.routes.paging import REVERSED, Paged
from bathotype.service.routes.route import api_router
from bathotype.wire import versions as wire
from bathotype.wire.common import Page
from bathotype.wire.lineage import Lineage

router = api_router("/lines", tags=["lines"])


@router.get("", response_model=Page[wire.Line])
def list_lines(
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    sort: Annotated[wire.LineSort, Query(description=REVERSED)] = "name",
) -> Response:
    """The account's lines, by name unless sorted."""
    after = paging.after(str)
    given = {"after": after} if after else {}
    statement = lines_of(sort=sort, after=bool(after), most=paging.fetched)
    rows = statement.rows(reads.connection, caller=caller.account_id, **given)

    def count() -> int:
        mine = select(func.count()).select_from(Line).where(Line.account_id == caller.account_id)
        return reads.connection.scalar(mine) or 0

    return paging.answer(rows, lambda row: row.key, count)


@router.post("", status_code=201)
def create_line(body: wire.LineRequest, caller: Operator, service: ServiceOf, key: Key = None) -> wire.Line:
    """Create a line."""

    def make(session: Session) -> wire.Line:
        check_name(body.name, "line")
        line = Line(id=new_id("ln"), account_id=caller.account_id, name=body.name, about=body.about)
        try:
            with session.begin_nested():
                session.add(line)
        except IntegrityError as error:
            raise Refused(
                f"{caller.account} has a line {body.name!r} already.",
                advice="Take another name, or use it.",
                code="exists",
            ) from error
        audit.record(session, caller.account_id, caller.actor, "line.created", body.name, after={"about": body.about})
        return line_answer(session, line)

    return wire.Line.model_validate(once(caller, service, key, body, make))


@router.get("/{name}")
def show_line(name: str, caller: Reader, reads: ReadsOf) -> wire.Line:
    """One line."""
    with reads.session() as session:
        return line_answer(session, find_line(session, caller, name))


@router.get("/{name}/lineage")
def show_lineage(name: str, caller: Reader, reads: ReadsOf) -> Lineage:
    """Which versions the line is built on, and which lines are built on it; and who is behind its base."""
    with reads.session() as session:
        return lineage_of(session, caller, find_line(session, caller, name))


@router.put("/{name}/demands")
def demand(name: str, body: wire.LineDemand, caller: Operator, service: ServiceOf) -> wire.Line:
    """Say what a version of the line needs before its release: findings that are accepted, checks that have passed."""
    with service.database.sessions.begin() as session:
        line = find_line(session, caller, name, lock=True)
        before = {"demands": line.demands, "proven_first": line.proven_first}
        line.demands = body.severity or line.demands
        line.proven_first = line.proven_first if body.proven_first is None else body.proven_first
        after = {"demands": line.demands, "proven_first": line.proven_first}
        if before != after:
            audit.record(
                session, caller.account_id, caller.actor, "line.demands.changed", name, before=before, after=after
            )
        return line_answer(session, line)


@router.put("/{name}/about")
def describe(name: str, body: wire.LineAbout, caller: Operator, service: ServiceOf) -> wire.Line:
    """Say what the line is for."""
    with service.database.sessions.begin() as session:
        line = find_line(session, caller, name, lock=True)
        if line.about != body.about:
            before, line.about = {"about": line.about}, body.about
            audit.record(
                session,
                caller.account_id,
                caller.actor,
                "line.described",
                name,
                before=before,
                after={"about": body.about},
            )
        return line_answer(session, line)


@router.delete("/{name}", status_code=204)
def drop_line(name: str, caller: Operator, service: ServiceOf) -> None:
    """Remove a line that never had a version: one that was created by mistake."""
    with service.database.sessions.begin() as session:
        line = find_line(session, caller, name, lock="drop")
        if obstacles := _in_use_by(session, line):
            raise Refused(" ".join(what for what, _ in obstacles), advice=obstacles[0][1], code="in-use")
        for row in (Placement, Share):
            session.execute(delete(row).where(row.line_id == line.id))
        session.delete(line)
        audit.record(session, caller.account_id, caller.actor, "line.dropped", name, before={"about": line.about})


def _in_use_by(session: Session, line: Line) -> list[tuple[str, str]]:
    """What refers to a line, and what to do about it."""

    def count(row: type[Base], *where: ColumnElement[bool]) -> int:
        return session.scalar(select(func.count()).select_from(row).where(*where)) or 0

    found = []
    if many := count(Version, Version.line_id == line.id):
        has = f"{line.name} has {plural(many, 'version')}, whose records are kept."
        found.append((has, "Retire and purge what is not needed; the line stays."))
    if many := count(NumberClaim, NumberClaim.line_id == line.id):
        found.append(
            (f"{plural(many, 'version')} of it {'is' if many == 1 else 'are'} being made.", "Wait, or cancel it.")
        )
    if many := count(Share, Share.line_id == line.id, Share.state.in_(("proposed", "active"))):
        found.append(
            (f"It is shared with {plural(many, 'account')}.", "End that first: `bathotype shares list` shows it.")
        )
    pooled = Allowance.id.in_(select(PoolLine.allowance_id).where(PoolLine.line_id == line.id))
    if many := count(Allowance, (Allowance.line_id == line.id) | pooled):
        found.append(
            (
                f"{plural(many, 'allowance')} count{'s' if many == 1 else ''} it.",
                "Remove them: `bathotype allowances list`.",
            )
        )
    if many := count(SavedSheet, SavedSheet.account_id == line.account_id, SavedSheet.line == line.name):
        found.append(
            (
                f"{plural(many, 'saved sheet')} make{'s' if many == 1 else ''} versions of it.",
                "Drop them: `bathotype sheets list`.",
            )
        )
    return found


@router.get("/{name}/versions", response_model=Page[wire.Version])
def list_versions(
    name: str,
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    state: VersionState | None = None,
    sort: Annotated[wire.VersionSort, Query(description=REVERSED)] = "-number",
) -> Response:
    """A line's versions, highest number first unless sorted."""
    after = paging.after(str)
    given = {"line": name} | ({"after": after} if after else {}) | ({"state": state} if state else {})
    statement = versions_of(sort=sort, state=bool(state), after=bool(after), most=paging.fetched)
    rows = statement.rows(reads.connection, caller=caller.account_id, **given)
    if not rows:
        with reads.session() as session:
            find_line(session, caller, name)

    def count() -> int:
        of_line = select(Line.id).where(Line.account_id == caller.account_id, Line.name == name).scalar_subquery()
        these = select(func.count()).select_from(Version).where(Version.line_id == of_line)
        return reads.connection.scalar(these.where(Version.state == state) if state else these) or 0

    return paging.answer(rows, lambda row: row.key, count)


def _mark(session: Session, line: Line, name: str, number: str) -> wire.Mark:
    moves = session.scalars(
        select(MarkMove).where(MarkMove.line_id == line.id, MarkMove.name == name).order_by(MarkMove.id.desc())
    )
    history = [wire.MarkMove.model_validate(m, from_attributes=True) for m in moves]
    return wire.Mark(name=name, number=number, history=history)


@router.get("/{name}/marks")
def list_marks(name: str, caller: Reader, reads: ReadsOf) -> list[wire.Mark]:
    """A line's marks with the history of their moves."""
    with reads.session() as session:
        line = find_line(session, caller, name)
        rows = session.execute(
            select(Mark.name, Version.number)
            .join(Version, Version.id == Mark.version_id)
            .where(Mark.line_id == line.id)
            .order_by(Mark.name)
        )
        return [_mark(session, line, mark, number) for mark, number in rows]


@router.put("/{name}/marks/{mark}")
def set_mark(
    name: str, mark: str, body: wire.MarkRequest, caller: Operator, service: ServiceOf, conditions: Conditional
) -> wire.Mark:
    """Point a mark to a version, making it if need be."""
    check_name(mark, "mark")
    with service.database.sessions.begin() as session:
        line = find_line(session, caller, name, lock=True)
        version = find_version(session, caller, f"{line.name}@{body.number}", lock="share")
        row = session.get(Mark, (line.id, mark))
        now = _mark(session, line, mark, session.get_one(Version, row.version_id).number) if row else None
        conditions.check(f"The mark {mark}", now)
        lifecycle.move_mark(session, caller, version, mark)
        return _mark(session, line, mark, version.number)


@router.delete("/{name}/marks/{mark}", status_code=204)
def drop_mark(name: str, mark: str, caller: Operator, service: ServiceOf, conditions: Conditional) -> None:
    """Remove a mark; its history stays in the audit trail."""
    with service.database.sessions.begin() as session:
        line = find_line(session, caller, name, lock=True)
        row = session.get(Mark, (line.id, mark))
        if row is None:
            raise NotFound(f"{line.name} has no mark {mark!r}.", advice="`bathotype marks list LINE` shows them.")
        number = session.get_one(Version, row.version_id).number
        conditions.check(f"The mark {mark}", _mark(session, line, mark, number))
        session.delete(row)
        audit.record(
            session, caller.account_id, caller.actor, "mark.dropped", f"{line.name}@{mark}", before={"number": number}
        )
