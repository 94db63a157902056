"""Where versions are kept: plans, placements of lines, and the operations that bring versions into line."""

from __future__ import annotations

from collections import Counter
from datetime import timedelta

from sqlalchemy import ColumnElement, func, or_, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from bathotype.core.errors import BathotypeError, Refused
from bathotype.core.lifecycle.rules import LaunchRule, matches
from bathotype.core.lifecycle.states import VersionState
from bathotype.core.store.transfer import missing_rows
from bathotype.core.units import agree, plural
from bathotype.service.access.principals import Principal
from bathotype.service.catalogue import holds_now, reference_of
from bathotype.service.chunks import RegionChunks
from bathotype.service.kinds.drain import Drain, DrainParams
from bathotype.service.kinds.replicate import ReplicaParams, Replicate
from bathotype.service.kinds.transfers import sources_of
from bathotype.service.operations.start import start_operation
from bathotype.service.reach import Reach
from bathotype.service.records import (
    Account,
    BaseDisk,
    Instance,
    Line,
    Link,
    Operation,
    Placement,
    Replica,
    RuleRow,
    Share,
    Version,
)
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.records.fleet import IS_PRESENT
from bathotype.wire import regions as wire
from bathotype.wire.common import Plan

_TRY_AGAIN = timedelta(minutes=5)
PLACEMENT = "placement"
OFFERED = (VersionState.RELEASED, VersionState.SUNSET)


def standing_disks(session: Session, version_id: str, region: str) -> Counter[str]:
    """Launch-ready base disks of a version in a region, by zone."""
    rows = session.scalars(
        select(BaseDisk.zone).where(
            BaseDisk.version_id == version_id, BaseDisk.region == region, BaseDisk.state == "ready"
        )
    )
    return Counter(rows)


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


def start_drain(session: Session, caller: Principal, version: Version, region: str) -> Operation:
    """Record the operation that removes a version from a region."""
    row = session.get_one(Replica, (version.id, region), with_for_update=CHANGE)
    params = DrainParams(version_id=version.id, reference=reference_of(version), region=region, was=row.state)
    row.state, row.copies = "draining", 0
    return start_operation(session, caller, Drain, f"{reference_of(version)} in {region}", params)


def drain_blockers(
    session: Session, line: Line, region: str, leaving: set[str], *, version: Version | None = None
) -> list[str]:
    """Who still needs a line in a region: rules that allow it nowhere else, shares for it, instances to be renewed.

    With ``version`` who needs that one there: where another of the line stays, only those with whom it alone is shared.
    """
    shares = Share.line_id == line.id
    if version is not None:
        alone = Share.version_id == version.id
        if _another_stays(session, version, region):
            return _share_blockers(session, shares & alone, leaving)
        shares &= alone | Share.version_id.is_(None)
    blockers = []
    running = session.scalar(
        select(func.count())
        .select_from(Instance)
        .join(Version, Version.id == Instance.version_id)
        .where(Version.line_id == line.id, Instance.region == region, IS_PRESENT)
    )
    if running:
        blockers.append(
            f"{plural(running, 'instance')} of {line.name} in {region} could not be renewed there. "
            "Terminate them or renew them into another line first."
        )
    blockers += _share_blockers(session, shares, leaving)
    owner = session.get_one(Account, line.account_id).name
    for row in session.scalars(
        select(RuleRow).where(or_(RuleRow.account_id.is_(None), RuleRow.account_id == line.account_id))
    ):
        rule = LaunchRule.model_validate(row.body)
        if (
            rule.effect == "refuse"
            and rule.regions
            and set(rule.regions) <= leaving
            and _concerns(rule, owner, line.name)
        ):
            blockers.append(
                f"Launch rule {rule.name} allows launches in {', '.join(rule.regions)} only. Change it first."
            )
    return blockers


def _another_stays(session: Session, version: Version, region: str) -> bool:
    """Whether a region has another version of the line that takes launches."""
    query = (
        select(Version.id)
        .join(Replica, Replica.version_id == Version.id)
        .where(
            Version.line_id == version.line_id,
            Version.id != version.id,
            Version.state.in_(OFFERED),
            Replica.region == region,
            Replica.state == "ready",
        )
    )
    return session.scalar(query.limit(1)) is not None


def _share_blockers(session: Session, which: ColumnElement[bool], leaving: set[str]) -> list[str]:
    """The shares that are for no other regions than those."""
    blockers = []
    for share in session.scalars(select(Share).where(which, holds_now(), Share.regions.is_not(None))):
        if set(share.regions or ()) <= leaving:
            other = session.get(Account, share.consumer_id) if share.consumer_id else None
            blockers.append(
                f"The share with {other.name if other else 'every account'} is for {', '.join(share.regions or ())} only. "
                "End it, or share other regions first."
            )
    return blockers


def plan_drain(session: Session, version: Version, region: str) -> Plan:
    """What removing a version from a region would do."""
    reference = reference_of(version)
    held = _replicas(session, version)
    others = sorted(r.region for r in held if r.region != region and r.state == "ready")
    blockers, effects = [], []
    if region not in {r.region for r in held}:
        blockers.append(f"{reference} has no replica in {region}.")
    elif not others:
        blockers.append(f"It is the last sound replica of {reference}. Retire and purge it instead.")
    elif version.state in OFFERED:
        blockers = drain_blockers(session, version.line, region, {region}, version=version)
        place = session.get(Placement, (version.line_id, region))
        if place is not None and not place.leaving:
            blockers.append(f"The placement of {version.line.name} names {region}. Change the placement instead.")
    if not blockers:
        standing = standing_disks(session, version.id, region).total()
        if standing:
            verb = agree(standing, "is", "are")
            effects.append(f"{plural(standing, 'base disk')} of it in {region} {verb} removed.")
        effects.append(f"Its chunks that no other version in {region} needs are removed there.")
        effects.append(f"It stays in {', '.join(others)}.")
    return Plan(verb="drain", subject=f"{reference} in {region}", blockers=blockers, warnings=[], effects=effects)


def _concerns(rule: LaunchRule, owner: str, line: str) -> bool:
    return matches(rule.applies_to, owner, line, "*")


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
