"""A version's bytes: its manifest, and its disk as a file of any format, by byte range."""

from __future__ import annotations

import base64
import hashlib
import itertools
import re
import threading
import zlib
from collections import OrderedDict
from collections.abc import Callable, Iterator
from typing import Annotated

from fastapi import Depends, Header, Query, Response
from fastapi.responses import StreamingResponse
from pydantic import WithJsonSchema

from bathotype.core.access.roles import Verb
from bathotype.core.errors import Invalid, Refused
from bathotype.core.formats.catalogue import FORMATS, Format, format_named, lay_out
from bathotype.core.formats.laidout import LaidOutFile, stream
from bathotype.core.formats.ovf import Appliance
from bathotype.core.lifecycle.states import VersionState
from bathotype.core.store.materialise import StoredDisk
from bathotype.core.store.region import RegionStore
from bathotype.service.access.principals import Principal
from bathotype.service.catalogue import find_version, ready_regions, reference_of, require_replica
from bathotype.service.records import ExportDigest, Version
from bathotype.service.routes.callers import CallerWith, Operator, ServiceOf
from bathotype.service.routes.route import api_router
from bathotype.service.state import Service
from bathotype.wire.images import ExportedFile

router = api_router(tags=["downloads"])
_PIECE = 1024 * 1024
_LAYOUTS = 8
_RANGE = re.compile(r"bytes=(\d{1,18})-(\d{1,18})?")

FormatName = Annotated[str, WithJsonSchema({"type": "string", "enum": list(FORMATS)})]


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
    """The manifest: the size, and position and digest of every non-zero chunk (docs/store-format.md)."""
    version, store = _place(service, caller, reference, region)
    return Response(store.get_manifest(version.id).dumps(), media_type="application/octet-stream")


class _Layouts:
    """Files that were laid out a short while ago: a download in many ranges does not measure the disk each time."""

    def __init__(self) -> None:
        self._known: OrderedDict[tuple[str, str, str, str], LaidOutFile] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: tuple[str, str, str, str], make: Callable[[], LaidOutFile]) -> LaidOutFile:
        """The file for a key, laid out where it is not known."""
        with self._lock:
            if (known := self._known.get(key)) is not None:
                self._known.move_to_end(key)
                return known
        made = make()
        with self._lock:
            self._known[key] = made
            if len(self._known) > _LAYOUTS:
                self._known.popitem(last=False)
        return made


_layouts = _Layouts()


def _file(version: Version, store: RegionStore, form: Format) -> LaidOutFile:
    def make() -> LaidOutFile:
        source = StoredDisk(store.get_manifest(version.id), store)
        appliance = Appliance(version.line.name, version.line.name, version.number)
        identity = bytes.fromhex(version.content_digest.rpartition(":")[2])[:16]
        return lay_out(form.name, source, appliance=appliance, identity=identity)

    return _layouts.get((store.name, version.id, form.name, version.number), make)


def _etag(version: Version, form: Format) -> str:
    """Formats that are compressed anew depend on the compressor's version as well."""
    made_by = f"-zlib-{zlib.ZLIB_RUNTIME_VERSION}" if form.recompresses else ""
    return f'"{version.content_digest}-{form.name}{made_by}"'


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
    range_: Annotated[str | None, Header(alias="Range")] = None,
    if_range: Annotated[str | None, Header(alias="If-Range")] = None,
    account: Annotated[str, Query(max_length=63, description="Instead of the header, which a link cannot send.")] = "",
) -> Response:
    """The disk as a file of a format, each chunk checked by digest before it is sent.

    One byte range (RFC 9110) may be asked for.  ``Repr-Digest`` (RFC 9530) is sent once the file's digest is known;
    `disk-digest` works it out.
    """
    version, store = _place(service, caller, reference, region)
    form = format_named(format)
    file, etag = _file(version, store, form), _etag(version, form)
    start, end = 0, file.size
    partial = range_ is not None and if_range in (None, etag)
    if partial:
        match = _RANGE.fullmatch(str(range_).strip())
        if match is None:
            raise Invalid(f"The range {range_!r} is not supported.", advice="Ask for one range: bytes=FIRST-LAST.")
        start, end = int(match[1]), min(file.size, int(match[2]) + 1 if match[2] else file.size)
        if start >= end:
            return Response(status_code=416, headers={"Content-Range": f"bytes */{file.size}"})
    name = f"{version.line.name}-{version.number}{form.suffix}"
    headers = {
        "Accept-Ranges": "bytes",
        "Content-Length": str(end - start),
        "ETag": etag,
        "Content-Disposition": f'attachment; filename="{name}"',
    }
    if (known := _known_digest(service, version, form)) is not None:
        headers["Repr-Digest"] = f"sha-256=:{base64.b64encode(bytes.fromhex(known)).decode()}:"
    if partial:
        headers["Content-Range"] = f"bytes {start}-{end - 1}/{file.size}"
    # The first piece is read before the answer begins, so that a damaged pack is a problem document, not a cut stream.
    first = file.read(start, min(_PIECE, end - start))
    note = None if partial else _Noting(service, version, form, file.size)
    return StreamingResponse(
        _pieces(file, first, start, end, note), 206 if partial else 200, headers, "application/octet-stream"
    )


class _Noting:
    """Hashes a file while it is sent from its first byte to its last, and keeps the digest."""

    def __init__(self, service: Service, version: Version, form: Format, size: int) -> None:
        self._service, self._version, self._form, self._size = service, version, form, size
        self._hasher = hashlib.sha256()

    def take(self, piece: bytes) -> None:
        """The next piece."""
        self._hasher.update(piece)

    def keep(self) -> str:
        """The whole file has passed."""
        digest = self._hasher.hexdigest()
        with self._service.database.sessions.begin() as session:
            row = ExportDigest(version_id=self._version.id, format=self._form.name, size=self._size, sha256=digest)
            session.merge(row)
        return digest


def _pieces(file: LaidOutFile, first: bytes, start: int, end: int, note: _Noting | None) -> Iterator[bytes]:
    for piece in itertools.chain([first], stream(file, start + len(first), end)):
        if note is not None:
            note.take(piece)
        yield piece
    if note is not None:
        note.keep()


def _known_digest(service: Service, version: Version, form: Format) -> str | None:
    with service.database.reads() as session:
        row = session.get(ExportDigest, (version.id, form.name))
        return row.sha256 if row is not None and not form.recompresses else None


@router.get("/versions/{reference:path}/disk-digest")
def disk_digest(
    reference: str,
    caller: Operator,
    service: ServiceOf,
    region: str | None = None,
    format: Annotated[FormatName, Query(description="Format of the file.")] = "raw",
) -> ExportedFile:
    """Size and SHA-256 of a version as a file; made once to learn them where that has not happened yet."""
    version, store = _place(service, caller, reference, region)
    form = format_named(format)
    file = _file(version, store, form)
    digest = _known_digest(service, version, form)
    if digest is None:
        note = _Noting(service, version, form, file.size)
        for piece in stream(file):
            note.take(piece)
        digest = note.keep()
    return ExportedFile(
        reference=reference_of(version),
        format=form.name,
        name=f"{version.line.name}-{version.number}{form.suffix}",
        size=file.size,
        sha256=digest,
    )
