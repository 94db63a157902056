"""Replicas and placements."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.errors import Refused
from bathotype.core.lifecycle.states import VersionState
from bathotype.service import audit
from bathotype.service.answers.operations import operation_answers
from bathotype.service.catalogue import find_line, find_version, reference_of
from bathotype.service.placements import (
    OFFERED,
    drain_blockers,
    plan_move,
    plan_placement,
    set_placement,
    standing_disks,
    start_drain,
    start_replicate,
)
from bathotype.service.records import Placement, Replica
from bathotype.service.routes.callers import Operator, Reader, ReadsOf, ServiceOf
from bathotype.service.routes.common import Key, once
from bathotype.service.routes.route import api_router
from bathotype.service.state import Service
from bathotype.wire import regions as wire
from bathotype.wire.operations import Operation

router = api_router(tags=["regions"])
_REF = "/versions/{reference:path}"


@router.get(_REF + "/replicas")
def list_replicas(reference: str, caller: Reader, reads: ReadsOf) -> list[wire.Replica]:
    """Where a version is."""
    with reads.session() as session:
        version = find_version(session, caller, reference)
        rows = session.scalars(
            select(Replica).where(Replica.version_id == version.id, Replica.state != "removed").order_by(Replica.region)
        )
        out = []
        for row in rows:
            zones = standing_disks(session, version.id, row.region)
            out.append(
                wire.Replica(
                    region=row.region, state=row.state, copies=row.copies, standing=zones.total(), zones=dict(zones),
                    multi_zone=row.multi_zone, verified_at=row.verified_at,
                )
            )  # fmt: skip
        return out


@router.post(_REF + "/replication-plan")
def plan_replication(
    reference: str, body: wire.ReplicateRequest, caller: Reader, service: ServiceOf, reads: ReadsOf
) -> wire.ReplicationPlan:
    """The bytes that a replication would move, from where, and how long that takes at the measured rate."""
    for place in body.to:
        service.reach.check_region(place.region)
    with reads.session() as session:
        version = find_version(session, caller, reference)
        moves = [plan_move(session, service.reach, version, place) for place in body.to]
        return wire.ReplicationPlan(reference=reference_of(version), moves=moves)


@router.post(_REF + "/replications", status_code=202)
def replicate(
    reference: str, body: wire.ReplicateRequest, caller: Operator, service: ServiceOf, key: Key = None
) -> wire.Replications:
    """Bring a version to regions, or its copies there to another number: one operation for each region."""
    for place in body.to:
        service.reach.check_region(place.region)
    if len({p.region for p in body.to}) != len(body.to):
        raise Refused("A region is named twice.", code="invalid")

    def make(session: Session) -> wire.Replications:
        version = find_version(session, caller, reference, lock="share")
        if version.state in (VersionState.RETIRED, VersionState.PURGED):
            raise Refused(
                f"{reference_of(version)} is {version.state}: it is not replicated any more.", code="state-forbids"
            )
        places = sorted(body.to, key=lambda p: p.region)
        rows = [start_replicate(session, caller, version, place) for place in places]
        audit.record(
            session, caller.account_id, caller.actor, "replicate.requested", reference_of(version),
            after={"to": [p.model_dump() for p in body.to], "operations": [r.id for r in rows]},
        )  # fmt: skip
        return wire.Replications(operations=operation_answers(session, rows))

    return wire.Replications.model_validate(once(caller, service, key, body, make))


@router.post(_REF + "/drain", status_code=202)
def drain(reference: str, region: str, caller: Operator, service: ServiceOf) -> Operation:
    """Remove a version from a region, unless something there still needs it."""
    service.reach.check_region(region)
    with service.database.sessions.begin() as session:
        version = find_version(session, caller, reference, lock="update")
        held = session.scalars(select(Replica).where(Replica.version_id == version.id, Replica.state == "ready")).all()
        if region not in {r.region for r in held}:
            raise Refused(f"{reference_of(version)} has no sound replica in {region}.", code="no-replica")
        blockers = []
        if len(held) == 1:
            blockers.append(f"It is the last replica of {reference_of(version)}. Retire and purge it instead.")
        elif version.state in OFFERED:
            blockers = drain_blockers(session, version.line, region, {region})
            place = session.get(Placement, (version.line_id, region))
            if place is not None and not place.leaving:
                blockers.append(f"The placement of {version.line.name} names {region}. Change the placement instead.")
        if blockers:
            raise Refused(" ".join(blockers), code="blocked")
        row = start_drain(session, caller, version, region)
        audit.record(
            session, caller.account_id, caller.actor, "drain.requested", reference_of(version),
            after={"region": region, "operation": row.id},
        )  # fmt: skip
        return operation_answers(session, [row])[0]


@router.get("/lines/{name}/placement")
def show_placement(name: str, caller: Reader, reads: ReadsOf) -> wire.Placement:
    """Where a line's released versions shall be; no regions where it has no placement."""
    with reads.session() as session:
        return _placement(session, find_line(session, caller, name).id, name)


def _placement(session: Session, line_id: str, name: str) -> wire.Placement:
    standing = (Placement.line_id == line_id, ~Placement.leaving)
    rows = session.scalars(select(Placement).where(*standing).order_by(Placement.region)).all()
    places = [wire.RegionPlace(region=r.region, copies=r.copies, multi_zone=r.multi_zone) for r in rows]
    return wire.Placement(line=name, regions=places, set_by=rows[0].set_by if rows else None)


@router.post("/lines/{name}/placement-plan")
def plan_a_placement(
    name: str, body: wire.PlacementRequest, caller: Reader, service: ServiceOf, reads: ReadsOf
) -> wire.PlacementPlan:
    """What a new placement would do, and what forbids it."""
    _check(service, body)
    with reads.session() as session:
        return plan_placement(session, find_line(session, caller, name), body.regions)


@router.put("/lines/{name}/placement")
def change_placement(
    name: str, body: wire.PlacementRequest, caller: Operator, service: ServiceOf
) -> wire.PlacementChange:
    """Change where a line's released versions shall be, and start what brings them there."""
    _check(service, body)
    with service.database.sessions.begin() as session:
        line = find_line(session, caller, name, lock=True)
        before = _placement(session, line.id, name).model_dump()["regions"]
        rows = set_placement(session, caller, line, body.regions)
        audit.record(
            session, caller.account_id, caller.actor, "placement.changed", name,
            before={"regions": before}, after={"regions": [p.model_dump() for p in body.regions]},
        )  # fmt: skip
        return wire.PlacementChange(
            placement=_placement(session, line.id, name), operations=operation_answers(session, rows)
        )


def _check(service: Service, body: wire.PlacementRequest) -> None:
    for place in body.regions:
        service.reach.check_region(place.region)
    if len({p.region for p in body.regions}) != len(body.regions):
        raise Refused("A region is named twice.", code="invalid")
