"""Machines at the sites, and preflight."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query

from bathotype.service.answers.machines import machine_answers
from bathotype.service.catalogue import find_line
from bathotype.service.kinds.generalizing import profile_for
from bathotype.service.numbering import number_problem
from bathotype.service.preflight import find_machine, inspect
from bathotype.service.routes.callers import Reader, ServiceOf
from bathotype.service.routes.route import api_router
from bathotype.sites.protocol import SiteMachine
from bathotype.wire import machines as wire
from bathotype.wire.common import Page
from bathotype.wire.versions import CaptureMode

router = api_router("/machines", tags=["machines"])


@router.get("")
def list_machines(
    caller: Reader, service: ServiceOf, region: Annotated[str | None, Query()] = None
) -> Page[wire.Machine]:
    """Every machine of the account, in one region or all."""
    found: list[SiteMachine] = []
    for place in [service.reach.check_region(region)] if region else service.reach.regions:
        found += service.reach.site(place, caller.account).machines(place)
    with service.database.reads() as session:
        return Page[wire.Machine](items=machine_answers(session, sorted(found, key=lambda m: (m.region, m.name))))


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
