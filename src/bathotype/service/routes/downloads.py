"""A version's bytes: its manifest, and its disk as a file of any format, by byte range."""

from __future__ import annotations

import base64
import itertools
import re
from collections.abc import Iterator
from typing import Annotated

from fastapi import Depends, Header, Query, Response
from fastapi.responses import StreamingResponse
from pydantic import WithJsonSchema
from sqlalchemy.orm import Session

from bathotype.core.access.roles import Verb
from bathotype.core.errors import Invalid, NotFound, Refused
from bathotype.core.formats.catalogue import FORMATS
from bathotype.core.formats.laidout import LaidOutFile, stream
from bathotype.core.lifecycle.states import VersionState
from bathotype.core.store.region import RegionStore
from bathotype.service.access.principals import Principal
from bathotype.service.answers.operations import operation_answers
from bathotype.service.buckets import bucket_object
from bathotype.service.catalogue import find_version, ready_regions, reference_of, require_replica
from bathotype.service.exports import ExportAs, Hashing, export_as, export_file, known_digest
from bathotype.service.kinds.bucketexport import BucketExport, BucketExportParams, refuse_taken
from bathotype.service.kinds.exportdigest import DigestOfExport, ExportDigestParams
from bathotype.service.operations.start import start_operation
from bathotype.service.records import Version
from bathotype.service.routes.callers import CallerWith, Operator, ServiceOf
from bathotype.service.routes.common import Key, once
from bathotype.service.routes.route import api_router
from bathotype.service.state import Service
from bathotype.wire.images import ExportedFile, ExportRequest
from bathotype.wire.operations import Operation

router = api_router(tags=["downloads"])
_PIECE = 1024 * 1024
_RANGE = re.compile(r"bytes=(\d{1,18})-(\d{1,18})?")

FormatName = Annotated[str, WithJsonSchema({"type": "string", "enum": list(FORMATS)})]
Role = Annotated[
    str | None,
    Query(
        alias="disk",
        max_length=16,
        description="Role of the disk: needed of a version that has several, but in an OVA.",
    ),
]


def _place(service: Service, caller: Principal, reference: str, region: str | None) -> tuple[Version, RegionStore]:
    with service.database.reads() as session:
        version = find_version(session, caller, reference)
        if version.state == VersionState.PURGED:
            raise Refused(f"{reference_of(version)} is purged: its bytes are gone.", code="state-forbids")
        held = ready_regions(session, version)
        place = service.reach.check_region(region) if region else (held[0] if held else service.reach.regions[0])
        require_replica(session, version.id, reference_of(version), place)
    return version, service.reach.store(place)


@router.get(
    "/versions/{reference:path}/manifest",
    response_class=Response,
    responses={200: {"content": {"application/octet-stream": {}}}},
)
def manifest(reference: str, caller: Operator, service: ServiceOf, region: str | None = None) -> Response:
    """The manifest: the size of each disk, and position and digest of every non-zero chunk (docs/store-format.md)."""
    version, store = _place(service, caller, reference, region)
    return Response(store.get_manifest(version.id).dumps(), media_type="application/octet-stream")


def _etag(version: Version, wanted: ExportAs) -> str:
    return f'"{version.content_digest}-{wanted.made_as}"'


