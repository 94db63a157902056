"""Launching: obstacles and warnings of a launch, and its record."""

from __future__ import annotations

from dataclasses import asdict, dataclass

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from bathotype.core.contents.platform import unmet
from bathotype.core.errors import Damaged, Invalid, NotFound, Refused, Unavailable
from bathotype.core.firstboot.addresses import take
from bathotype.core.firstboot.checks import faults
from bathotype.core.firstboot.seed import unanswered
from bathotype.core.firstboot.settings import FirstBoot, first_boot_of, numbered
from bathotype.core.generalize.profile import AnswerFile
from bathotype.core.lifecycle.networks import Networks, address_remarks, attach_faults, attach_remarks, open_to
from bathotype.core.lifecycle.purpose import Purpose, SizeOffered, judge_size
from bathotype.core.lifecycle.references import parse_reference
from bathotype.core.lifecycle.room import disks_of_instance, room_faults, room_remarks
from bathotype.core.units import iec, plural
from bathotype.service import audit
from bathotype.service.access.principals import Principal
from bathotype.service.admission import judge, rooms
from bathotype.service.answers.rules import allowance_answer, verdicts_of
from bathotype.service.catalogue import machine_size_of, needs_of, require_replica
from bathotype.service.instances import addresses_in_use, names_in_use, one_launch_at_a_time
from bathotype.service.kinds.basedisks import standing_disks
from bathotype.service.kinds.descent import keeps_identity
from bathotype.service.kinds.launch import Launch, LaunchParams
from bathotype.service.operations.start import start_operation
from bathotype.service.reach import Reach
from bathotype.service.records import Finding, FirstBootSet, Instance, Operation, Replica, Share, Version
from bathotype.service.records.base import new_id
from bathotype.service.records.fleet import IS_PRESENT
from bathotype.service.shares import find_usable
from bathotype.service.signatures import check_signature
from bathotype.service.usable import Usable, usable_of
from bathotype.service.vault import missing_secrets
from bathotype.sites.protocol import SiteLimits
from bathotype.wire.fleet import LaunchPlan, LaunchRequest, PlannedDisk, PlannedInstance

#: For more names than these the site's machines are listed.
_ASKED_ONE_BY_ONE = 16


@dataclass(frozen=True)
class AtSite:
    """What a site said before a launch is planned: its limits, or why it does not answer, and names that it has
    already."""

    limits: SiteLimits | None
    out: str = ""
    taken: tuple[str, ...] = ()
    networks: Networks | None = None


def ask_site(reach: Reach, caller: Principal, body: LaunchRequest) -> AtSite:
    """Ask the site of a launch.  It may take its time: no transaction is open meanwhile."""
    reach.check_region(body.region)
    names = _names(body)
    try:
        site = reach.site(body.region, caller.account)
        limits, networks = site.limits(body.region), site.networks(body.region)
        if len(names) > _ASKED_ONE_BY_ONE:
            taken = {machine.name for machine in site.machines(body.region)} & set(names)
        else:
            taken = {name for name in names if site.machine_named(body.region, name) is not None}
    except Unavailable as error:
        return AtSite(None, error.message)
    return AtSite(limits, "", tuple(sorted(taken)), networks)


def _names(body: LaunchRequest) -> list[str]:
    """The names of the instances; the line's where no pattern is given."""
    pattern = body.name or parse_reference(body.reference).line
    names = [numbered(pattern, n, many=body.count > 1) for n in range(1, body.count + 1)]
    if len(set(names)) != len(names):
        raise Invalid(f"The name pattern {pattern!r} gives the same name twice.", advice="Put {n} into it.")
    return names


