"""Build sheets: judging them; build runs: what one would do, starting it, and what came of each of its steps."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated

from fastapi import Query
from sqlalchemy import ColumnElement, cast, column, exists, func, literal, or_, select
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Session

from bathotype.core.errors import Invalid, NotFound
from bathotype.core.sheets.document import Fault
from bathotype.core.sheets.lock import lying_here
from bathotype.core.sheets.reading import is_part, read_part, read_sheet
from bathotype.core.sheets.sheet import PayloadFile, schema
from bathotype.core.store.chunks import digest
from bathotype.service import audit
from bathotype.service.answers.operations import operation_answers
from bathotype.service.builds.again import find_run, request_again
from bathotype.service.builds.answers import run_fields
from bathotype.service.builds.kind import Build
from bathotype.service.builds.parts import text_with_parts, with_parts
from bathotype.service.builds.planning import ask, plan_build, record_build, understand
from bathotype.service.records import BuildRun, Operation
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.routes.callers import Operator, Reader, ReadsOf, ServiceOf
from bathotype.service.routes.common import Key, once
from bathotype.service.routes.paging import REVERSED, Ordering, Paged
from bathotype.service.routes.route import api_router
from bathotype.wire import builds as wire
from bathotype.wire.common import Page
from bathotype.wire.operations import Operation as OperationAnswer
from bathotype.wire.operations import OperationState

router = api_router(tags=["builds"])


@router.get("/sheets/schema")
def sheet_schema(caller: Reader, kind: wire.SheetKind = "sheet") -> wire.SheetSchema:
    """The format of build sheets, or of their parts, as JSON Schema, for editors that complete them."""
    return wire.SheetSchema(document=schema(kind))


@router.post("/sheets/checks")
def check_sheet(body: wire.SheetRequest, caller: Reader, reads: ReadsOf) -> wire.SheetCheck:
    """Judge a sheet whole, or a part: every fault at once, with its line and column."""
    if is_part(body.sheet):
        return _part_check(body.sheet)
    try:
        with reads.session() as session:
            text, missing = text_with_parts(session, caller, body.sheet), []
    except (Invalid, NotFound) as error:  # said among the other faults, as the text is judged while somebody types it
        text, missing = body.sheet, [Fault(1, 1, "parts", error.message)]
    found = read_sheet(text, body.values)
    sheet = None if missing else found.sheet
    return wire.SheetCheck(
        kind="sheet",
        valid=sheet is not None,
        faults=_faults([*missing, *found.faults]),
        name=sheet.sheet if sheet else "",
        digest=found.digest,
        base=str(sheet.base) if sheet else "",
        line=sheet.result.line if sheet else "",
        steps=[wire.SheetStep(id=s.id, do=s.do, why=s.why) for s in sheet.steps] if sheet else [],
        payload=list(lying_here(sheet)) if sheet else [],
        in_buckets=_in_buckets(sheet.payload if sheet else {}),
        folders=_folders(sheet.payload if sheet else {}),
        values=dict(found.values),
    )


def _part_check(text: str) -> wire.SheetCheck:
    part, faults = read_part(text)
    return wire.SheetCheck(
        kind="part",
        valid=part is not None,
        faults=_faults(faults),
        name=part.part if part else "",
        digest=digest(text.encode("utf-8", "replace")).hex(),
        base="",
        line="",
        steps=[wire.SheetStep(id=s.id, do=s.do, why=s.why) for s in part.steps] if part else [],
        payload=list(part.payload) if part else [],
        in_buckets=_in_buckets(part.payload if part else {}),
        folders=_folders(part.payload if part else {}),
        values={},
    )


def _in_buckets(payload: Mapping[str, PayloadFile]) -> dict[str, str]:
    return {name: about.bucket for name, about in payload.items() if about.bucket is not None}


def _folders(payload: Mapping[str, PayloadFile]) -> dict[str, str]:
    return {name: about.folder for name, about in payload.items() if about.folder is not None}


def _faults(faults: Sequence[Fault]) -> list[wire.SheetFault]:
    return [wire.SheetFault(line=f.line, column=f.column, where=f.where, message=f.message) for f in faults]


@router.post("/build-plans")
def plan(body: wire.BuildRequest, caller: Reader, service: ServiceOf) -> wire.BuildPlan:
    """What a run would do, and every obstacle at once.  Nothing is started."""
    with service.database.reads() as session:
        body = with_parts(session, caller, body)
        found = understand(session, service.reach, caller, body)
    asked = ask(service.reach, caller, body, found)
    with service.database.reads() as session:
        return plan_build(session, service.reach, caller, body, asked)


@router.post("/builds", status_code=202)
def build(body: wire.BuildRequest, caller: Operator, service: ServiceOf, key: Key = None) -> OperationAnswer:
    """Make a version by the steps of a sheet, in a temporary machine.  All obstacles are reported before it starts."""
    with service.database.reads() as session:
        whole = with_parts(session, caller, body)
        found = understand(session, service.reach, caller, whole)
    asked = ask(service.reach, caller, whole, found)

    def make(session: Session) -> OperationAnswer:
        row = record_build(session, service.reach, caller, whole, asked)
        return operation_answers(session, [row])[0]

    return OperationAnswer.model_validate(once(caller, service, key, body, make))


_RUNS = Ordering(BuildRun.operation_id, started=BuildRun.operation_id, sheet=BuildRun.sheet, state=Operation.state)


@router.get("/builds")
def list_builds(
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    sheet: Annotated[str | None, Query(description="Only runs of this sheet.")] = None,
    state: OperationState | None = None,
    made: Annotated[str | None, Query(max_length=200, description="Only the run that made this version.")] = None,
    printed: Annotated[
        str | None,
        Query(min_length=2, max_length=200, description="Only runs of which a step printed or changed this."),
    ] = None,
    sort: Annotated[wire.BuildRunSort, Query(description=REVERSED)] = "-started",
) -> Page[wire.BuildRun]:
    """Build runs, the newest first unless sorted."""
    query = select(BuildRun, Operation).join(Operation, Operation.id == BuildRun.operation_id)
    query = query.where(BuildRun.account_id == caller.account_id)
    if sheet is not None:
        query = query.where(BuildRun.sheet == sheet)
    if state is not None:
        query = query.where(Operation.state == state)
    if printed is not None:
        query = query.where(_told(printed))
    if made is not None:
        query = query.where(Operation.subject == made, Operation.state == "succeeded")
    with reads.session() as session:
        rows, following, total = paging.in_order(session, query, _RUNS, sort)
        items = [wire.BuildRun(**run_fields(row[0], row[1])) for row in rows]
        return Page(items=items, next=following, total=total)


def _told(text: str) -> ColumnElement[bool]:
    """Whether a step of a run printed a text, or says it of what it changed or why it failed; in letters of any case."""
    step = func.jsonb_array_elements(BuildRun.steps).table_valued("value").alias("step")
    value = cast(step.c.value, JSONB)
    lines = func.array_to_string(
        select(func.array_agg(column("line")))
        .select_from(func.jsonb_array_elements_text(func.coalesce(value["changed"], cast([], JSONB))).alias("line"))
        .scalar_subquery(),
        "\n",
    )
    told = [func.coalesce(one, "") for one in (value["output"].astext, value["error"].astext, lines)]
    return exists(
        select(literal(1)).select_from(step).where(or_(*(one.icontains(text, autoescape=True) for one in told)))
    )


@router.get("/builds/{operation}")
def show_build(operation: str, caller: Reader, reads: ReadsOf) -> wire.BuildRunDetails:
    """A run with its sheet, and each step with what it changed and what it printed."""
    with reads.session() as session:
        row = find_run(session, caller, operation)
        done = session.get_one(Operation, operation)
        return wire.BuildRunDetails(
            **run_fields(row, done),
            text=row.text,
            values=row.values,
            payload=row.payload,
            base_digest=row.base_digest,
            steps=[wire.BuildStep.model_validate(step) for step in row.steps],
            figures=[wire.MachineFigure.model_validate(figure) for figure in row.figures],
            delivered=(done.result or {}).get("delivered", []),
            proofs=done.memo.get("proofs", []),
            kept=_kept(done),
        )


@router.post("/builds/{operation}/repeat-plans")
def plan_repeat(operation: str, body: wire.RepeatRequest, caller: Reader, service: ServiceOf) -> wire.BuildPlan:
    """What doing a run again would do, and every obstacle at once.  Nothing is started."""
    with service.database.reads() as session:
        request, repeat = request_again(session, caller, find_run(session, caller, operation), body)
        found = understand(session, service.reach, caller, request, repeat)
    asked = ask(service.reach, caller, request, found, repeat)
    with service.database.reads() as session:
        return plan_build(session, service.reach, caller, request, asked)


@router.post("/builds/{operation}/repeats", status_code=202)
def repeat(
    operation: str, body: wire.RepeatRequest, caller: Operator, service: ServiceOf, key: Key = None
) -> OperationAnswer:
    """Do a run again: the same sheet, values, payload and base.  What it makes stays staged, for seeing what differs."""
    with service.database.reads() as session:
        run = find_run(session, caller, operation)
        repository, commit = run.repository, run.commit
        request, repeated = request_again(session, caller, run, body)
        found = understand(session, service.reach, caller, request, repeated)
    asked = ask(service.reach, caller, request, found, repeated)

    def make(session: Session) -> OperationAnswer:
        row = record_build(session, service.reach, caller, request, asked, repository=repository, commit=commit)
        return operation_answers(session, [row])[0]

    return OperationAnswer.model_validate(once(caller, service, key, body, make))


def _kept(done: Operation) -> wire.KeptMachine | None:
    kept = done.memo.get("kept")
    if kept is None or done.leftovers_removed:
        return None
    return wire.KeptMachine(region=done.params["region"], **kept)


@router.delete("/builds/{operation}/machine", status_code=204)
def drop_machine(operation: str, caller: Operator, service: ServiceOf) -> None:
    """Remove the machine of a failed run now, not when its time is over."""
    with service.database.sessions.begin() as session:
        row = session.get(Operation, operation, with_for_update=CHANGE)
        if row is None or row.account_id != caller.account_id or row.kind != Build.name or not row.memo.get("kept"):
            raise NotFound(
                f"There is no machine of a build run {operation!r}.", advice="`bathotype builds list` shows runs."
            )
        row.memo = {**row.memo, "kept": {**row.memo["kept"], "until": utcnow().isoformat()}}
        audit.record(
            session, caller.account_id, caller.actor, "machine.given-up", row.subject, after={"operation": row.id}
        )
