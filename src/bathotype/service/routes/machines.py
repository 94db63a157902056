"""Machines at the sites."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Annotated

from fastapi import Query
from sqlalchemy import select

from bathotype.core.errors import BathotypeError, Unavailable
from bathotype.core.guest.agent import AgentRefused
from bathotype.service.answers.machines import machine_answers
from bathotype.service.preflight import find_machine
from bathotype.service.records import Instance
from bathotype.service.records.fleet import IS_PRESENT
from bathotype.service.routes.callers import Reader, ServiceOf
from bathotype.service.routes.paging import REVERSED, Paged
from bathotype.service.routes.route import api_router
from bathotype.service.state import Service
from bathotype.sites.protocol import SiteMachine
from bathotype.wire import machines as wire

router = api_router("/machines", tags=["machines"])
_AGENT_SECONDS = 1.5  # an agent that is there answers in milliseconds

_KEYS: dict[str, Callable[[SiteMachine], list[str]]] = {
    "region": lambda machine: [machine.region, machine.name, machine.id],
    "name": lambda machine: [machine.name, machine.region, machine.id],
    "state": lambda machine: [machine.state, machine.name, machine.id],
}


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
    sort: Annotated[wire.MachineSort, Query(description=REVERSED)] = "region",
) -> wire.Machines:
    """Machines of the account, by region and name unless sorted, in one region or all.  Of several regions, one that is
    out does not fail the rest."""
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
    key, falling = _KEYS[sort.removeprefix("-")], sort.startswith("-")
    if (after := paging.after_texts(3)) is not None:
        found = [m for m in found if (key(m) < after if falling else key(m) > after)]
    page, following = paging.cut(sorted(found, key=key, reverse=falling)[: paging.fetched], key)
    systems = _systems(service, caller.account, page) if agents else {}
    with service.database.reads() as session:
        items = machine_answers(session, list(page), systems)
        return wire.Machines(items=items, next=following, total=total, problems=problems)


def _systems(service: Service, account: str, machines: Sequence[SiteMachine]) -> dict[str, str | None]:
    """The operating system of each running machine, as its agent reports it; None where none answers."""

    def ask(machine: SiteMachine) -> str | None:
        try:
            with service.reach.site(machine.region, account).agent(machine.id, timeout=_AGENT_SECONDS) as agent:
                return agent.os_info().get("pretty-name", "an unnamed system")[:200]
        except (BathotypeError, AgentRefused, OSError):
            return None

    running = [machine for machine in machines if machine.state == "running"]
    with ThreadPoolExecutor(max_workers=16) as threads:
        return dict(zip((m.id for m in running), threads.map(ask, running), strict=True))


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
