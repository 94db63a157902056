"""Saved sheets: their texts, when they run by themselves, and running them."""

from __future__ import annotations

from collections.abc import Collection
from typing import Annotated

from fastapi import Query
from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.errors import Invalid
from bathotype.core.sheets.reading import is_part
from bathotype.service.access.principals import Principal
from bathotype.service.answers.operations import operation_answers
from bathotype.service.builds import parts, saved
from bathotype.service.builds.answers import saved_answers, saved_details
from bathotype.service.builds.planning import ask, plan_build, understand
from bathotype.service.records import SavedSheet, SheetFile
from bathotype.service.routes.callers import Operator, Reader, ReadsOf, Runner, ServiceOf
from bathotype.service.routes.common import Key, once
from bathotype.service.routes.conditions import Conditional
from bathotype.service.routes.paging import REVERSED, Ordering, Paged
from bathotype.service.routes.route import api_router
from bathotype.service.state import Service
from bathotype.service.uploads import find_upload, sha256_of
from bathotype.wire import builds as runs
from bathotype.wire import savedsheets as wire
from bathotype.wire.common import Page
from bathotype.wire.operations import Operation

router = api_router("/saved-sheets", tags=["builds"])
_SHEETS = Ordering(SavedSheet.name, name=SavedSheet.name, next=SavedSheet.next_at, line=SavedSheet.line)
_Number = Annotated[
    int | None, Query(ge=1, le=1_000_000, description="Which of its texts; the current one if left out.")
]


@router.get("")
def list_saved(
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    line: Annotated[
        str | None, Query(max_length=63, description="Only sheets that make versions of this line.")
    ] = None,
    kind: Annotated[runs.SheetKind, Query(description="Sheets, or the parts that they include.")] = "sheet",
    sort: Annotated[wire.SavedSheetSort, Query(description=REVERSED)] = "name",
) -> Page[wire.SavedSheet]:
    """The account's saved sheets, with their last runs and when each runs next; or the saved parts."""
    query = select(SavedSheet).where(SavedSheet.account_id == caller.account_id, SavedSheet.is_part == (kind == "part"))
    if line is not None:
        query = query.where(SavedSheet.line == line)
    with reads.session() as session:
        rows, following, total = paging.in_order(session, query, _SHEETS, sort)
        items = saved_answers(session, caller, [row[0] for row in rows])
        return Page(items=items, next=following, total=total)


@router.get("/{name}")
def show_saved(name: str, caller: Reader, reads: ReadsOf, number: _Number = None) -> wire.SavedSheetDetails:
    """A saved sheet with one of its texts, every text that it had, and the next dates of its schedule."""
    with reads.session() as session:
        return saved_details(session, caller, saved.find_saved(session, caller, name), number)


@router.put("/{name}")
def save(
    name: str, body: wire.SaveSheetRequest, caller: Operator, service: ServiceOf, conditions: Conditional
) -> wire.SavedSheetDetails:
    """Keep a sheet or a part, or a new text of it.  Its files are read, and must be what the request says of them.

    A sheet is kept with the texts of the saved parts that it includes.
    """
    if is_part(body.sheet):
        part = parts.readable_part(name, body)
    else:
        part = None
        with service.database.reads() as session:
            body = parts.with_parts(session, caller, parts.with_newest(body))
        checked = saved.readable(name, body)
    _check_files(service, caller, body, saved.in_buckets_of(checked.need() if part is None else part))
    with service.database.sessions.begin() as session:
        query = select(SavedSheet).where(SavedSheet.account_id == caller.account_id, SavedSheet.name == name)
        row = session.scalar(query.with_for_update())
        conditions.check(f"The sheet {name}", saved_answers(session, caller, [row])[0] if row else None)
        if part is not None:
            row = parts.save_part(session, caller, row, body, part)
        else:
            row = saved.save(session, caller, row, body, checked)
        session.flush()
        return saved_details(session, caller, row, None)


def _check_files(service: Service, caller: Principal, body: wire.SaveSheetRequest, in_buckets: Collection[str]) -> None:
    """Each file has the digest that is given; those that a saved sheet has already were read when it was saved."""
    for name, given in body.payload.items():
        if name in in_buckets:
            continue  # a run compares what is there then
        with service.database.reads() as session:
            row = find_upload(session, caller, given.upload or "")
            same = select(SheetFile.sha256).where(SheetFile.upload_id == row.id).limit(1)
            known = session.scalar(same)
        found = known or sha256_of(service.reach.store(row.region), row)
        if found != given.sha256:
            raise Invalid(f"{name} of the payload is not the file that the request says.", advice="Send it again.")


@router.delete("/{name}", status_code=204)
def drop(name: str, caller: Operator, service: ServiceOf, conditions: Conditional) -> None:
    """Remove a sheet with all of its texts.  Its runs, and what they made, stay."""
    with service.database.sessions.begin() as session:
        row = saved.find_saved(session, caller, name, lock=True)
        conditions.check(f"The sheet {name}", saved_answers(session, caller, [row])[0])
        saved.drop(session, caller, row)


@router.get("/{name}/difference")
def compare(
    name: str,
    caller: Reader,
    reads: ReadsOf,
    old: Annotated[int | None, Query(ge=1, le=1_000_000, description="The one before the newer, if left out.")] = None,
    new: _Number = None,
) -> wire.SheetDifference:
    """How two texts of a sheet differ."""
    with reads.session() as session:
        row = saved.find_saved(session, caller, name)
        newer = saved.text_of(session, row, new)
        older = saved.text_of(session, row, old or max(newer.number - 1, 1))
        return saved.difference(session, older, newer)


@router.put("/{name}/pause")
def pause(name: str, body: wire.SheetPause, caller: Operator, service: ServiceOf) -> wire.SavedSheetDetails:
    """Let a sheet not run by itself, or let it again: from its next date, and the next release of its base, on."""
    with service.database.sessions.begin() as session:
        row = saved.find_runnable(session, caller, name, lock=True)
        saved.pause(session, caller, row, body.paused)
        session.flush()
        return saved_details(session, caller, row, None)


@router.post("/{name}/run-plans")
def plan_run(name: str, body: wire.SheetRunRequest, caller: Reader, service: ServiceOf) -> runs.BuildPlan:
    """What a run of it would do now, and every obstacle at once.  Nothing is started."""
    with service.database.reads() as session:
        request = _request(session, caller, name, body)[1]
        found = understand(session, service.reach, caller, request)
    asked = ask(service.reach, caller, request, found)
    with service.database.reads() as session:
        return plan_build(session, service.reach, caller, request, asked)


@router.post("/{name}/runs", status_code=202)
def run(name: str, body: wire.SheetRunRequest, caller: Runner, service: ServiceOf, key: Key = None) -> Operation:
    """Run a saved sheet.  All obstacles are reported before it starts."""
    caller.need_sheet(name)
    with service.database.reads() as session:
        number, request = _request(session, caller, name, body)
        found = understand(session, service.reach, caller, request)
    asked = ask(service.reach, caller, request, found)

    def make(session: Session) -> Operation:
        row = saved.find_runnable(session, caller, name, lock=True)
        made = saved.record_run(session, service.reach, caller, row, number, request, asked)
        return operation_answers(session, [made])[0]

    return Operation.model_validate(once(caller, service, key, body, make))


def _request(
    session: Session, caller: Principal, name: str, body: wire.SheetRunRequest
) -> tuple[int, runs.BuildRequest]:
    """The number of its current text, and the run that is asked for."""
    text = saved.text_of(session, saved.find_runnable(session, caller, name))
    return text.number, saved.request_of(session, text, body)
