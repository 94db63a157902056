"""Where versions are kept: plans, placements of lines, and the operations that bring versions into line."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from bathotype.core.errors import BathotypeError, Refused
from bathotype.core.lifecycle.states import OFFERED
from bathotype.core.store.transfer import missing_rows
from bathotype.core.units import plural
from bathotype.service.access.principals import Principal
from bathotype.service.catalogue import reference_of
from bathotype.service.chunks import RegionChunks
from bathotype.service.kinds.basedisks import standing_disks
from bathotype.service.kinds.drain import Drain, drain_blockers, start_drain
from bathotype.service.kinds.replicate import ReplicaParams, Replicate
from bathotype.service.kinds.transfers import sources_of
from bathotype.service.operations.start import start_operation
from bathotype.service.reach import Reach
from bathotype.service.records import (
    Line,
    Link,
    Operation,
    Placement,
    Replica,
    Version,
)
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.wire import regions as wire

_TRY_AGAIN = timedelta(minutes=5)
PLACEMENT = "placement"


def plan_move(session: Session, reach: Reach, version: Version, place: wire.RegionPlace) -> wire.Move:
    """What bringing a version to a region would take.  Reads manifests, moves nothing."""
    replica = session.get(Replica, (version.id, place.region))
    now = standing_disks(session, version.id, place.region).total()
    answer = wire.Move(
        region=place.region, source=None, bytes=0, seconds=0.0, copies_now=now, copies=place.copies, blockers=[]
    )
    if replica is not None and replica.state == "ready":
        return answer
    sources = sources_of(session, reach, version.id, place.region)
    if not sources:
        return answer.model_copy(
            update={"blockers": [f"No other region holds a sound replica of {reference_of(version)}."]}
        )
    try:
        manifest = reach.store(sources[0]).get_manifest(version.id)
        moved = missing_rows(manifest, RegionChunks(reach.database, place.region)).bytes
    except BathotypeError as error:
        return answer.model_copy(update={"source": sources[0], "blockers": [error.message]})
    return answer.model_copy(
        update={
            "source": sources[0],
            "bytes": moved,
            "seconds": _seconds(session, reach, sources[0], place.region, moved),
        }
    )


def _seconds(session: Session, reach: Reach, source: str, target: str, count: int) -> float | None:
    """By the rate measured last, never faster than the limit; by the limit alone before anything was measured."""
    link = session.get(Link, (source, target))
    rates = [r for r in (link.rate if link else None, reach.places.link(source, target).bytes_per_second) if r]
    return count / min(rates) if rates else None


def start_replicate(session: Session, caller: Principal, version: Version, place: wire.RegionPlace) -> Operation:
    """Record the operation that brings a version to a region, and says how many copies are wanted there.

    The number is wanted from now on: of several requests the last counts, in whatever order their operations run.
    """
    wanted = {"copies": place.copies, "multi_zone": place.multi_zone}
    session.execute(
        insert(Replica)
        .values(version_id=version.id, region=place.region, state="coming", **wanted)
        .on_conflict_do_update(index_elements=["version_id", "region"], set_=wanted)
    )
    params = ReplicaParams(version_id=version.id, reference=reference_of(version), region=place.region)
    return start_operation(session, caller, Replicate, f"{reference_of(version)} to {place.region}", params)


def plan_placement(session: Session, line: Line, places: list[wire.RegionPlace]) -> wire.PlacementPlan:
    """What a new placement of a line would do."""
    wanted = {p.region: p for p in places}
    versions = _offered(session, line)
    blockers, warnings, effects = [], [], []
    leaving = _regions_of(session, line) - set(wanted) if wanted else set()
    for region in sorted(leaving):
        blockers += drain_blockers(session, line, region, leaving)
    for version in versions:
        held = {r.region: r for r in _replicas(session, version)}
        name = reference_of(version)
        for region, place in wanted.items():
            if region not in held:
                effects.append(f"{name} is brought to {region}, {_told(place.copies, place.multi_zone)}.")
            elif (held[region].copies, held[region].multi_zone) != (place.copies, place.multi_zone):
                now, standing = (
                    _told(held[region].copies, held[region].multi_zone),
                    standing_disks(session, version.id, region),
                )
                # A launch makes one where none is kept.
                now += "" if standing.total() == held[region].copies else f" ({standing.total()} ready)"
                effects.append(f"{name} in {region}: {now} now, {_told(place.copies, place.multi_zone)} then.")
        effects += [f"{name} is removed from {region}." for region in sorted(set(held) & leaving)]
        if not set(held) - leaving and not any(r in held for r in wanted) and wanted:
            warnings.append(f"{name} is in no region of the placement yet; the old ones are kept until it is.")
    if not wanted:
        effects.append("The line has no placement any more; its versions stay where they are.")
    return wire.PlacementPlan(
        verb="placement", subject=line.name, line=line.name, blockers=blockers, warnings=warnings, effects=effects
    )


def _told(copies: int, multi_zone: bool) -> str:
    return f"{plural(copies, 'copy')}{' over all zones' if multi_zone else ''}"


def _offered(session: Session, line: Line) -> list[Version]:
    query = select(Version).where(Version.line_id == line.id, Version.state.in_(OFFERED))
    return list(session.scalars(query.order_by(Version.sort_key.desc())))


def _replicas(session: Session, version: Version) -> list[Replica]:
    return list(
        session.scalars(
            select(Replica).where(Replica.version_id == version.id, Replica.state.in_(("ready", "damaged")))
        )
    )


def _regions_of(session: Session, line: Line) -> set[str]:
    return set(
        session.scalars(
            select(Replica.region)
            .join(Version, Version.id == Replica.version_id)
            .where(Version.line_id == line.id, Version.state.in_(OFFERED), Replica.state.in_(("ready", "damaged")))
        )
    )


def set_placement(session: Session, caller: Principal, line: Line, places: list[wire.RegionPlace]) -> list[Operation]:
    """Change a line's placement and start what brings its versions into line."""
    # Launches hold the version that they depend on: of a launch and a drain of its region one comes first.
    offered = select(Version.id).where(Version.line_id == line.id, Version.state.in_(OFFERED)).order_by(Version.id)
    session.scalars(offered.with_for_update(**CHANGE)).all()
    plan = plan_placement(session, line, places)
    if plan.blockers:
        raise Refused(
            " ".join(plan.blockers),
            advice=f"`bathotype placement set {line.name} ... --plan` shows everything.",
            code="blocked",
        )
    leaving = _regions_of(session, line) - {p.region for p in places} if places else set()
    for old in session.scalars(select(Placement).where(Placement.line_id == line.id)).all():
        session.delete(old)
    session.flush()
    for position, place in enumerate(places):
        session.add(Placement(line_id=line.id, set_by=caller.actor, position=position, **place.model_dump()))
    session.add_all(
        Placement(line_id=line.id, region=r, copies=0, leaving=True, set_by=caller.actor) for r in sorted(leaving)
    )
    session.flush()
    return bring_into_line(session, caller, line)


