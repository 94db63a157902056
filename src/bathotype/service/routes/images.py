"""Bringing disks in: uploads, imports; and edits of versions."""

from __future__ import annotations

import base64
import hashlib
from dataclasses import asdict
from typing import Annotated

from fastapi import Header, Query, Request, Response
from sqlalchemy import func, select
from sqlalchemy.orm import Session
from starlette.concurrency import run_in_threadpool

from bathotype.core.confined.changing import PLAN, Planned, ProfileQuestion
from bathotype.core.errors import Damaged, Invalid, Refused
from bathotype.core.generalize.profile import OwnTool, Profile, RunInside, profile_of
from bathotype.core.lifecycle.references import parse_reference
from bathotype.core.lifecycle.states import VersionState
from bathotype.core.store.materialise import StoredDisk
from bathotype.core.units import iec, plural
from bathotype.service.access.principals import Principal
from bathotype.service.answers.operations import operation_answers
from bathotype.service.buckets import bucket_object
from bathotype.service.catalogue import find_line, find_version, reference_of, regions_from_home, require_replica
from bathotype.service.imagefiles import MORE_THAN_THE_DISK, Examined, examine, look_ahead
from bathotype.service.kinds.edit import Edit, EditParams, known_of_base, unchanged
from bathotype.service.kinds.generalizing import profile_for
from bathotype.service.kinds.importing import Import, ImportParams
from bathotype.service.kinds.making import start_making
from bathotype.service.kinds.objectdigest import DigestOfObject, ObjectDigestParams
from bathotype.service.numbering import check_number, claimable
from bathotype.service.operations.start import start_operation
from bathotype.service.records import Account, Upload, Version
from bathotype.service.records.base import CHANGE, new_id
from bathotype.service.routes.callers import Operator, Reader, ServiceOf
from bathotype.service.routes.common import Key, made_for, once, still_wanted
from bathotype.service.routes.route import api_router
from bathotype.service.state import Service
from bathotype.service.uploads import discard, find_open_upload, find_upload, new_upload
from bathotype.wire import images as wire
from bathotype.wire.operations import Operation

router = api_router(tags=["images"])
#: What an account may have under way at once: uploads, and bytes of so many of the largest disks.
_MOST_UPLOADS, _DISKS_AT_ONCE = 64, 4


def _check_uploads(session: Session, caller: Principal, size: int, most: int) -> None:
    """Raise `Refused` where the account has as much under way as it may."""
    session.scalar(select(Account.id).where(Account.id == caller.account_id).with_for_update(**CHANGE))
    asked = select(func.count(), func.coalesce(func.sum(Upload.size), 0)).where(Upload.account_id == caller.account_id)
    count, total = session.execute(asked).one()
    if count >= _MOST_UPLOADS or total + size > most * _DISKS_AT_ONCE:
        raise Refused(
            f"{caller.account} has {plural(count, 'upload')} of {iec(int(total))} under way already.",
            advice="Import them, or give them up; what nobody imports is removed after two days.",
            code="quota",
        )


@router.post("/uploads", status_code=201)
def start_upload(body: wire.UploadRequest, caller: Operator, service: ServiceOf, key: Key = None) -> wire.Upload:
    """Begin to bring a file in; its parts go into the region's store until it is imported, two days at most."""
    service.reach.check_region(body.region)
    most = service.reach.site(body.region, caller.account).limits().largest_disk + MORE_THAN_THE_DISK
    if body.size > most:
        raise Refused(
            f"The file has {iec(body.size)}; one of {iec(most)} at most can hold a disk of this region.",
            advice="Import it in a region whose site takes larger disks.",
            code="too-large",
        )

    def make(session: Session) -> wire.Upload:
        _check_uploads(session, caller, body.size, most)
        row = new_upload(caller.account_id, body.region, body.name, body.size)
        session.add(row)
        session.flush()
        return _answer(service, row)

    return wire.Upload.model_validate(once(caller, service, key, body, make))


def _answer(service: Service, row: Upload) -> wire.Upload:
    parts = sorted(service.reach.store(row.region).parts(row.id))
    return wire.Upload(
        id=row.id, name=row.name, size=row.size, region=row.region, part_bytes=row.part_bytes, parts=parts
    )


@router.get("/uploads/{upload}")
def show_upload(upload: str, caller: Operator, service: ServiceOf) -> wire.Upload:
    """An upload, with the parts that have arrived: a client that was cut off sends the others."""
    with service.database.reads() as session:
        return _answer(service, find_upload(session, caller, upload))


