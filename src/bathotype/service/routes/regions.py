"""Replicas and placements."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated

from fastapi import Query
from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.contents.platform import PlatformOffered, unmet
from bathotype.core.errors import Refused, Unavailable
from bathotype.core.formats.catalogue import FORMATS, READ_ONLY
from bathotype.core.lifecycle.states import VersionState
from bathotype.core.units import iec, plural
from bathotype.service import audit
from bathotype.service.access.principals import Principal
from bathotype.service.answers.operations import operation_answers
from bathotype.service.answers.replicas import replica_answers
from bathotype.service.catalogue import find_line, find_version, needs_of, reference_of
from bathotype.service.kinds.drain import plan_drain, start_drain
from bathotype.service.placements import plan_move, plan_placement, set_placement, start_replicate
from bathotype.service.records import Link, Placement, Version
from bathotype.service.routes.callers import Operator, Reader, ReadsOf, ServiceOf
from bathotype.service.routes.common import Key, once
from bathotype.service.routes.conditions import Conditional
from bathotype.service.routes.paging import REVERSED, Ordering, Paged
from bathotype.service.routes.route import api_router
from bathotype.service.state import Service
from bathotype.wire import regions as wire
from bathotype.wire.common import Page, Plan
from bathotype.wire.operations import Operation
from bathotype.wire.versions import VersionSort

router = api_router(tags=["regions"])
_REF = "/versions/{reference:path}"


@router.get(_REF + "/replicas")
def list_replicas(reference: str, caller: Reader, reads: ReadsOf) -> list[wire.Replica]:
    """Where a version is."""
    with reads.session() as session:
        version = find_version(session, caller, reference)
        return replica_answers(session, [version.id])[version.id]


_VERSIONS = Ordering(Version.id, number=Version.sort_key, made=Version.id)


@router.get("/lines/{name}/replicas")
def replicas_of_line(
    name: str,
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    sort: Annotated[VersionSort, Query(description=REVERSED)] = "-number",
) -> Page[wire.VersionReplicas]:
    """Where each version of a line is, the newest version first unless sorted; purged ones are left out."""
    with reads.session() as session:
        line = find_line(session, caller, name)
        query = select(Version).where(Version.line_id == line.id, Version.state != VersionState.PURGED)
        rows, following, total = paging.in_order(session, query, _VERSIONS, sort)
        versions = [row[0] for row in rows]
        found = replica_answers(session, [version.id for version in versions])
        items = [
            wire.VersionReplicas(reference=f"{line.name}@{v.number}", state=v.state, replicas=found[v.id])
            for v in versions
        ]
        return Page[wire.VersionReplicas](items=items, next=following, total=total)


@router.post(_REF + "/replication-plan")
def plan_replication(
    reference: str, body: wire.ReplicateRequest, caller: Reader, service: ServiceOf, reads: ReadsOf
) -> wire.ReplicationPlan:
    """The bytes that a replication would move, from where, and how long that takes at the measured rate."""
    for place in body.to:
        service.reach.check_region(place.region)
    offered = _offered(service, caller, body)
    with reads.session() as session:
        version = find_version(session, caller, reference)
        moves = [
            _with_needs(plan_move(session, service.reach, version, place), version, offered[place.region])
            for place in body.to
        ]
        return wire.ReplicationPlan(
            verb="replicate",
            subject=reference_of(version),
            blockers=[f"{move.region}: {blocker}" for move in moves for blocker in move.blockers],
            warnings=[],
            effects=[_effect(move) for move in moves if not move.blockers],
            reference=reference_of(version),
            moves=moves,
        )


def _offered(service: Service, caller: Principal, body: wire.ReplicateRequest) -> dict[str, PlatformOffered]:
    """What machines of the regions have; nothing is known of one that is out.  Asked before any transaction is open."""
    found = {}
    for place in body.to:
        try:
            found[place.region] = service.reach.site(place.region, caller.account).limits().platform(place.region)
        except Unavailable:
            found[place.region] = PlatformOffered()
    return found


def _with_needs(move: wire.Move, version: Version, offered: PlatformOffered) -> wire.Move:
    """A move with what forbids launches in its region."""
    lacking = unmet(needs_of(version), offered, move.region)
    return move.model_copy(update={"blockers": [*move.blockers, *lacking]}) if lacking else move


def _effect(move: wire.Move) -> str:
    moved = f"{iec(move.bytes)} from {move.source}" if move.source else "it is there already"
    return f"{move.region}: {moved}; {plural(move.copies, 'base disk')} kept ready, {move.copies_now} now."


@router.post(_REF + "/replications", status_code=202)
def replicate(
    reference: str, body: wire.ReplicateRequest, caller: Operator, service: ServiceOf, key: Key = None
) -> wire.Replications:
    """Bring a version to regions, or its copies there to another number: one operation for each region."""
    for place in body.to:
        service.reach.check_region(place.region)
    if len({p.region for p in body.to}) != len(body.to):
        raise Refused("A region is named twice.", code="invalid")

    offered = _offered(service, caller, body)

    def make(session: Session) -> wire.Replications:
        version = find_version(session, caller, reference, lock="share")
        if lacking := [why for region, has in offered.items() for why in unmet(needs_of(version), has, region)]:
            raise Refused(f"{reference_of(version)} could not be launched there: {' '.join(lacking)}", code="needs")
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


@router.get(_REF + "/drain-plan")
def drain_plan(reference: str, region: str, caller: Reader, service: ServiceOf, reads: ReadsOf) -> Plan:
    """What removing a version from a region would do, and what still needs it there."""
    service.reach.check_region(region)
    with reads.session() as session:
        return plan_drain(session, find_version(session, caller, reference), region)


@router.post(_REF + "/drain", status_code=202)
def drain(reference: str, region: str, caller: Operator, service: ServiceOf) -> Operation:
    """Remove a version from a region, unless something there still needs it."""
    service.reach.check_region(region)
    with service.database.sessions.begin() as session:
        version = find_version(session, caller, reference, lock="update")
        if blockers := plan_drain(session, version, region).blockers:
            raise Refused(" ".join(blockers), code="blocked")
        row = start_drain(session, caller, version, region)
        audit.record(
            session, caller.account_id, caller.actor, "drain.requested", reference_of(version),
            after={"region": region, "operation": row.id},
        )  # fmt: skip
        return operation_answers(session, [row])[0]


@router.get("/lines/{name}/placement")
def show_placement(name: str, caller: Reader, reads: ReadsOf) -> wire.Placement:
    """The regions where a line's released versions are kept; none where it has no placement."""
    with reads.session() as session:
        return _placement(session, find_line(session, caller, name).id, name)