def record_launch(session: Session, reach: Reach, caller: Principal, body: LaunchRequest, at_site: AtSite) -> Operation:
    """Record the operation and its instances.  Raises `Refused` with every obstacle.

    The version's state, the share and the allowances cannot change until the transaction commits: of a launch and a
    retirement at the same moment, the database puts one first.
    """
    version, shares = find_usable(session, caller, body.reference, lock="share")
    one_launch_at_a_time(session, caller.account_id, body.region)
    plan = plan_launch(session, reach, caller, body, version, shares, at_site, lock=True)
    if plan.blockers:
        raise Refused(" ".join(plan.blockers), code="launch-refused")
    settings = settings_of(session, caller, body.first_boot)
    each = _each(session, caller, body, plan.names, settings)
    params = LaunchParams(
        version_id=version.id,
        reference=plan.reference,
        region=body.region,
        wait_seconds=body.wait_seconds,
        tags=body.tags,
        warnings=plan.warnings,
    )
    row = start_operation(session, caller, Launch, plan.reference, params)
    disks = [disk.model_dump(exclude={"holds"}) for disk in plan.disks]
    for name, (host, own) in zip(plan.names, each, strict=True):
        session.add(
            Instance(
                id=new_id("in"),
                account_id=caller.account_id,
                version_id=version.id,
                operation_id=row.id,
                name=name,
                region=body.region,
                zone=body.zone or "",
                machine_size=_size(body, version),
                host_name=host,
                first_boot=own.model_dump(mode="json"),
                disks=disks,
                attach=body.attach.model_dump(mode="json") | {"subnet": plan.subnet or body.attach.subnet},
            )
        )
    audit.record(
        session,
        caller.account_id,
        caller.actor,
        "launch.requested",
        plan.reference,
        after={"operation": row.id, "region": body.region, "names": plan.names},
    )
    return row


def settings_of(session: Session, caller: Principal, wanted: FirstBoot | str | None) -> FirstBoot:
    """First-boot settings that are given, or saved under a name.  Raises `NotFound`."""
    if wanted is None:
        return FirstBoot()
    if isinstance(wanted, FirstBoot):
        return wanted
    row = session.get(FirstBootSet, (caller.account_id, wanted))
    if row is None:
        raise NotFound(
            f"There are no saved first-boot settings {wanted!r}.",
            advice="`bathotype first-boot list` shows them.",
        )
    return first_boot_of(row.settings)


def _each(
    session: Session, caller: Principal, body: LaunchRequest, names: list[str], settings: FirstBoot
) -> list[tuple[str, FirstBoot]]:
    """For each instance its host name and its own settings: of a pool each takes an address that nobody has."""
    network, count = settings.network, len(names)
    hosts = (
        [numbered(settings.host_name, n, many=count > 1) for n in range(1, count + 1)] if settings.host_name else names
    )
    if not network.pool:
        return [(host, settings) for host in hosts]
    given = take(network.pool, count, addresses_in_use(session, caller.account_id, body.region))
    own = [network.model_copy(update={"addresses": [address], "pool": []}) for address in given]
    own += [network.model_copy(update={"pool": []})] * (count - len(own))  # the plan's obstacles say so
    return [(host, settings.model_copy(update={"network": one})) for host, one in zip(hosts, own, strict=True)]


def _has_address(session: Session, caller: Principal, region: str, address: str) -> bool:
    here = Instance.account_id == caller.account_id, Instance.region == region, Instance.address == address, IS_PRESENT
    return session.scalar(select(Instance.id).where(*here).limit(1)) is not None


def settings_faults(
    session: Session, caller: Principal, body: LaunchRequest, names: list[str], settings: FirstBoot
) -> list[str]:
    """What is wrong with the settings of a launch, addresses that others have included."""
    wrong = faults(settings, count=len(names))
    if wrong or settings.network.mode != "static":
        return wrong
    in_use = addresses_in_use(session, caller.account_id, body.region)
    if settings.network.pool:
        free = len(take(settings.network.pool, len(names), in_use))
        if free < len(names):
            return [f"The pool has {free} free addresses, for {plural(len(names), 'instance')}. Give a larger one."]
    own = {text.partition("/")[0] for text in settings.network.addresses}
    return [f"The address {one} is in use in {body.region}. Give another." for one in sorted(own & in_use)]