@router.put(
    "/uploads/{upload}/parts/{number}",
    status_code=204,
    openapi_extra={"requestBody": {"content": {"application/octet-stream": {}}}},
)
async def put_part(
    upload: str,
    number: int,
    request: Request,
    caller: Operator,
    service: ServiceOf,
    content_digest: Annotated[str, Header(description="RFC 9530: sha-256=:BASE64:")],
    zeros: Annotated[bool, Query(description="The part is all zeros: the body is empty.")] = False,
) -> Response:
    """One part of a file, checked by its digest."""
    data = await request.body()
    digest = base64.b64encode(hashlib.sha256(data).digest()).decode()
    if content_digest.strip() != f"sha-256=:{digest}:":
        raise Invalid("The part's bytes are not what its Content-Digest says.", advice="Send the part again.")
    await run_in_threadpool(_keep_part, service, caller, upload, number, data, zeros)
    return Response(status_code=204)


def _keep_part(service: Service, caller: Principal, upload: str, number: int, data: bytes, zeros: bool) -> None:
    with service.database.reads() as session:
        row = find_open_upload(session, caller, upload)
    length = min(row.part_bytes, row.size - number * row.part_bytes)
    if number < 0 or length <= 0:
        raise Invalid(f"The file has no part {number}.")
    if len(data) != (0 if zeros else length):
        raise Invalid(f"Part {number} has {length} bytes, not {len(data)}.")
    service.reach.store(row.region).put_part(row.id, number, data)


@router.delete("/uploads/{upload}", status_code=204)
def drop_upload(upload: str, caller: Operator, service: ServiceOf) -> None:
    """Give an upload up."""
    with service.database.reads() as session:
        row = find_open_upload(session, caller, upload)
    discard(service.database.sessions, service.reach.store(row.region), row.id)


@router.post("/import-inspections")
def inspect_import(body: wire.ImportRequest, caller: Operator, service: ServiceOf) -> wire.ImportInspection:
    """Everything that an import depends on, without starting it."""
    found = _examined(service, caller, body, ahead=True)
    size = iec(found.image.size) if found.image else "its size is known once it is unpacked"
    return wire.ImportInspection(
        verb="import",
        subject=found.source,
        blockers=found.remarks.refusals,
        warnings=found.remarks.warnings,
        effects=[f"A new version of {body.line} is made from it, staged: {size}; all chunks are stored once."],
        source=found.source,
        format=found.image.format if found.image else None,
        virtual_bytes=found.image.size if found.image else None,
        used_bytes=found.used_bytes,
        boot=list(found.platform.boot),
        architecture=found.platform.architecture,
        importable=found.importable,
        remarks=found.remarks.items,
        changes=_changes(found.preview.planned) if found.preview else [],
    )


def _examined(service: Service, caller: Principal, body: wire.ImportRequest, *, ahead: bool = False) -> Examined:
    profile = None if body.profile is None else profile_for(body.profile)
    with service.database.reads() as session:
        line = find_line(session, caller, body.line)
        taken = check_number(session, line, body.number, body.bump)
        upload = find_open_upload(session, caller, body.upload) if body.upload else None
    with service.reader() as reader:
        found = examine(
            reader,
            service.reach,
            caller.account,
            upload=upload,
            url=body.url,
            form=body.format,
            region=_region(service, body, upload),
            profile=profile,
            scratch_bytes=service.settings.scratch_bytes,
        )
        if ahead:
            look_ahead(found, reader, body.format, profile)
    if taken:
        found.remarks.forbid("number", taken, "Give another number, or --bump to take the next free one.")
    return found


def _region(service: Service, body: wire.ImportRequest, upload: Upload | None) -> str:
    if upload is not None and body.region not in (None, upload.region):
        raise Invalid(f"The upload is in {upload.region}, not in {body.region}.", advice="Leave the region out.")
    return upload.region if upload else service.reach.check_region(body.region or service.reach.regions[0])


@router.post("/imports", status_code=202)
def start_import(
    body: wire.ImportRequest, caller: Operator, service: ServiceOf, request: Request, key: Key = None
) -> Operation:
    """Import an image file as a new, staged version.  All obstacles are reported together, before anything starts."""
    found = _examined(service, caller, body)
    found.refuse()
    still_wanted(request)

    def make(session: Session) -> Operation:
        line = find_line(session, caller, body.line, lock=True)
        upload = find_open_upload(session, caller, body.upload) if body.upload else None
        params = ImportParams(
            upload=body.upload,
            url=body.url,
            format=body.format,
            profile=body.profile,
            notes=body.notes,
            **made_for(body),
            region=_region(service, body, upload),
            line_id=line.id,
            line=line.name,
            number=claimable(session, line, body.number, body.bump),
            version_id=new_id("ve"),
        )
        row = start_making(session, caller, Import, params, {"file": found.source})
        return operation_answers(session, [row])[0]

    return Operation.model_validate(once(caller, service, key, body, make))


