"""Machines at the sites, and preflight."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from typing import Annotated

from fastapi import Query

from bathotype.core.errors import Unavailable
from bathotype.service.answers.machines import machine_answers
from bathotype.service.catalogue import find_line
from bathotype.service.kinds.generalizing import profile_for
from bathotype.service.numbering import number_problem
from bathotype.service.preflight import find_machine, inspect
from bathotype.service.routes.callers import Reader, ServiceOf
from bathotype.service.routes.route import api_router
from bathotype.service.state import Service
from bathotype.sites.protocol import SiteMachine
from bathotype.wire import machines as wire
from bathotype.wire.versions import CaptureMode

router = api_router("/machines", tags=["machines"])


@router.get("")
def list_machines(caller: Reader, service: ServiceOf, region: Annotated[str | None, Query()] = None) -> wire.Machines:
    """Every machine of the account, in one region or all.  Of several regions, one that is out does not fail the rest."""
    if region:
        found = list(service.reach.site(service.reach.check_region(region), caller.account).machines(region))
        problems: dict[str, str] = {}
    else:
        found, problems = _everywhere(service, caller.account)
    with service.database.reads() as session:
        items = machine_answers(session, sorted(found, key=lambda m: (m.region, m.name)))
        return wire.Machines(items=items, problems=problems)


def _everywhere(service: Service, account: str) -> tuple[list[SiteMachine], dict[str, str]]:
    """The machines of all regions, and what is wrong with those that do not answer.  Raises where none does."""

    def look(region: str) -> list[SiteMachine] | Unavailable:
        try:
            return list(service.reach.site(region, account).machines(region))
        except Unavailable as error:
            return error

    regions = service.reach.regions
    with ThreadPoolExecutor(max_workers=8) as threads:
        looked = dict(zip(regions, threads.map(look, regions), strict=True))
    problems = {region: found for region, found in looked.items() if isinstance(found, Unavailable)}
    if problems and len(problems) == len(regions):
        raise next(iter(problems.values()))
    machines = [machine for found in looked.values() if isinstance(found, list) for machine in found]
    return machines, {region: error.message for region, error in problems.items()}


@router.get("/{machine}")
def show_machine(machine: str, caller: Reader, service: ServiceOf, region: str | None = None) -> wire.Machine:
    """One machine by name or id."""
    found = find_machine(service.reach, caller.account, machine, region)
    with service.database.reads() as session:
        return machine_answers(session, [found])[0]


@router.get("/{machine}/inspection")
def inspect_machine(
    machine: str,
    caller: Reader,
    service: ServiceOf,
    region: str | None = None,
    mode: CaptureMode | None = None,
    profile: str = "linux",
    line: str | None = None,
    number: str | None = None,
    tag: Annotated[list[str] | None, Query(description="KEY=VALUE, may be repeated.")] = None,
) -> wire.Inspection:
    """Preflight: every obstacle to a capture and every warning at once.  Changes nothing."""
    found = find_machine(service.reach, caller.account, machine, region)
    how: CaptureMode = mode or ("live" if found.state == "running" else "stopped")
    taken = None
    if line and number:
        with service.database.reads() as session:
            taken = number_problem(session, find_line(session, caller, line), number)
    tags = dict(t.partition("=")[::2] for t in tag or [])
    result = inspect(
        service.reach,
        caller.account,
        found,
        mode=how,
        profile=None if how == "as-is" else profile_for(profile),
        tags=tags,
        scratch_bytes=service.settings.scratch_bytes,
        number_taken=taken,
    )
    with service.database.reads() as session:
        machine_answer = machine_answers(session, [found])[0]
    return wire.Inspection(
        machine=machine_answer,
        mode=how,
        capturable=result.capturable,
        remarks=result.remarks.items,
        used_bytes=result.used_bytes,
    )
