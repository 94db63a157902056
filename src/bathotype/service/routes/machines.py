"""Machines at the sites, and preflight."""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Annotated

from fastapi import Query
from sqlalchemy import select

from bathotype.core.errors import BathotypeError, Unavailable
from bathotype.core.guest.agent import AgentRefused
from bathotype.core.units import iec
from bathotype.service.answers.machines import machine_answers
from bathotype.service.catalogue import find_line
from bathotype.service.kinds.generalizing import profile_for
from bathotype.service.numbering import number_problem
from bathotype.service.preflight import find_machine, inspect
from bathotype.service.records import Instance
from bathotype.service.records.fleet import IS_PRESENT
from bathotype.service.routes.callers import Reader, ServiceOf
from bathotype.service.routes.paging import Paged
from bathotype.service.routes.route import api_router
from bathotype.service.state import Service
from bathotype.sites.protocol import SiteMachine
from bathotype.wire import machines as wire
from bathotype.wire.versions import CaptureMode

router = api_router("/machines", tags=["machines"])
_AGENT_SECONDS = 1.5  # an agent that is there answers in milliseconds


@router.get("")
def list_machines(
    caller: Reader,
    service: ServiceOf,
    paging: Paged,
    region: Annotated[str | None, Query()] = None,
    state: wire.MachineState | None = None,
    find: Annotated[str | None, Query(max_length=200, description="Part of the name, or an id, or an address.")] = None,
    launched: Annotated[bool | None, Query(description="Only instances, or only what is none.")] = None,
    agents: Annotated[bool, Query(description="Ask each running machine's agent for its operating system.")] = False,
) -> wire.Machines:
    """Machines of the account, by name, in one region or all.  Of several regions, one that is out does not fail the rest."""
    if region:
        found = list(service.reach.site(service.reach.check_region(region), caller.account).machines(region))
        problems: dict[str, str] = {}
    else:
        found, problems = _everywhere(service, caller.account)
    if state:
        found = [m for m in found if m.state == state]
    if launched is not None:
        with service.database.reads() as session:
            here = Instance.account_id == caller.account_id, Instance.site_machine.is_not(None), IS_PRESENT
            instances = set(session.scalars(select(Instance.site_machine).where(*here)))
        found = [m for m in found if (m.id in instances) == launched]
    if find:
        found = [m for m in found if find in m.name or find in (m.id, m.address)]
    total = len(found) if paging.counted else None
    after = paging.after_texts(3)
    later = sorted((m for m in found if after is None or _key(m) > after), key=_key)
    page, following = paging.cut(later[: paging.fetched], _key)
    systems = _systems(service, caller.account, page) if agents else {}
    with service.database.reads() as session:
        items = machine_answers(session, list(page), systems)
        return wire.Machines(items=items, next=following, total=total, problems=problems)


def _systems(service: Service, account: str, machines: Sequence[SiteMachine]) -> dict[str, str | None]:
    """The operating system of each running machine, as its agent tells it; None where none answers."""

    def ask(machine: SiteMachine) -> str | None:
        try:
            with service.reach.site(machine.region, account).agent(machine.id, timeout=_AGENT_SECONDS) as agent:
                return agent.os_info().get("pretty-name", "an unnamed system")[:200]
        except (BathotypeError, AgentRefused, OSError):
            return None

    running = [machine for machine in machines if machine.state == "running"]
    with ThreadPoolExecutor(max_workers=16) as threads:
        return dict(zip((m.id for m in running), threads.map(ask, running), strict=True))


def _key(machine: SiteMachine) -> list[str]:
    return [machine.region, machine.name, machine.id]


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
    with service.reader() as reader:
        result = inspect(
            reader,
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
    used = f": {iec(result.used_bytes)} in use are read" if result.used_bytes else ""
    return wire.Inspection(
        verb="capture",
        subject=found.name,
        blockers=result.remarks.refusals,
        warnings=result.remarks.warnings,
        effects=[f"The boot disk is read from a snapshot ({how}){used}; the machine stays as it is."],
        machine=machine_answer,
        mode=how,
        capturable=result.capturable,
        remarks=result.remarks.items,
        used_bytes=result.used_bytes,
    )