def _placement(session: Session, line_id: str, name: str) -> wire.Placement:
    standing = (Placement.line_id == line_id, ~Placement.leaving)
    rows = session.scalars(select(Placement).where(*standing).order_by(Placement.position, Placement.region)).all()
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
    name: str, body: wire.PlacementRequest, caller: Operator, service: ServiceOf, conditions: Conditional
) -> wire.PlacementChange:
    """Change the regions where a line's released versions are kept, and start what brings them there."""
    _check(service, body)
    with service.database.sessions.begin() as session:
        line = find_line(session, caller, name, lock=True)
        seen = _placement(session, line.id, name)
        conditions.check(f"The placement of {name}", seen)
        before = seen.model_dump()["regions"]
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


@router.get("/links")
def list_links(caller: Reader, service: ServiceOf, reads: ReadsOf) -> list[wire.LinkState]:
    """The links between regions, with their limits and the rate that was measured last."""
    with reads.session() as session:
        known = {(row.source, row.target): row for row in session.scalars(select(Link))}
    found = []
    for source in service.reach.regions:
        for target in service.reach.regions:
            if source == target:
                continue
            limits, row = service.reach.places.link(source, target), known.get((source, target))
            found.append(
                wire.LinkState(
                    source=source,
                    target=target,
                    distance_ms=limits.distance_ms,
                    bytes_per_second=limits.bytes_per_second,
                    rate=row.rate if row else None,
                    bytes_moved=row.bytes_moved if row else 0,
                )
            )
    return found


@router.get("/regions/{region}/networks")
def show_networks(region: str, caller: Reader, service: ServiceOf) -> wire.NetworksState:
    """The subnets, firewall sets and public addresses of a region, as its site reports them now."""
    found = service.reach.site(service.reach.check_region(region), caller.account).networks(region)
    return wire.NetworksState(
        region=region,
        subnets=[wire.SubnetState.model_validate(asdict(one)) for one in found.subnets],
        firewalls=[
            wire.FirewallState(name=one.name, opens=[opening.text for opening in one.openings])
            for one in found.firewalls
        ],
        public_addresses=[wire.PublicAddressState.model_validate(asdict(one)) for one in found.public_addresses],
    )


@router.get("/buckets")
def list_buckets(caller: Reader, service: ServiceOf) -> list[wire.BucketState]:
    """The buckets that the account may import from or export to, without their credentials."""
    return [
        wire.BucketState(
            name=name, region=bucket.region, endpoint=bucket.endpoint, reads=caller.account in bucket.accounts,
            writes=caller.account in bucket.writers,
        )
        for name, bucket in sorted(service.reach.places.buckets.items())
        if caller.account in {*bucket.accounts, *bucket.writers}
    ]  # fmt: skip


@router.get("/formats")
def list_formats(caller: Reader) -> list[wire.FormatState]:
    """The image formats that versions are exported to, and that imports read."""
    out = [
        wire.FormatState(name=f.name, suffix=f.suffix, about=f.about, written=True, read=True) for f in FORMATS.values()
    ]
    out += [
        wire.FormatState(name=name, suffix=suffix, about=about, written=False, read=True)
        for name, (suffix, about) in READ_ONLY.items()
    ]
    return out
