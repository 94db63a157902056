"""Lines and their marks."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import func, select
from sqlalchemy.exc import IntegrityError
from sqlalchemy.orm import Session

from bathotype.core.errors import Refused
from bathotype.core.lifecycle.references import check_name
from bathotype.core.lifecycle.states import VersionState
from bathotype.service import audit
from bathotype.service.access.principals import Principal
from bathotype.service.answers.versions import version_answers
from bathotype.service.catalogue import find_line, find_version, reference_of
from bathotype.service.records import Instance, Line, Mark, MarkMove, Version
from bathotype.service.records.base import new_id
from bathotype.service.records.fleet import PRESENT
from bathotype.service.routes.common import (
    Key,
    Operator,
    Paged,
    Reader,
    ServiceOf,
    api_router,
    once,
)
from bathotype.wire import versions as wire
from bathotype.wire.common import Page

router = api_router("/lines", tags=["lines"])


def _answers(session: Session, account: str, lines: Sequence[Line]) -> list[wire.Line]:
    ids = [line.id for line in lines]
    counts = dict(
        session.execute(
            select(Version.line_id, func.count()).where(Version.line_id.in_(ids)).group_by(Version.line_id)
        ).all()
    )
    running = dict(
        session.execute(
            select(Version.line_id, func.count())
            .join(Instance, Instance.version_id == Version.id)
            .where(Version.line_id.in_(ids), Instance.state.in_(PRESENT))
            .group_by(Version.line_id)
        ).all()
    )
    newest: dict[str, str] = {}
    released = select(Version.line_id, Version.number).where(
        Version.line_id.in_(ids), Version.state == VersionState.RELEASED, Version.pin_only.is_(False)
    )
    for line, number in session.execute(released.order_by(Version.sort_key)):
        newest[line] = number
    return [
        wire.Line(
            account=account,
            name=line.name,
            about=line.about,
            newest=newest.get(line.id),
            versions=counts.get(line.id, 0),
            running=running.get(line.id, 0),
            created_at=line.created_at,
        )
        for line in lines
    ]


@router.get("")
def list_lines(caller: Reader, service: ServiceOf, paging: Paged) -> Page[wire.Line]:
    """The account's lines, by name."""
    with service.database.reads() as session:
        query = select(Line).where(Line.account_id == caller.account_id).order_by(Line.name)
        if (after := paging.after(str)) is not None:
            query = query.where(Line.name > after)
        rows = list(session.scalars(query.limit(paging.fetched)))
        page, following = paging.cut(rows, lambda row: row.name)
        return Page[wire.Line](items=_answers(session, caller.account, page), next=following)


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
        return _answers(session, caller.account, [line])[0]

    return wire.Line.model_validate(once(caller, service, key, body, make))


@router.get("/{name}")
def show_line(name: str, caller: Reader, service: ServiceOf) -> wire.Line:
    """One line."""
    with service.database.reads() as session:
        return _answers(session, caller.account, [find_line(session, caller, name)])[0]


@router.get("/{name}/versions")
def list_versions(name: str, caller: Reader, service: ServiceOf, paging: Paged) -> Page[wire.Version]:
    """A line's versions, highest number first."""
    with service.database.reads() as session:
        line = find_line(session, caller, name)
        query = select(Version).where(Version.line_id == line.id).order_by(Version.sort_key.desc())
        if (after := paging.after(str)) is not None:
            query = query.where(Version.sort_key < after)
        rows = list(session.scalars(query.limit(paging.fetched)))
        page, following = paging.cut(rows, lambda row: row.sort_key)
        return Page[wire.Version](items=version_answers(session, caller.account, page), next=following)


def _mark(session: Session, line: Line, name: str, number: str) -> wire.Mark:
    moves = session.scalars(
        select(MarkMove).where(MarkMove.line_id == line.id, MarkMove.name == name).order_by(MarkMove.id.desc())
    )
    history = [wire.MarkMove.model_validate(m, from_attributes=True) for m in moves]
    return wire.Mark(name=name, number=number, history=history)


@router.get("/{name}/marks")
def list_marks(name: str, caller: Reader, service: ServiceOf) -> list[wire.Mark]:
    """A line's marks with the history of their moves."""
    with service.database.reads() as session:
        line = find_line(session, caller, name)
        rows = session.execute(
            select(Mark.name, Version.number)
            .join(Version, Version.id == Mark.version_id)
            .where(Mark.line_id == line.id)
            .order_by(Mark.name)
        )
        return [_mark(session, line, mark, number) for mark, number in rows]


@router.put("/{name}/marks/{mark}")
def set_mark(name: str, mark: str, body: wire.MarkRequest, caller: Operator, service: ServiceOf) -> wire.Mark:
    """Point a mark to a version, making it if need be."""
    check_name(mark, "mark")
    with service.database.sessions.begin() as session:
        line = find_line(session, caller, name, lock=True)
        version = _markable(session, caller, line, body.number)
        row = session.get(Mark, (line.id, mark))
        before = None
        if row is None:
            session.add(Mark(line_id=line.id, name=mark, version_id=version.id))
        else:
            before = {"number": session.get_one(Version, row.version_id).number}
            row.version_id = version.id
        session.add(MarkMove(line_id=line.id, name=mark, number=version.number, moved_by=caller.actor))
        audit.record(
            session,
            caller.account_id,
            caller.actor,
            "mark.moved",
            f"{line.name}@{mark}",
            before=before,
            after={"number": version.number},
        )
        return _mark(session, line, mark, version.number)


def _markable(session: Session, caller: Principal, line: Line, number: str) -> Version:
    version = find_version(session, caller, f"{line.name}@{number}", lock="share")
    if version.state not in (VersionState.RELEASED, VersionState.SUNSET):
        raise Refused(
            f"{reference_of(version)} is {version.state}; a mark points to released versions only.",
            advice="Release it first.",
            code="state-forbids",
        )
    return version


@router.delete("/{name}/marks/{mark}", status_code=204)
def drop_mark(name: str, mark: str, caller: Operator, service: ServiceOf) -> None:
    """Remove a mark; its history stays in the audit trail."""
    with service.database.sessions.begin() as session:
        line = find_line(session, caller, name, lock=True)
        row = session.get(Mark, (line.id, mark))
        if row is None:
            return
        number = session.get_one(Version, row.version_id).number
        session.delete(row)
        audit.record(
            session, caller.account_id, caller.actor, "mark.dropped", f"{line.name}@{mark}", before={"number": number}
        )