def _planned(name: str, host: str, own: FirstBoot) -> PlannedInstance:
    static = own.network.mode == "static"
    return PlannedInstance(
        name=name,
        host_name=host,
        full_name=f"{host}.{own.domain}" if own.domain else host,
        addresses=own.network.addresses if static else [],
        gateway=own.network.gateway if static else None,
        name_servers=own.network.name_servers,
        search=own.network.search,
        time_zone=own.time_zone,
        locale=own.locale,
        users=[user.name for user in own.users],
        secrets={one.place: one.secret for one in own.secrets},
    )


def plan_launch(
    session: Session,
    reach: Reach,
    caller: Principal,
    body: LaunchRequest,
    version: Version,
    shares: list[Share] | None,
    at_site: AtSite,
    *,
    lock: bool = False,
) -> LaunchPlan:
    """Obstacles and warnings of a launch."""
    names = _names(body)
    seen = usable_of(session, version, shares)
    reference = seen.written_by(caller.account_id)
    exact, kept = parse_reference(body.reference).exact, keeps_identity(session, version)
    verdict = seen.may_launch(reference, exact=exact, as_is=kept)
    blockers, warnings = list(verdict.reasons), list(verdict.warnings)
    try:
        require_replica(session, seen.id, seen.reference, body.region, allowed=seen.regions)
        seen.require_region(body.region)
        check_signature(session, version)
    except (Refused, Damaged) as error:
        blockers.append(str(error))
    if open_high := _open_high(session, version):
        warnings.append(f"{reference} has {plural(open_high, 'open finding')} of high severity.")
    if clash := names_in_use(session, caller.account_id, body.region, names):
        these = f"name {clash[0]} is" if len(clash) == 1 else f"names {', '.join(clash[:5])} are"
        blockers.append(f"The {these} in use in {body.region}. Give another --name pattern.")
    if others := [name for name in at_site.taken if name not in clash]:
        names_there = ", ".join(others[:5])
        blockers.append(
            f"Machines at the site in {body.region} have these names: {names_there}. Give another --name pattern."
        )
    limits = at_site.limits
    tags = {**reach.account_tags(caller.account), **body.tags}
    if limits is not None:
        size = _size(body, version)
        blockers += site_rules(limits, body, size, tags)
        blockers += _disk_rules(limits, version, body)
        warnings += room_remarks(version.disks, body.room, root_last=version.contents.get("root_last"))
        blockers += unmet(needs_of(version), limits.platform(body.region), body.region)
        offered = limits.machine_sizes.get(size, SizeOffered())
        too_small, small = judge_size(reference, Purpose.model_validate(version.purpose), size, offered)
        blockers, warnings = blockers + too_small, warnings + small
    else:
        blockers.append(_out(session, body.region, seen, at_site.out))
    attach, subnet, opened = body.attach, "", []
    if at_site.networks is not None:
        blockers += attach_faults(attach, at_site.networks, body.count, body.region)
        warnings += attach_remarks(attach, at_site.networks)
        opened = open_to(attach, at_site.networks)
        subnet = found.name if (found := at_site.networks.subnet(attach.subnet)) else ""
    if attach.address and _has_address(session, caller, body.region, attach.address):
        blockers.append(f"The address {attach.address} is in use in {body.region}. Give another, or leave it out.")
    judged = judge(
        session, (caller.account_id, caller.account), seen, body.region, tags,
        subnet=subnet, firewalls=attach.firewalls, public=bool(attach.public_address),
    )  # fmt: skip
    blockers += judged.decision.reasons_for("refuse")
    warnings += judged.decision.reasons_for("warn")
    counted = rooms(session, caller.account_id, version.id, version.line_id, lock=lock)
    blockers += [b for room in counted if (b := room.blocker(body.count))]
    settings = settings_of(session, caller, body.first_boot)
    if (answers := version.contents.get("answers")) is not None:
        warnings += unanswered(AnswerFile.model_validate(answers), settings)
    wrong = settings_faults(session, caller, body, names, settings)
    for name in missing_secrets(session, caller.account_id, {one.secret for one in settings.secrets}):
        blockers.append(f"There is no secret {name}. A steward sets it: `bathotype secrets set {name}`.")
    blockers += wrong
    each = [] if wrong else _each(session, caller, body, names, settings)
    if at_site.networks is not None and (found := at_site.networks.subnet(attach.subnet)) is not None:
        warnings += address_remarks([a for _, own in each for a in own.network.addresses], found)
    base_bytes = 0 if standing_disks(session, version.id, body.region) else version.used_bytes
    base = f"{iec(base_bytes)} are written to the site first" if base_bytes else "a base disk is ready"
    return LaunchPlan(
        verb="launch",
        subject=reference,
        effects=[f"{plural(len(names), 'instance')} of {reference} in {body.region}; {base}."],
        reference=reference,
        region=body.region,
        names=names,
        disks=[PlannedDisk.model_validate(asdict(disk)) for disk in disks_of_instance(version.disks, body.room)],
        subnet=subnet or None,
        opened=opened,
        instances=[_planned(name, host, own) for name, (host, own) in zip(names, each, strict=True)] if each else [],
        base_disk_bytes=base_bytes,
        blockers=blockers,
        warnings=warnings,
        quotas=dict(limits.quotas) if limits else {},
        allowances=[allowance_answer(session, room.row, room.used) for room in counted],
        verdicts=verdicts_of(judged),
    )


