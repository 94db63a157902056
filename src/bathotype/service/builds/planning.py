"""Planning and recording a build run: everything that would make it fail is found before anything starts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import cast, select
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Session

from bathotype.core.errors import Invalid, NotFound, Refused
from bathotype.core.firstboot.settings import FirstBoot
from bathotype.core.lifecycle.networks import attach_faults
from bathotype.core.lifecycle.room import room_remarks
from bathotype.core.sheets.reading import Checked, read_sheet
from bathotype.core.sheets.sheet import ProofPlaces, Sheet, repeated
from bathotype.core.sheets.steps import UpdatePackages
from bathotype.core.units import iec, plural
from bathotype.service.access.principals import Principal
from bathotype.service.builds.kind import Build, BuildParams
from bathotype.service.builds.obstacles import (
    bucket_faults,
    export_faults,
    line_faults,
    payload_faults,
    place_faults,
    result_faults,
)
from bathotype.service.builds.payload import PayloadSource
from bathotype.service.builds.stepping import unbegun
from bathotype.service.catalogue import find_line, machine_size_of, reference_of, regions_from_home
from bathotype.service.kinds.making import start_making
from bathotype.service.launching import AtSite, ask_site, plan_launch, settings_faults, settings_of, site_rules
from bathotype.service.numbering import NUMBER_ADVICE, check_number, claimable, next_number
from bathotype.service.preflight import find_machine
from bathotype.service.reach import Reach
from bathotype.service.records import BuildRun, Line, Operation, Version
from bathotype.service.records.base import new_id, utcnow
from bathotype.service.shares import find_usable, in_regions
from bathotype.service.uploads import find_upload
from bathotype.service.vault import missing_secrets
from bathotype.sites.protocol import SiteMachine
from bathotype.wire import builds as wire
from bathotype.wire.fleet import LaunchRequest

#: The name under which the temporary machine is planned; its own has the operation's id in it.
_ANY_NAME = "build-op"


@dataclass(frozen=True)
class Repeat:
    """A run that is done again: the version that it made, and the base of then."""

    reference: str
    base: str
    base_digest: str


@dataclass(frozen=True)
class Asked:
    """A request that was understood: the sheet with its values, the region, and what the site says.

    ``machine`` is the one whose disk is copied, where the base is that; ``faults`` is what was found wrong elsewhere
    than in the database."""

    checked: Checked
    sheet: Sheet
    region: str
    launch: LaunchRequest
    at_site: AtSite
    repeat: Repeat | None = None
    machine: SiteMachine | None = None
    faults: tuple[str, ...] = ()


@dataclass(frozen=True)
class _Base:
    """What a run starts from: its name, the digest of its content, and why its machine would be refused.

    ``version`` is None where a disk is copied.
    """

    name: str
    digest: str
    machine_size: str
    version: Version | None = None
    blockers: Sequence[str] = ()
    warnings: Sequence[str] = ()


def understand(
    session: Session, reach: Reach, caller: Principal, body: wire.BuildRequest, repeat: Repeat | None = None
) -> tuple[Checked, Sheet, str]:
    """The sheet and the region of a run, which is empty where the site must be asked for it.

    Raises `Invalid` with every fault of the sheet.
    """
    checked = read_sheet(body.sheet, body.values)
    sheet = checked.need() if repeat is None else repeated(checked.need(), repeat.base)
    if isinstance(sheet.machine.first_boot, str):
        sheet = sheet.with_settings(settings_of(session, caller, sheet.machine.first_boot))
    region = body.region or sheet.machine.region
    if not isinstance(sheet.base, str):
        region = region or (
            "" if sheet.copied is not None and sheet.copied.machine else _home(session, reach, caller, sheet)
        )
    elif region is None:
        base, shares = find_usable(session, caller, str(sheet.base))
        allowed = in_regions(shares) if shares is not None else None
        regions = [name for name in regions_from_home(session, base) if allowed is None or name in allowed]
        if not regions:
            raise Refused(f"{sheet.base} is in no region that you may use.", advice="Replicate it to one.")
        region = regions[0]
    if region:
        reach.check_region(region)
    return checked, sheet, region


def _home(session: Session, reach: Reach, caller: Principal, sheet: Sheet) -> str:
    """Where the line is that a run makes a version of."""
    line = select(Line.id).where(Line.account_id == caller.account_id, Line.name == sheet.result.line).scalar_subquery()
    newest = session.scalar(select(Version).where(Version.line_id == line).order_by(Version.sort_key.desc()).limit(1))
    return next(iter(regions_from_home(session, newest) if newest is not None else []), reach.regions[0])


def ask(
    reach: Reach, caller: Principal, body: wire.BuildRequest, found: tuple[Checked, Sheet, str],
    repeat: Repeat | None = None,
) -> Asked:  # fmt: skip
    """Ask the site, which may take its time: no transaction is open meanwhile."""
    checked, sheet, region = found
    machine = None
    if sheet.copied is not None and sheet.copied.machine:
        machine = find_machine(reach, caller.account, sheet.copied.machine, region or None)
        region = machine.region
    launch = LaunchRequest(
        reference=str(sheet.base), region=region, zone=sheet.machine.zone, machine_size=sheet.machine.size,
        name=_ANY_NAME, tags={**sheet.machine.tags, **body.tags}, room=sheet.machine.room,
        first_boot=sheet.machine.first_boot, attach=sheet.machine.attach,
    )  # fmt: skip
    faults = (*bucket_faults(reach, caller, sheet, body), *place_faults(reach, caller, sheet, region))
    return Asked(checked, sheet, region, launch, ask_site(reach, caller, launch), repeat, machine, faults)


def plan_build(
    session: Session, reach: Reach, caller: Principal, body: wire.BuildRequest, asked: Asked, *, lock: bool = False
) -> wire.BuildPlan:
    """Obstacles and warnings of a run, all at once."""
    sheet = asked.sheet
    base = _base(session, reach, caller, body, asked, lock=lock)
    blockers, warnings = [*base.blockers, *asked.faults], list(base.warnings)
    number, part = _number(body, sheet)
    reference = f"{sheet.result.line}@{number or '?'}"
    try:
        line = find_line(session, caller, sheet.result.line)
        blockers += line_faults(session, caller, sheet, line)
        if taken := check_number(session, line, number, part):
            blockers.append(f"{taken} {NUMBER_ADVICE}")
        else:
            reference = f"{line.name}@{next_number(session, line, number, part)}"
    except NotFound as error:
        blockers.append(f"{error.message} `bathotype lines create {sheet.result.line}` makes it.")
    except Invalid as error:
        blockers.append(str(error))
    if sheet.result.retire_on is not None and sheet.result.retire_on <= utcnow().date():
        blockers.append(f"The end date {sheet.result.retire_on} is not in the future.")
    if asked.repeat is not None and base.digest != asked.repeat.base_digest:
        blockers.append(f"{asked.repeat.base} is not what {asked.repeat.reference} was built on.")
    blockers += payload_faults(sheet, body.payload)
    for name in missing_secrets(session, caller.account_id, sheet.secrets):
        blockers.append(f"There is no secret {name}. A steward sets it: `bathotype secrets set {name}`.")
    blockers += export_faults(reach, caller, sheet, base.version)
    blockers += result_faults(session, reach, caller, sheet)
    earlier = _earlier(session, caller, sheet.sheet)
    effects = [
        *_brought(sheet),
        f"A temporary machine of {base.name if base.version else 'it'} runs in {asked.region} and is removed afterwards.",
        *(f"{step.id}: {step.do}{f' ({step.why})' if step.why else ''}" for step in sheet.steps),
        f"{reference} is made of it, and staged.",
        *_proven_in(sheet, asked.region, base.machine_size),
        *(["It is released."] if sheet.result.release else []),
        *(f"It is brought to {one.region}, {plural(one.copies, 'copy')}." for one in sheet.result.placement),
        *(f"It is written to {one.to} as {one.format}." for one in sheet.result.exports),
        *(f"{one.to} is notified: {', '.join(one.about)}." for one in sheet.tell),
    ]
    return wire.BuildPlan(
        verb="build",
        subject=sheet.sheet,
        blockers=list(dict.fromkeys(blockers)),  # a secret may be missing for steps and for first boot
        warnings=warnings,
        effects=[] if blockers else effects,
        reference=reference,
        base=base.name,
        region=asked.region,
        machine_size=base.machine_size,
        same_as=_same(session, caller, body, asked, base),
        earlier_seconds=earlier,
        steps=[wire.SheetStep(id=step.id, do=step.do, why=step.why) for step in sheet.steps],
    )


def _base(
    session: Session, reach: Reach, caller: Principal, body: wire.BuildRequest, asked: Asked, *, lock: bool
) -> _Base:
    sheet, room = asked.sheet, asked.sheet.machine.room
    if not isinstance(sheet.base, str):
        return _other_base(session, reach, caller, body, asked)
    version, shares = find_usable(session, caller, str(sheet.base), lock="share" if lock else None)
    machine = plan_launch(session, reach, caller, asked.launch, version, shares, asked.at_site)
    # An instance may have room that nothing uses; a version would keep it for ever.
    unused = room_remarks(version.disks, room, root_last=version.contents.get("root_last"))
    return _Base(
        machine.reference, version.content_digest, sheet.machine.size or machine_size_of(version), version,
        [*machine.blockers, *unused], machine.warnings,
    )  # fmt: skip


def _other_base(session: Session, reach: Reach, caller: Principal, body: wire.BuildRequest, asked: Asked) -> _Base:
    """A disk that is copied, or a system that is installed.  What is on it is seen when the run has begun."""
    sheet, limits, machine = asked.sheet, asked.at_site.limits, asked.machine
    size = sheet.machine.size or (machine.machine_size if machine is not None else "")
    blockers, warnings = [], []
    if limits is None:
        blockers.append(f"Region {asked.region} is out: {asked.at_site.out}")
    elif not size:
        blockers.append(
            f"This base has no size of machine: give machine.size, one of {', '.join(limits.machine_sizes)}."
        )
    else:
        tags = {**reach.account_tags(caller.account), **asked.launch.tags}
        blockers += site_rules(limits, asked.launch, size, tags)
    if asked.at_site.networks is not None:
        blockers += attach_faults(sheet.machine.attach, asked.at_site.networks, 1, asked.region)
    blockers += settings_faults(
        session, caller, asked.launch, [_ANY_NAME], settings_of(session, caller, asked.launch.first_boot)
    )
    if limits is not None and sheet.installed is not None and sheet.installed.disk_bytes > limits.largest_disk:
        wanted, most = iec(sheet.installed.disk_bytes), iec(limits.largest_disk)
        blockers.append(f"The blank disk would have {wanted}; the site takes {most} at most.")
    if machine is not None:
        warnings.append(f"{machine.name} is copied as it is now: a later run may start from something else.")
    file = _file_of(sheet)
    digest = body.payload[file].sha256 if file in body.payload else ""
    return _Base(str(sheet.base), f"sha256:{digest}" if digest else "", size, None, blockers, warnings)


def _proven_in(sheet: Sheet, region: str, size: str) -> list[str]:
    """Where the checks are judged."""
    places = sheet.prove or ProofPlaces()
    where = [f"{name} on {one}" for name in places.regions or [region] for one in places.sizes or [size]]
    return [f"Its checks are judged in {', '.join(where)}."] if sheet.checks else []


def _brought(sheet: Sheet) -> list[str]:
    """What is done first where the base is no version."""
    if sheet.installed is not None:
        return [f"A machine with a blank disk boots from {sheet.installed.medium}, which installs a system."]
    name = str(sheet.base)
    return [f"{name[:1].upper()}{name[1:]} is copied, and the copy generalized."] if sheet.copied is not None else []


def _file_of(sheet: Sheet) -> str:
    """The file of the payload that a base is, if it is one."""
    if sheet.installed is not None:
        return sheet.installed.medium
    return (sheet.copied.disk or "") if sheet.copied is not None else ""


def _number(body: wire.BuildRequest, sheet: Sheet) -> tuple[str | None, wire.Bump | None]:
    """What the request says goes before what the sheet says."""
    if body.number or body.bump:
        return body.number, body.bump
    return sheet.result.number, sheet.result.bump


def _earlier(session: Session, caller: Principal, sheet: str) -> float | None:
    """How long the last run of a sheet took that succeeded, in seconds."""
    query = (
        select(Operation.started_at, Operation.ended_at)
        .join(BuildRun, BuildRun.operation_id == Operation.id)
        .where(BuildRun.account_id == caller.account_id, BuildRun.sheet == sheet, Operation.state == "succeeded")
        .order_by(Operation.id.desc())
        .limit(1)
    )
    row = session.execute(query).first()
    began, ended = row if row is not None else (None, None)
    return (ended - began).total_seconds() if began and ended else None


def _same(session: Session, caller: Principal, body: wire.BuildRequest, asked: Asked, base: _Base) -> str | None:
    """The version that was built from the same sheet, values, payload and base, if there is one.  Which updates are out
    is not known before a machine runs: a sheet that updates packages is never the same, and neither is one that starts
    from a machine."""
    if not base.digest or any(isinstance(step, UpdatePackages) for step in asked.sheet.steps):
        return None
    query = (
        select(Version)
        .join(BuildRun, BuildRun.operation_id == Version.operation_id)
        .join(Operation, Operation.id == BuildRun.operation_id)
        .where(
            BuildRun.account_id == caller.account_id,
            BuildRun.digest == asked.checked.digest,
            BuildRun.base_digest == base.digest,
            BuildRun.values == dict(asked.checked.values),
            BuildRun.payload == {name: given.sha256 for name, given in body.payload.items()},
            Version.state.in_(("staged", "released")),
        )
        .order_by(Version.sort_key.desc())
        .limit(1)
    )
    if (settings := _settings(asked.sheet)) is not None:  # those that are saved under a name may have changed since
        query = query.where(Operation.params["first_boot"] == cast(settings, JSONB))
    found = session.scalar(query)
    return reference_of(found) if found is not None else None


def record_build(
    session: Session, reach: Reach, caller: Principal, body: wire.BuildRequest, asked: Asked, *,
    repository: str = "", commit: str = "",
) -> Operation:  # fmt: skip
    """Record the run.  ``repository`` and ``commit`` say where the sheet comes from.  Raises `Refused` with every
    obstacle."""
    sheet = asked.sheet
    plan = plan_build(session, reach, caller, body, asked, lock=True)
    if body.unless_same and plan.same_as:
        raise Refused(
            f"Nothing new: {plan.same_as} was built from the same sheet, values, payload and base.",
            code="nothing-new",
            about=plan.same_as,
        )
    if plan.blockers:
        raise Refused(" ".join(plan.blockers), code="build-refused")
    base = _base(session, reach, caller, body, asked, lock=True)
    line = find_line(session, caller, sheet.result.line, lock=True)
    purpose = sheet.result.purpose
    params = BuildParams(
        region=asked.region,
        mode="stopped",
        power_off=True,
        disks=["all"],
        profile=sheet.preparation.profile if sheet.preparation is not None else sheet.result.generalize,
        prepared=sheet.preparation is not None,
        tags=asked.launch.tags,
        notes=sheet.result.notes,
        purpose=purpose.model_dump(mode="json", exclude_defaults=True) if purpose is not None else None,
        retire_on=sheet.result.retire_on,
        line_id=line.id,
        line=line.name,
        number=claimable(session, line, *_number(body, sheet)),
        version_id=new_id("ve"),
        base_id=base.version.id if base.version is not None else "",
        base_machine=asked.machine.id if asked.machine is not None else "",
        base_file=_file_of(sheet),
        base=plan.base,
        base_digest=base.digest,
        machine_size=plan.machine_size,
        boot_bytes=sheet.machine.room.boot_bytes,
        first_boot=_settings(sheet),
        sheet=body.sheet,
        sheet_digest=asked.checked.digest,
        repository=repository,
        commit=commit,
        repeats=asked.repeat.reference if asked.repeat else "",
        values=dict(asked.checked.values),
        keep_seconds=body.keep_on_failure,
        payload={n: _source(session, caller, n, given, sheet.payload[n].bucket) for n, given in body.payload.items()},
    )
    row = start_making(session, caller, Build, params, {"sheet": sheet.sheet, "base": plan.base})
    session.add(
        BuildRun(
            operation_id=row.id,
            account_id=caller.account_id,
            sheet=sheet.sheet,
            digest=asked.checked.digest,
            text=body.sheet,
            values=dict(asked.checked.values),
            payload={name: given.sha256 for name, given in body.payload.items()},
            base=plan.base,
            base_digest=base.digest,
            steps=unbegun(sheet),
            repository=repository,
            commit=commit,
            repeats=params.repeats,
        )
    )
    return row


def _settings(sheet: Sheet) -> dict[str, Any] | None:
    """First-boot settings of its machine, as a run keeps them."""
    settings = sheet.machine.first_boot
    return settings.model_dump(mode="json") if isinstance(settings, FirstBoot) else None


def _source(
    session: Session, caller: Principal, name: str, given: wire.PayloadGiven, bucket: str | None
) -> PayloadSource:
    if bucket is not None:
        return PayloadSource(bucket=bucket, bytes=given.bytes, sha256=given.sha256)
    if given.upload is None:
        raise Invalid(f"{name} of the payload has no upload.", advice="Upload it first; `bathotype build` does so.")
    row = find_upload(session, caller, given.upload)
    if row.size != given.bytes:
        raise Refused(
            f"{name} of the payload has {row.size} bytes, and {given.bytes} in the lock.",
            advice="Lock the files anew: bathotype sheets lock FILE.",
            code="payload-differs",
        )
    return PayloadSource(
        upload=row.id, part_bytes=row.part_bytes, region=row.region, bytes=given.bytes, sha256=given.sha256
    )