def bring_into_line(session: Session, caller: Principal, line: Line, *, only: Version | None = None) -> list[Operation]:
    """Start what a line's released versions lack by its placement, and drain them from the regions that they leave.

    A version leaves a region only once it is in every region of the placement, and while nothing needs it there.
    Where else somebody has brought it by hand, it stays.
    """
    rows = session.scalars(select(Placement).where(Placement.line_id == line.id)).all()
    places, leaving = [p for p in rows if not p.leaving], {p.region for p in rows if p.leaving}
    leaving = {r for r in leaving if not drain_blockers(session, line, r, leaving)}
    out = []
    for version in [only] if only is not None else _offered(session, line):
        held = {r.region: r for r in _replicas(session, version)}
        busy = _busy(session, version)
        missing = [p for p in places if p.region not in held or held[p.region].state != "ready"]
        for place in places:
            if place.region not in busy and (place in missing or not _fits(session, held[place.region], place)):
                wanted = wire.RegionPlace(region=place.region, copies=place.copies, multi_zone=place.multi_zone)
                out.append(start_replicate(session, caller, version, wanted))
        if not missing:
            out += [start_drain(session, caller, version, r) for r in sorted(leaving & set(held)) if r not in busy]
    return out


def _fits(session: Session, replica: Replica, place: Placement) -> bool:
    standing = standing_disks(session, replica.version_id, replica.region).total()
    return (replica.copies, replica.multi_zone) == (place.copies, place.multi_zone) and standing >= place.copies


def _busy(session: Session, version: Version) -> set[str]:
    """Regions that an operation brings a version to now, or could not bring it to a moment ago."""
    failed = Operation.state.in_(("failed", "cancelled")) & (Operation.ended_at > utcnow() - _TRY_AGAIN)
    rows = session.scalars(
        select(Operation.params["region"].as_string()).where(
            Operation.kind.in_((Replicate.name, Drain.name)),
            Operation.params["version_id"].as_string() == version.id,
            Operation.state.in_(("queued", "running")) | (failed & (Operation.created_by == PLACEMENT)),
        )
    )
    return set(rows)
