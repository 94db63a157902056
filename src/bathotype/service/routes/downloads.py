"""A version's bytes: its manifest, and its raw disk by byte range."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Annotated

from fastapi import APIRouter, Header, Response
from fastapi.responses import StreamingResponse

from bathotype.core.errors import Invalid, Refused
from bathotype.core.lifecycle.states import VersionState
from bathotype.core.store.materialise import StoredDisk
from bathotype.core.store.region import RegionStore
from bathotype.service.auth import Principal
from bathotype.service.catalogue import find_version, reference_of, require_replica, version_answer
from bathotype.service.records import Version
from bathotype.service.routes.common import PROBLEMS, Caller, ServiceOf
from bathotype.service.state import Service

router = APIRouter(tags=["downloads"], responses=PROBLEMS)
_PIECE = 1024 * 1024
_RANGE = re.compile(r"bytes=(\d+)-(\d*)")


def _place(service: Service, caller: Principal, reference: str, region: str | None) -> tuple[Version, RegionStore]:
    with service.database.sessions() as session:
        version = find_version(session, caller, reference)
        if version.state == VersionState.PURGED:
            raise Refused(f"{reference_of(version)} is purged: its bytes are gone.", code="state-forbids")
        held = version_answer(session, caller.account, version).regions
        place = service.reach.check_region(region) if region else (held[0] if held else service.reach.regions[0])
        require_replica(session, version, place)
    return version, service.reach.store(place)


@router.get(
    "/versions/{reference:path}/manifest",
    response_class=Response,
    responses={200: {"content": {"application/octet-stream": {}}}},
)
def manifest(reference: str, caller: Caller, service: ServiceOf, region: str | None = None) -> Response:
    """The manifest: the size, and position and digest of every non-zero chunk (docs/store-format.md)."""
    version, store = _place(service, caller, reference, region)
    return Response(store.get_manifest(version.id).dumps(), media_type="application/octet-stream")


@router.get(
    "/versions/{reference:path}/disk",
    response_class=StreamingResponse,
    responses={200: {"content": {"application/octet-stream": {}}}, 206: {"description": "Part of the disk"}},
)
def disk(
    reference: str,
    caller: Caller,
    service: ServiceOf,
    region: str | None = None,
    range_: Annotated[str | None, Header(alias="Range")] = None,
) -> Response:
    """The raw disk, each chunk checked by digest before it is sent; one byte range (RFC 9110) may be asked for."""
    version, store = _place(service, caller, reference, region)
    source = StoredDisk(store.get_manifest(version.id), store, cached_chunks=64)
    start, end = 0, source.size
    if range_ is not None:
        match = _RANGE.fullmatch(range_.strip())
        if match is None:
            raise Invalid(f"The range {range_!r} is not supported.", advice="Ask for one range: bytes=FIRST-LAST.")
        start, end = int(match[1]), min(source.size, int(match[2]) + 1 if match[2] else source.size)
        if start >= end:
            return Response(status_code=416, headers={"Content-Range": f"bytes */{source.size}"})
    headers = {"Accept-Ranges": "bytes", "Content-Length": str(end - start), "ETag": f'"{version.content_digest}"'}
    if range_ is not None:
        headers["Content-Range"] = f"bytes {start}-{end - 1}/{source.size}"
    # The first piece is read before the answer begins, so that a damaged pack is a problem document, not a cut stream.
    first = source.read(start, min(_PIECE, end - start))
    return StreamingResponse(
        _pieces(source, first, start, end), 206 if range_ else 200, headers, "application/octet-stream"
    )


def _pieces(source: StoredDisk, first: bytes, start: int, end: int) -> Iterator[bytes]:
    yield first
    for at in range(start + len(first), end, _PIECE):
        yield source.read(at, min(_PIECE, end - at))
