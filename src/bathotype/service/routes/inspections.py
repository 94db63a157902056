"""Preflight of captures: what forbids one, before it starts."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query
from pydantic import ValidationError
from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.errors import BathotypeError, Invalid
from bathotype.core.faults import faults_of
from bathotype.core.generalize.profile import Profile
from bathotype.core.units import iec, plural
from bathotype.service.access.principals import Principal
from bathotype.service.answers.machines import machine_answers
from bathotype.service.kinds.generalizing import GivenProfile, profile_for
from bathotype.service.numbering import judge_number
from bathotype.service.preflight import effects_on_source, find_machine, inspect
from bathotype.service.records import Instance
from bathotype.service.records.fleet import IS_PRESENT
from bathotype.service.remarks import Remarks
from bathotype.service.routes.callers import Operator, Reader, ServiceOf
from bathotype.service.routes.route import api_router
from bathotype.service.state import Service
from bathotype.sites.protocol import SiteMachine
from bathotype.wire.machines import Inspection
from bathotype.wire.versions import Afterwards, CaptureMode, CapturePlanRequest

router = api_router(tags=["captures"])


@router.get("/machines/{machine}/inspection")
def inspect_machine(
    machine: str,
    caller: Reader,
    service: ServiceOf,
    region: str | None = None,
    mode: CaptureMode | None = None,
    profile: Annotated[str, Query(description="Name of a built-in profile.")] = "linux",
    line: str | None = None,
    number: str | None = None,
    disk: Annotated[
        list[str] | None, Query(description="A disk to capture besides the boot disk, or 'all'; may be repeated.")
    ] = None,
    tag: Annotated[list[str] | None, Query(description="KEY=VALUE, may be repeated.")] = None,
) -> Inspection:
    """Preflight: every obstacle to a capture and every warning at once.  Changes nothing."""
    tags = dict(t.partition("=")[::2] for t in tag or [])
    try:
        asked = CapturePlanRequest(
            machine=machine, region=region, mode=mode, profile=profile, line=line, number=number, tags=tags,
            disks=disk or ["boot"],
        )  # fmt: skip
    except ValidationError as error:
        raise Invalid(f"The request is not valid: {faults_of(error)}.") from error
    return _inspection(service, caller, asked)


@router.post("/capture-inspections")
def inspect_capture(body: CapturePlanRequest, caller: Operator, service: ServiceOf) -> Inspection:
    """Preflight of a capture with any profile.  Changes nothing."""
    return _inspection(service, caller, body)


def mode_for(machine: SiteMachine, wanted: CaptureMode | None) -> CaptureMode:
    """The mode that was asked for, else the one that disturbs the machine the least."""
    return wanted or ("live" if machine.state == "running" else "stopped")


def judged_before(service: Service, caller: Principal, asked: CapturePlanRequest, machine: SiteMachine) -> Remarks:
    """What can be said of line, number and source without looking at the machine."""
    remarks = Remarks()
    with service.database.reads() as session:
        if asked.line:
            judge_number(session, caller, remarks, asked.line, asked.number, asked.bump)
        judge_source(session, caller, remarks, machine, asked.afterwards)
    return remarks


def judge_source(
    session: Session, caller: Principal, remarks: Remarks, machine: SiteMachine, afterwards: Afterwards
) -> None:
    """Remark whether the source may be left as it was asked for: what we launched is ended as an instance."""
    if afterwards == "kept":
        return
    here = Instance.account_id == caller.account_id, Instance.site_machine == machine.id, IS_PRESENT
    if name := session.scalar(select(Instance.name).where(*here)):
        verb = "terminate" if afterwards == "deleted" else "stop"
        remarks.forbid(
            "source", f"{machine.name} is an instance.", f"Keep it, then `bathotype instances {verb} {name}`."
        )


def _inspection(service: Service, caller: Principal, asked: CapturePlanRequest) -> Inspection:
    found = find_machine(service.reach, caller.account, asked.machine, asked.region)
    remarks, how = judged_before(service, caller, asked, found), mode_for(found, asked.mode)
    profile = None if how == "as-is" else _profile(remarks, asked.profile)
    with service.reader() as reader:
        result = inspect(
            reader,
            service.reach,
            caller.account,
            found,
            mode=how,
            profile=profile,
            tags=asked.tags,
            scratch_bytes=service.settings.scratch_bytes,
            remarks=remarks,
            power_off=asked.power_off,
            disks=asked.disks,
            prepared=asked.prepared,
        )
    with service.database.reads() as session:
        machine = machine_answers(session, [found])[0]
    used = f": {iec(result.used_bytes)} in use are read" if result.used_bytes else ""
    return Inspection(
        verb="capture",
        subject=found.name,
        blockers=result.remarks.refusals,
        warnings=result.remarks.warnings,
        effects=[
            f"{'The boot disk is' if len(result.disks) < 2 else 'Its disks are'} read from "
            f"{'a snapshot' if len(result.disks) < 2 else 'snapshots of one moment'} ({how}){used}.",
            *effects_on_source(asked.power_off, asked.afterwards),
        ],
        machine=machine,
        mode=how,
        capturable=result.capturable,
        remarks=result.remarks.items,
        used_bytes=result.used_bytes,
    )


def _profile(remarks: Remarks, given: GivenProfile) -> Profile | None:
    try:
        profile = profile_for(given)
    except BathotypeError as error:
        remarks.forbid("profile", error.message, error.advice)
        return None
    remarks.ok("profile", f"Profile {profile.name}, {plural(len(profile.steps), 'step')}.")
    return profile