def _open_high(session: Session, version: Version) -> int:
    query = select(func.count()).where(
        Finding.version_id == version.id, Finding.severity == "high", Finding.accepted_by.is_(None)
    )
    return session.scalar(query) or 0


def _out(session: Session, region: str, seen: Usable, why: str) -> str:
    """Why nothing is launched in a region that is out, and where it could be."""
    held = session.scalars(
        select(Replica.region).where(Replica.version_id == seen.id, Replica.state == "ready", Replica.region != region)
    )
    others = sorted(name for name in held if seen.regions is None or name in seen.regions)
    hint = f"It could be launched in {', '.join(others)}." if others else "No other region has it: replicate it."
    return f"Region {region} is out: {why} {hint}"


def _size(body: LaunchRequest, version: Version) -> str:
    """The size that was asked for, else the source machine's."""
    return body.machine_size or machine_size_of(version)


def _disk_rules(limits: SiteLimits, version: Version, body: LaunchRequest) -> list[str]:
    """What is wrong with the instances' disks, the site's limits included."""
    blockers = room_faults(version.disks, body.room, largest=limits.largest_disk)
    wanted = body.count * sum(disk.bytes for disk in disks_of_instance(version.disks, body.room))
    used, most = limits.quotas.get("disk_bytes", (0, wanted))
    if used + wanted > most:
        about = f"The disks of {plural(body.count, 'instance')} have {iec(wanted)}"
        blockers.append(f"{about}; the site's quota leaves {iec(max(0, most - used))}. Launch fewer, or ask for more.")
    return blockers


def site_rules(limits: SiteLimits, body: LaunchRequest, size: str, tags: dict[str, str]) -> list[str]:
    """What the site would refuse of machines, whatever they are made from."""
    blockers = []
    zones = limits.regions.get(body.region, ())
    if body.zone and body.zone not in zones:
        blockers.append(f"Region {body.region} has no zone {body.zone}. Its zones are {', '.join(zones)}.")
    if size not in limits.machine_sizes:
        blockers.append(f"The site has no machine size {size!r}. Its sizes are {', '.join(limits.machine_sizes)}.")
    used, most = limits.quotas.get("machines", (0, body.count))
    if used + body.count > most:
        blockers.append(
            f"{plural(body.count, 'machine')} more would exceed the site's quota ({used} of {most} in use)."
        )
    if missing := [tag for tag in limits.demanded_tags if not tags.get(tag)]:
        blockers.append(f"The account's rules demand the tags {', '.join(missing)}. Add --tag KEY=VALUE for each.")
    return blockers
