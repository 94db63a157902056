"""Runs of checks: on a throwaway instance of a version, or on an instance that runs."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Query
from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.errors import Invalid, NotFound, Refused
from bathotype.service.access.principals import Principal
from bathotype.service.answers.operations import operation_answers
from bathotype.service.catalogue import (
    find_version,
    last_checks,
    machine_size_of,
    reference_of,
    regions_from_home,
    require_replica,
)
from bathotype.service.instances import find_instance
from bathotype.service.kinds.proving import CHECKS, ProveParams, start_checks
from bathotype.service.records import CheckRun, Instance, Operation, Version
from bathotype.service.routes.callers import Operator, Reader, ReadsOf, ServiceOf
from bathotype.service.routes.common import Key, once
from bathotype.service.routes.paging import REVERSED, Ordering, Paged
from bathotype.service.routes.route import api_router
from bathotype.service.shares import reference_for
from bathotype.service.state import Service
from bathotype.wire import checks as wire
from bathotype.wire.common import Page
from bathotype.wire.operations import Operation as OperationAnswer

router = api_router(tags=["checks"])


@router.post("/checks", status_code=202)
def check(body: wire.CheckRequest, caller: Operator, service: ServiceOf, key: Key = None) -> OperationAnswer:
    """Judge a version on a throwaway instance of it, or an instance that runs.  The operation fails if a check does."""
    with service.database.reads() as session:
        region = _where(session, caller, body)
    if body.reference is not None:
        _ask_site(service, caller, region, body)

    def make(session: Session) -> OperationAnswer:
        instance = find_instance(session, caller.account_id, body.instance) if body.instance is not None else None
        if instance is not None:
            version = session.get_one(Version, instance.version_id)
        else:
            version = find_version(session, caller, str(body.reference), lock="share")
            require_replica(session, version.id, reference_of(version), region)
        checks = _checks(session, caller, body, version)
        size = instance.machine_size if instance else body.machine_size or machine_size_of(version)
        params = ProveParams(
            version_id=version.id,
            reference=reference_of(version) if instance is None else instance.name,
            region=region,
            machine_size=size,
            checks=checks,
            machine_id=str(instance.site_machine) if instance else "",
            tags=body.tags,
            ready_seconds=body.ready_seconds,
        )
        row = start_checks(session, caller, params, instance_id=instance.id if instance else None)
        return operation_answers(session, [row])[0]

    return OperationAnswer.model_validate(once(caller, service, key, body, make))


def _where(session: Session, caller: Principal, body: wire.CheckRequest) -> str:
    """The region.  Raises `Refused` where nothing can be judged."""
    if body.instance is not None:
        instance = find_instance(session, caller.account_id, body.instance)
        if instance.site_machine is None or instance.state != "running":
            raise Refused(f"{instance.name} is {instance.state}; only one that runs is judged.", code="state-forbids")
        return instance.region
    version = find_version(session, caller, str(body.reference))
    held = regions_from_home(session, version)
    if not held:
        raise Refused(f"{reference_of(version)} is in no region: there is nothing to start.", code="state-forbids")
    return body.region or held[0]


def _ask_site(service: Service, caller: Principal, region: str, body: wire.CheckRequest) -> None:
    """Raise `Refused` where the site cannot run a throwaway instance."""
    service.reach.check_region(region)
    limits = service.reach.site(region, caller.account).limits(region)
    if body.machine_size is not None and body.machine_size not in limits.machine_sizes:
        sizes = ", ".join(limits.machine_sizes)
        raise Refused(f"The site has no machine size {body.machine_size!r}. Its sizes are {sizes}.", code="size")
    used, most = limits.quotas.get("machines", (0, 1))
    if used + 1 > most:
        raise Refused(f"One machine more would exceed the site's quota ({used} of {most} in use).", code="quota")


def _checks(session: Session, caller: Principal, body: wire.CheckRequest, version: Version) -> list[dict[str, Any]]:
    if body.checks is not None:
        given: list[dict[str, Any]] = CHECKS.dump_python(body.checks, mode="json", by_alias=True)
        return given
    run = last_checks(session, version.id, caller.account_id)
    if body.instance is not None and run is None:
        raise Invalid("No checks are known of its version.", advice="Give checks: `--checks FILE`.")
    return list(run.checks) if run is not None else []


@router.get("/checks/{operation}")
def show_checks(operation: str, caller: Reader, reads: ReadsOf) -> wire.CheckRun:
    """A run of checks, with what was seen of each."""
    with reads.session() as session:
        row = session.get(CheckRun, operation)
        if row is None or row.account_id != caller.account_id:
            raise NotFound(f"There is no run of checks {operation!r}.", advice="`bathotype checks list` shows them.")
        return _answers(session, caller, [row])[0]


_RUNS = Ordering(
    CheckRun.operation_id, started=CheckRun.operation_id, region=CheckRun.region, size=CheckRun.machine_size
)


@router.get("/versions/{reference:path}/checks")
def list_checks(
    reference: str,
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    passed: bool | None = None,
    sort: Annotated[wire.CheckRunSort, Query(description=REVERSED)] = "-started",
) -> Page[wire.CheckRun]:
    """Runs of checks on a version and on its instances, the newest first unless sorted."""
    with reads.session() as session:
        version = find_version(session, caller, reference)
        query = select(CheckRun).where(CheckRun.version_id == version.id, CheckRun.account_id == caller.account_id)
        if passed is not None:
            query = query.where(CheckRun.passed == passed)
        rows, following, total = paging.in_order(session, query, _RUNS, sort)
        return Page(items=_answers(session, caller, [row[0] for row in rows]), next=following, total=total)


def _answers(session: Session, caller: Principal, rows: Any) -> list[wire.CheckRun]:
    operations = {
        o.id: o for o in session.scalars(select(Operation).where(Operation.id.in_([row.operation_id for row in rows])))
    }
    names = dict(
        session.execute(
            select(Instance.id, Instance.name).where(
                Instance.id.in_([row.instance_id for row in rows if row.instance_id])
            )
        ).all()
    )
    return [
        wire.CheckRun(
            operation=row.operation_id,
            state=operations[row.operation_id].state,
            reference=reference_for(session, session.get_one(Version, row.version_id), caller.account_id),
            instance=names.get(row.instance_id or ""),
            region=row.region,
            machine_size=row.machine_size,
            passed=row.passed,
            boot_seconds=row.boot_seconds,
            at=row.at,
            judgements=[wire.JudgementAnswer.model_validate(one) for one in row.judgements],
        )
        for row in rows
    ]
