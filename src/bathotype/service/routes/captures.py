"""Captures and what they would do."""

from __future__ import annotations

from datetime import timedelta

from fastapi import Request
from sqlalchemy.orm import Session

from bathotype.core.errors import Invalid
from bathotype.core.generalize.profile import Profile, builtin_names, builtin_profile, profile_of
from bathotype.core.sheets.document import read_document
from bathotype.service.access.principals import Principal
from bathotype.service.answers.operations import operation_answers
from bathotype.service.catalogue import find_line
from bathotype.service.kinds.capture import Capture, CaptureParams
from bathotype.service.kinds.captureplan import CapturePlan, CapturePlanParams
from bathotype.service.kinds.generalizing import profile_for
from bathotype.service.kinds.making import start_making
from bathotype.service.numbering import NUMBER_ADVICE, check_number, claimable
from bathotype.service.operations.start import start_operation
from bathotype.service.preflight import find_machine, inspect
from bathotype.service.records.base import new_id, utcnow
from bathotype.service.remarks import Remarks
from bathotype.service.routes.callers import Operator, Reader, ServiceOf
from bathotype.service.routes.common import Key, made_for, once, still_wanted
from bathotype.service.routes.inspections import judge_source, judged_before, mode_for
from bathotype.service.routes.route import api_router
from bathotype.service.state import Service
from bathotype.wire.operations import Operation
from bathotype.wire.versions import CapturePlanRequest, CaptureRequest, ProfileText

#: A capture waits so long for its moment at most.
_MOST_AHEAD = timedelta(days=30)
router = api_router(tags=["captures"])


@router.post("/captures", status_code=202)
def capture(body: CaptureRequest, caller: Operator, service: ServiceOf, request: Request, key: Key = None) -> Operation:
    """Capture a machine's disks into a new, staged version.  All obstacles are reported together, before anything starts."""
    _check(service, caller, body)
    still_wanted(request)
    machine = find_machine(service.reach, caller.account, body.machine, body.region)

    def make(session: Session) -> Operation:
        line = find_line(session, caller, body.line, lock=True)
        params = CaptureParams(
            machine_id=machine.id,
            region=machine.region,
            mode=body.mode,
            disks=body.disks,
            power_off=body.power_off,
            afterwards=body.afterwards,
            prepared=body.prepared,
            profile=body.profile,
            tags=body.tags,
            notes=body.notes,
            **made_for(body),
            line_id=line.id,
            line=line.name,
            number=claimable(session, line, body.number, body.bump),
            version_id=new_id("ve"),
        )
        details = {"machine": machine.name, "mode": body.mode, "afterwards": body.afterwards}
        row = start_making(session, caller, Capture, params, details, start_at=body.at)
        return operation_answers(session, [row])[0]

    return Operation.model_validate(once(caller, service, key, body, make))


def _check(service: Service, caller: Principal, body: CaptureRequest) -> None:
    if body.at is not None and not timedelta(0) < body.at - utcnow() < _MOST_AHEAD:
        raise Invalid(f"{body.at} is not within the next 30 days.", advice="Give a moment in that time, with its zone.")
    if body.power_off and body.mode != "stopped":
        raise Invalid("Only a stopped capture shuts the machine down.", advice="Give mode stopped with power_off.")
    profile = None if body.mode == "as-is" else profile_for(body.profile)
    machine = find_machine(service.reach, caller.account, body.machine, body.region)
    remarks = Remarks()
    with service.database.reads() as session:
        if taken := check_number(session, find_line(session, caller, body.line), body.number, body.bump):
            remarks.forbid("number", taken, NUMBER_ADVICE)
        judge_source(session, caller, remarks, machine, body.afterwards)
    with service.reader() as reader:
        found = inspect(
            reader,
            service.reach,
            caller.account,
            machine,
            mode=body.mode,
            profile=profile,
            tags=body.tags,
            scratch_bytes=service.settings.scratch_bytes,
            remarks=remarks,
            power_off=body.power_off,
            disks=body.disks,
            prepared=body.prepared,
        )
    found.refuse()


@router.post("/capture-plans", status_code=202)
def plan_capture(body: CapturePlanRequest, caller: Operator, service: ServiceOf, key: Key = None) -> Operation:
    """Preflight, then what a profile would remove or change on a copy of the machine's disk, touching nothing.

    The operation's result is the plan.  With obstacles the disk is not looked at.
    """
    mode = body.mode
    if mode != "as-is":
        profile_for(body.profile)
    machine = find_machine(service.reach, caller.account, body.machine, body.region)
    before = judged_before(service, caller, body, machine)

    def make(session: Session) -> Operation:
        params = CapturePlanParams(
            machine_id=machine.id,
            region=machine.region,
            mode=mode_for(machine, mode),
            disks=body.disks,
            profile=body.profile,
            tags=body.tags,
            power_off=body.power_off,
            afterwards=body.afterwards,
            prepared=body.prepared,
            remarks=before.items,
        )
        row = start_operation(session, caller, CapturePlan, machine.name, params)
        return operation_answers(session, [row])[0]

    return Operation.model_validate(once(caller, service, key, body, make))


@router.get("/profiles")
def list_profiles(caller: Reader) -> list[Profile]:
    """The built-in generalization profiles, with their steps."""
    return [builtin_profile(name) for name in builtin_names()]


@router.post("/profiles/checks")
def check_profile(body: ProfileText, caller: Reader) -> Profile:
    """Read a profile's YAML: the profile with all its steps, those of the one that it extends first."""
    document = read_document(body.profile)
    if document.faults:
        raise Invalid(f"The profile cannot be read: {'; '.join(str(fault) for fault in document.faults)}")
    return profile_of(document.data)