@router.post("/bucket-digests", status_code=202)
def digest_in_bucket(body: wire.BucketFile, caller: Operator, service: ServiceOf, key: Key = None) -> Operation:
    """Read an object in a bucket once, to learn its size and SHA-256: a sheet's lock says them."""
    bucket_object(service.reach, caller.account, body.address, to="read").open()

    def make(session: Session) -> Operation:
        params = ObjectDigestParams(address=body.address)
        row = start_operation(session, caller, DigestOfObject, body.address, params)
        return operation_answers(session, [row])[0]

    return Operation.model_validate(once(caller, service, key, body, make))


@router.post("/edit-plans")
def plan_edit(body: wire.EditRequest, caller: Reader, service: ServiceOf) -> wire.EditPlan:
    """What an edit would change, path by path: the steps are tried on the version's stored bytes, and nothing is written."""
    steps = _steps(body)
    with service.database.reads() as session:
        base = find_version(session, caller, body.reference)
        blockers, line, base_id, reference = [], base.line.name, base.id, reference_of(base)
        try:
            region = _edit_region(service, session, base, body)
        except Refused as error:
            blockers, region = [str(error)], ""
        if taken := check_number(session, base.line, body.number, body.bump):
            blockers.append(taken)
    changes: list[wire.PlannedChange] = []
    if region:
        try:
            changes = _tried(service, steps, region, base_id)
        except (Refused, Damaged) as error:
            blockers.append(str(error))
    if not changes and not blockers and not body.even_unchanged:
        blockers.append(unchanged(reference))
    effects = [f"A new version of {line} is made from it in {region}, staged; it stays as it is."]
    return wire.EditPlan(
        verb="edit",
        subject=reference,
        blockers=blockers,
        warnings=[],
        effects=[] if blockers else [*effects, *(f"{step.id}: {step.says}" for step in steps.steps)],
        region=region or None,
        changes=changes,
    )


def _tried(service: Service, steps: Profile, region: str, version: str) -> list[wire.PlannedChange]:
    store = service.reach.store(region)
    disk = StoredDisk(store.get_manifest(version), store)
    with service.reader() as reader:
        found = reader.ask(PLAN, ProfileQuestion(steps, {}), disk)
    return _changes(found.planned)


def _changes(planned: Planned) -> list[wire.PlannedChange]:
    return [wire.PlannedChange.model_validate(asdict(change)) for change in planned.changes]


def _steps(body: wire.EditRequest) -> Profile:
    steps = profile_of({"name": "edit", "steps": body.steps}, called="The edit")
    if any(isinstance(step, RunInside | OwnTool) for step in steps.steps):
        raise Invalid("A step runs inside the machine, and an edit boots none.", advice="Leave the step out.")
    return steps


def _edit_region(service: Service, session: Session, base: Version, body: wire.EditRequest) -> str:
    """Where the edit is made.  Raises `Refused` where the version's bytes are not there."""
    if base.state == VersionState.PURGED:
        raise Refused(f"{reference_of(base)} is purged: its bytes are gone.", code="state-forbids")
    home = service.reach.check_region(body.region) if body.region else ""
    region = home or (regions_from_home(session, base) or service.reach.regions)[0]
    require_replica(session, base.id, reference_of(base), region)
    return region


@router.post("/edits", status_code=202)
def edit(body: wire.EditRequest, caller: Operator, service: ServiceOf, key: Key = None) -> Operation:
    """A new version from an old one by typed steps on its disk, which is not booted."""
    steps = _steps(body)

    def make(session: Session) -> Operation:
        reference = parse_reference(body.reference)
        if reference.account in (None, caller.account):
            find_line(session, caller, reference.line, lock=True)
        base = find_version(session, caller, reference, lock="share")
        line = base.line
        region = _edit_region(service, session, base, body)
        params = EditParams(
            **known_of_base(session, base, reference_of(base)),
            steps=body.steps,
            even_unchanged=body.even_unchanged,
            notes=body.notes,
            **made_for(body),
            region=region,
            line_id=line.id,
            line=line.name,
            number=claimable(session, line, body.number, body.bump),
            version_id=new_id("ve"),
        )
        row = start_making(
            session, caller, Edit, params, {"base": reference_of(base), "steps": [s.id for s in steps.steps]}
        )
        return operation_answers(session, [row])[0]

    return Operation.model_validate(once(caller, service, key, body, make))
