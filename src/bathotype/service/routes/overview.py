"""What a person sees first: an account, a line, a version, an instance, the regions."""

from __future__ import annotations

import contextlib
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict
from datetime import timedelta
from typing import Annotated

from fastapi import Query
from sqlalchemy import func, select

from bathotype.core.errors import BathotypeError
from bathotype.service.answers.overview import account_overview
from bathotype.service.answers.storage import storage_answer
from bathotype.service.answers.things import instance_overview, line_history, line_overview, version_overview
from bathotype.service.catalogue import find_line
from bathotype.service.instances import find_instance
from bathotype.service.records import Instance, Line, Replica, Version
from bathotype.service.records.base import utcnow
from bathotype.service.records.fleet import IS_PRESENT
from bathotype.service.routes.callers import Reader, ReadsOf, ServiceOf
from bathotype.service.routes.route import api_router
from bathotype.service.shares import find_usable
from bathotype.service.state import Service
from bathotype.sites.protocol import SiteLimits
from bathotype.wire import overview as wire

router = api_router(tags=["overview"])


@router.get("/overview")
def overview(caller: Reader, reads: ReadsOf) -> wire.Overview:
    """What is seen first of the account: what needs somebody, what goes on, what runs, which dates come near."""
    with reads.session() as session:
        return account_overview(session, caller)


@router.get("/lines/{name}/overview")
def overview_of_line(name: str, caller: Reader, reads: ReadsOf) -> wire.LineOverview:
    """What is seen first of a line: its sentence, what can be done with it, which account runs which version where."""
    with reads.session() as session:
        return line_overview(session, caller, find_line(session, caller, name))


@router.get("/lines/{name}/history")
def history_of_line(
    name: str, caller: Reader, reads: ReadsOf, days: Annotated[int, Query(ge=1, le=1000)] = 120
) -> wire.History:
    """How many instances ran of each version of a line, day by day."""
    with reads.session() as session:
        return line_history(session, caller, find_line(session, caller, name), days)


@router.get("/versions/{reference:path}/overview")
def overview_of_version(reference: str, caller: Reader, service: ServiceOf, reads: ReadsOf) -> wire.VersionOverview:
    """What is seen first of a version: its sentence, what can be done with it, who runs it."""
    with reads.session() as session:
        version, shares = find_usable(session, caller, reference)
        return version_overview(session, caller, version, shares, service.reach.regions)


@router.get("/instances/{instance}/overview")
def overview_of_instance(instance: str, caller: Reader, service: ServiceOf) -> wire.InstanceOverview:
    """What is seen first of an instance, with its console's text as far as its site answers."""
    with service.database.reads() as session:
        row = find_instance(session, caller.account_id, instance)
    console = ""
    if row.site_machine and row.ended_at is None:
        with contextlib.suppress(BathotypeError):
            console = service.reach.site(row.region, caller.account).console(row.site_machine)
    with service.database.reads() as session:
        return instance_overview(session, caller, find_instance(session, caller.account_id, row.id), console)


@router.get("/regions")
def regions(caller: Reader, service: ServiceOf) -> list[wire.RegionState]:
    """Every region as the account sees it: zones, sizes, quotas, and whether its site answers now.

    A region that is out is listed all the same, with the reason.
    """
    names = service.reach.regions
    with ThreadPoolExecutor(max_workers=8) as threads:
        limits = list(threads.map(lambda name: _limits(service, caller.account, name), names))
    with service.database.reads() as session:
        own = select(Version.id).join(Line).where(Line.account_id == caller.account_id)
        replicas = session.execute(
            select(Replica.region, Replica.state, func.count())
            .where(Replica.version_id.in_(own))
            .group_by(Replica.region, Replica.state)
        ).all()
        running = session.execute(
            select(Instance.region, func.count())
            .where(Instance.account_id == caller.account_id, IS_PRESENT)
            .group_by(Instance.region)
        ).all()
    held = {(region, state): count for region, state, count in replicas}
    present = dict(running)
    return [
        wire.RegionState(
            name=name,
            reachable=found is not None,
            problem=problem,
            zones=list(found.regions.get(name, ())) if found else [],
            machine_sizes=list(found.machine_sizes) if found else [],
            sizes=[wire.SizeState(name=n, **asdict(s)) for n, s in found.machine_sizes.items()] if found else [],
            machines=wire.MachinesOffered(**asdict(found.platform(name))) if found else None,
            largest_disk=found.largest_disk if found else None,
            quotas=found.quotas if found else {},
            running=present.get(name, 0),
            versions=held.get((name, "ready"), 0),
            damaged=held.get((name, "damaged"), 0),
        )
        for name, (found, problem) in zip(names, limits, strict=True)
    ]


@router.get("/storage")
def storage(
    caller: Reader,
    reads: ReadsOf,
    days: Annotated[int, Query(ge=1, le=1000, description="How far back.")] = 120,
) -> wire.Storage:
    """The bytes that the account's lines need of each region's store, day by day."""
    with reads.session() as session:
        return storage_answer(session, caller.account_id, utcnow().date() - timedelta(days=days))


def _limits(service: Service, account: str, region: str) -> tuple[SiteLimits | None, str]:
    try:
        return service.reach.site(region, account).limits(region), ""
    except BathotypeError as error:
        return None, error.message
