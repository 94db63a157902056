"""Machines at the sites, and preflight."""

from __future__ import annotations

from typing import Annotated, Literal

from fastapi import Query
from sqlalchemy import select

from bathotype.service.catalogue import find_line, reference_of
from bathotype.service.preflight import find_machine, inspect, number_problem
from bathotype.service.records import BaseDisk, Instance, Version
from bathotype.service.routes.common import Reader, ServiceOf, api_router
from bathotype.service.state import Service
from bathotype.service.work.capture import profile_for
from bathotype.sites.protocol import SiteMachine
from bathotype.wire import machines as wire
from bathotype.wire.common import Page

router = api_router("/machines", tags=["machines"])


def _answers(service: Service, machines: list[SiteMachine]) -> list[wire.Machine]:
    with service.database.reads() as session:
        ids = [m.id for m in machines]
        versions = dict(
            session.execute(
                select(Instance.site_machine, Instance.version_id).where(Instance.site_machine.in_(ids))
            ).all()
        )
        sources = [m.created_from for m in machines if m.created_from]
        bases = dict(
            session.execute(
                select(BaseDisk.site_disk, BaseDisk.version_id).where(BaseDisk.site_disk.in_(sources))
            ).all()
        )
        wanted = {*versions.values(), *bases.values()}
        names = {v.id: reference_of(v) for v in session.scalars(select(Version).where(Version.id.in_(wanted)))}
    return [
        wire.Machine(
            id=m.id,
            name=m.name,
            region=m.region,
            zone=m.zone,
            size=m.size,
            state=m.state,
            address=m.address,
            tags=m.tags,
            disks=[wire.MachineDisk(id=d.id, name=d.name, size=d.size, boot=d.boot) for d in m.disks],
            version=names.get(versions.get(m.id) or bases.get(m.created_from or "") or ""),
            created_at=m.created_at,
        )
        for m in machines
    ]


@router.get("")
def list_machines(
    caller: Reader, service: ServiceOf, region: Annotated[str | None, Query()] = None
) -> Page[wire.Machine]:
    """Every machine of the account, in one region or all."""
    found: list[SiteMachine] = []
    for place in [service.reach.check_region(region)] if region else service.reach.regions:
        found += service.reach.site(place, caller.account).machines(place)
    return Page[wire.Machine](items=_answers(service, sorted(found, key=lambda m: (m.region, m.name))))


@router.get("/{machine}")
def show_machine(machine: str, caller: Reader, service: ServiceOf, region: str | None = None) -> wire.Machine:
    """One machine by name or id."""
    return _answers(service, [find_machine(service.reach, caller.account, machine, region)])[0]


@router.get("/{machine}/inspection")
def inspect_machine(
    machine: str,
    caller: Reader,
    service: ServiceOf,
    region: str | None = None,
    mode: Literal["live", "stopped", "as-is"] | None = None,
    profile: str = "linux",
    line: str | None = None,
    number: str | None = None,
    tag: Annotated[list[str] | None, Query(description="KEY=VALUE, may be repeated.")] = None,
) -> wire.Inspection:
    """Preflight: every obstacle to a capture and every warning at once.  Changes nothing."""
    found = find_machine(service.reach, caller.account, machine, region)
    how = mode or ("live" if found.state == "running" else "stopped")
    taken = None
    if line and number:
        with service.database.reads() as session:
            taken = number_problem(session, find_line(session, caller, line).id, f"{line}@{number}", number)
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
    return wire.Inspection(
        machine=_answers(service, [found])[0],
        mode=how,
        capturable=result.capturable,
        remarks=result.remarks,
        used_bytes=result.used_bytes,
    )