@router.get(
    "/versions/{reference:path}/disk",
    response_class=StreamingResponse,
    responses={200: {"content": {"application/octet-stream": {}}}, 206: {"description": "Part of the file"}},
)
def disk(
    reference: str,
    caller: Annotated[Principal, Depends(CallerWith(Verb.OPERATE, account_query="account"))],
    service: ServiceOf,
    region: str | None = None,
    format: Annotated[FormatName, Query(description="Format of the file.")] = "raw",
    role: Role = None,
    range_: Annotated[str | None, Header(alias="Range")] = None,
    if_range: Annotated[str | None, Header(alias="If-Range")] = None,
    account: Annotated[str, Query(max_length=63, description="Instead of the header, which a link cannot send.")] = "",
) -> Response:
    """A disk as a file of a format, or all disks as an OVA, each chunk checked by digest before it is sent.

    One byte range (RFC 9110) may be asked for.  ``Repr-Digest`` (RFC 9530) is sent once the file's digest is known;
    `disk-digest` works it out.
    """
    version, store = _place(service, caller, reference, region)
    wanted = export_as(version, format, role)
    file, etag = export_file(version, store, wanted), _etag(version, wanted)
    start, end = 0, file.size
    partial = range_ is not None and if_range in (None, etag)
    if partial:
        match = _RANGE.fullmatch(str(range_).strip())
        if match is None:
            raise Invalid(f"The range {range_!r} is not supported.", advice="Ask for one range: bytes=FIRST-LAST.")
        start, end = int(match[1]), min(file.size, int(match[2]) + 1 if match[2] else file.size)
        if start >= end:
            return Response(status_code=416, headers={"Content-Range": f"bytes */{file.size}"})
    name = wanted.file_name(version)
    headers = {
        "Accept-Ranges": "bytes",
        "Content-Length": str(end - start),
        "ETag": etag,
        "Content-Disposition": f'attachment; filename="{name}"',
    }
    if (known := known_digest(service.database, version, wanted)) is not None:
        headers["Repr-Digest"] = f"sha-256=:{base64.b64encode(bytes.fromhex(known)).decode()}:"
    if partial:
        headers["Content-Range"] = f"bytes {start}-{end - 1}/{file.size}"
    # The first piece is read before the answer begins, so that a damaged pack is a problem document, not a cut stream.
    first = file.read(start, min(_PIECE, end - start))
    note = None if partial else Hashing(service.database, version, wanted, file.size)
    return StreamingResponse(
        _pieces(file, first, start, end, note), 206 if partial else 200, headers, "application/octet-stream"
    )


def _pieces(file: LaidOutFile, first: bytes, start: int, end: int, note: Hashing | None) -> Iterator[bytes]:
    for piece in itertools.chain([first], stream(file, start + len(first), end)):
        if note is not None:
            note.take(piece)
        yield piece
    if note is not None:
        note.keep()


@router.get("/versions/{reference:path}/disk-digest")
def disk_digest(
    reference: str,
    caller: Operator,
    service: ServiceOf,
    region: str | None = None,
    format: Annotated[FormatName, Query(description="Format of the file.")] = "raw",
    role: Role = None,
) -> ExportedFile:
    """Size and SHA-256 of a version as a file, once it was read as a whole: by a download, or by ``disk-digests``."""
    version, store = _place(service, caller, reference, region)
    wanted = export_as(version, format, role)
    digest = known_digest(service.database, version, wanted)
    if digest is None:
        raise NotFound(
            f"The SHA-256 of {reference_of(version)} as {wanted.form.name} is not known yet.",
            advice="POST to disk-digests of the version: the operation reads it once.",
            code="digest-unknown",
        )
    return ExportedFile(
        reference=reference_of(version),
        format=wanted.form.name,
        disk=wanted.role,
        name=wanted.file_name(version),
        size=export_file(version, store, wanted).size,
        sha256=digest,
    )


@router.post("/versions/{reference:path}/exports", status_code=202)
def export_to_bucket(
    reference: str, body: ExportRequest, caller: Operator, service: ServiceOf, key: Key = None
) -> Operation:
    """Write a version, as a file of a format, to a bucket that the operator has named for this account."""
    version, store = _place(service, caller, reference, body.region)
    wanted = export_as(version, body.format, body.disk)
    target = bucket_object(service.reach, caller.account, body.to, to="write")
    if not body.overwrite:
        refuse_taken(target)
    params = BucketExportParams(
        version_id=version.id, reference=reference_of(version), region=store.name, format=wanted.form.name,
        disk=wanted.role, to=body.to, overwrite=body.overwrite,
    )  # fmt: skip

    def make(session: Session) -> Operation:
        row = start_operation(session, caller, BucketExport, params.reference, params)
        return operation_answers(session, [row])[0]

    return Operation.model_validate(once(caller, service, key, body, make))


@router.post("/versions/{reference:path}/disk-digests", status_code=202)
def work_out_digest(
    reference: str,
    caller: Operator,
    service: ServiceOf,
    region: str | None = None,
    format: Annotated[FormatName, Query(description="Format of the file.")] = "raw",
    role: Role = None,
) -> Operation:
    """Read a version as a file once, to learn its SHA-256."""
    version, store = _place(service, caller, reference, region)
    wanted = export_as(version, format, role)
    params = ExportDigestParams(
        version_id=version.id,
        reference=reference_of(version),
        region=store.name,
        format=wanted.form.name,
        disk=wanted.role,
    )
    with service.database.sessions.begin() as session:
        row = start_operation(session, caller, DigestOfExport, params.reference, params)
        return operation_answers(session, [row])[0]
