"""Bringing a version's disk to a file: sparse, resumable, every chunk checked against the manifest."""

from __future__ import annotations

import hashlib
import os
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import BinaryIO

import httpx

from bathotype.client.transport import Transport, error_of
from bathotype.core.disk.several import number_of
from bathotype.core.errors import Damaged, Invalid, NotFound, OutOfSpace, Unavailable
from bathotype.core.store.chunks import CHUNK, digest
from bathotype.core.store.manifest import Manifest
from bathotype.core.units import iec
from bathotype.wire.images import ExportedFile

_MOST_PIECE = 1024 * 1024
_TRIES = 5
_MOST_RUN = 256  # chunks asked for in one request: 16 MiB


def download(
    transport: Transport,
    reference: str,
    region: str | None,
    disk: str | None,
    target: Path,
    progress: Callable[[int, int], None],
) -> Manifest:
    """Write a raw disk of a version to ``target``; it appears under its name only when it is whole.

    ``disk`` is its role; None for the only one.

    An earlier, interrupted download of the same content is taken up where it ended.
    Raises `Damaged` where a chunk is not what the manifest says.
    """
    if target.is_dir():
        raise Invalid(f"{target} is a folder.", advice="Name a file.")
    answer = transport.call("GET", f"/versions/{reference}/manifest", params={"region": region})
    manifest = Manifest.loads(answer.content).disk(number_of(disk))
    partial = target.with_name(f".{target.name}.{manifest.content_digest[-12:]}.part")
    total, done = len(manifest) * CHUNK, 0
    _need_room(partial, total)
    try:
        with partial.open("r+b" if partial.exists() else "w+b") as file:
            file.truncate(manifest.size)
            for rows in _runs(manifest):
                wanted = [r for r in rows if not _there(file.fileno(), manifest, r)]
                done += (len(rows) - len(wanted)) * CHUNK
                for run in _split(wanted, manifest):
                    for row, data in _fetch(transport, reference, _asked(region=region, disk=disk), manifest, run):
                        os.pwrite(file.fileno(), data, int(manifest.index[row]) * CHUNK)
                        done += CHUNK
                    progress(done, total)
            file.flush()
            os.fsync(file.fileno())
    except OSError as error:
        raise OutOfSpace(
            f"{target} cannot be written: {error.strerror}.", advice="Free space and run it again."
        ) from error
    partial.replace(target)
    progress(total, total)
    return manifest


def _need_room(partial: Path, needed: int) -> None:
    """Raise `OutOfSpace` before anything is brought, where the folder cannot hold so many bytes.

    What an earlier download brought lies there already.
    """
    try:
        there = partial.stat().st_blocks * 512 if partial.exists() else 0
        free = shutil.disk_usage(partial.parent).free
    except OSError as error:
        raise Invalid(
            f"{partial.parent} cannot be used: {error.strerror}.", advice="Name a file in a folder that is there."
        ) from error
    if needed - there > free:
        raise OutOfSpace(
            f"The file needs {iec(needed - there)}; {partial.parent} has {iec(free)} free.",
            advice="Free space, or name a file on another disk.",
        )


def _asked(**given: str | None) -> dict[str, str]:
    """What is asked of a download; what is None is left out."""
    return {name: value for name, value in given.items() if value is not None}


def _in_use(transport: Transport, reference: str, region: str | None, disk: str | None) -> int:
    """The bytes of a version's disk that are not zeros: the rest of a plain disk becomes holes."""
    answer = transport.call("GET", f"/versions/{reference}/manifest", params={"region": region})
    return len(Manifest.loads(answer.content).disk(number_of(disk))) * CHUNK


def sha256_of(file: Path, progress: Callable[[int, int], None]) -> str:
    """The SHA-256 of a file, as hexadecimal text."""
    total, hasher = file.stat().st_size, hashlib.sha256()
    with file.open("rb") as opened:
        while piece := opened.read(_MOST_PIECE):
            hasher.update(piece)
            progress(opened.tell(), total)
    return hasher.hexdigest()


def _runs(manifest: Manifest) -> Iterator[list[int]]:
    """Rows of the manifest, in pieces of a bounded size."""
    for start in range(0, len(manifest), _MOST_RUN):
        yield list(range(start, min(start + _MOST_RUN, len(manifest))))


def _split(rows: list[int], manifest: Manifest) -> Iterator[list[int]]:
    """Rows whose chunks lie side by side on the disk."""
    run: list[int] = []
    for row in rows:
        if run and manifest.index[row] != manifest.index[run[-1]] + 1:
            yield run
            run = []
        run.append(row)
    if run:
        yield run


def _there(handle: int, manifest: Manifest, row: int) -> bool:
    index = int(manifest.index[row])
    data = os.pread(handle, manifest.chunk_size(index), index * CHUNK)
    return manifest.holds(row, data)


def _fetch(
    transport: Transport, reference: str, params: dict[str, str], manifest: Manifest, run: list[int]
) -> Iterator[tuple[int, bytes]]:
    start = int(manifest.index[run[0]]) * CHUNK
    last = int(manifest.index[run[-1]])
    end = last * CHUNK + manifest.chunk_size(last)
    try:
        with transport.http.stream(
            "GET",
            f"/versions/{reference}/disk",
            params=params,
            headers={"Range": f"bytes={start}-{end - 1}"},
        ) as answer:
            if answer.status_code >= 400:
                raise error_of(answer)
            data = answer.read()
    except httpx.TransportError as error:
        raise Unavailable(
            "The download was cut short.", advice="Run it again: it continues where it stopped."
        ) from error
    for row in run:
        at = int(manifest.index[row]) * CHUNK - start
        piece = data[at : at + manifest.chunk_size(int(manifest.index[row]))]
        if not manifest.holds(row, piece):
            raise Damaged("The service sent a chunk that is not what the manifest says.", advice="Run it again.")
        yield row, piece


def download_file(
    transport: Transport,
    reference: str,
    region: str | None,
    disk: str | None,
    form: str,
    target: Path,
    progress: Callable[[int, int], None],
    learn: Callable[[], None],
) -> ExportedFile:
    """Write a version as a file of a format; what an interrupted download brought is kept and gone on from.

    ``learn`` has the service work out the file's digest, which it knows by itself of one that was sent in one piece.

    Raises `Damaged` where the file is not what the service says it is.
    """
    if target.is_dir():
        raise Invalid(f"{target} is a folder.", advice="Name a file.")
    params = _asked(format=form, region=region, disk=disk)
    head = transport.http.stream("GET", f"/versions/{reference}/disk", params=params, headers={"Range": "bytes=0-0"})
    with head as answer:
        if answer.status_code >= 400:
            raise error_of(answer)
        etag = answer.headers["ETag"]
        total = int(answer.headers["Content-Range"].rpartition("/")[2])
    partial = target.with_name(f".{target.name}.{digest(etag.encode()).hex()[:12]}.part")
    _need_room(partial, min(total, _in_use(transport, reference, region, disk)) if form == "vhd-fixed" else total)
    try:
        with partial.open("r+b" if partial.exists() else "w+b") as file:
            hasher = hashlib.sha256()
            while piece := file.read(_MOST_PIECE):
                hasher.update(piece)
            for _ in range(_TRIES):
                if file.tell() >= total:
                    break
                _append(transport, reference, params, etag, file, hasher, total, progress)
            file.truncate(total)
            file.flush()
            os.fsync(file.fileno())
            done = file.tell()
    except OSError as error:
        raise OutOfSpace(
            f"{target} cannot be written: {error.strerror}.", advice="Free space and run it again."
        ) from error
    if done < total:
        raise Unavailable("The download was cut short.", advice="Run it again: it continues where it stopped.")
    known = _known(transport, reference, params, learn)
    if known.sha256 != hasher.hexdigest() or known.size != total:
        partial.unlink()
        raise Damaged("The file that arrived is not what the service has.", advice="Run it again.")
    partial.replace(target)
    return known


def _known(transport: Transport, reference: str, params: dict[str, str], learn: Callable[[], None]) -> ExportedFile:
    """What the service knows of the file: a download in pieces does not give it the digest."""
    try:
        return transport.one(ExportedFile, "GET", f"/versions/{reference}/disk-digest", params=params)
    except NotFound as error:
        if error.code != "digest-unknown":
            raise
    learn()
    return transport.one(ExportedFile, "GET", f"/versions/{reference}/disk-digest", params=params)


def _append(
    transport: Transport,
    reference: str,
    params: dict[str, str],
    etag: str,
    file: BinaryIO,
    hasher: hashlib._Hash,
    total: int,
    progress: Callable[[int, int], None],
) -> None:
    """Bring the rest of the file; zeros at the end of a piece become holes."""
    # A whole file is asked for plainly: the service hashes it on its way.
    begun = file.tell() > 0
    headers = {"Range": f"bytes={file.tell()}-", "If-Range": etag} if begun else {}
    try:
        with transport.http.stream("GET", f"/versions/{reference}/disk", params=params, headers=headers) as answer:
            if answer.status_code != (206 if begun else 200):
                raise error_of(answer) if answer.status_code >= 400 else Unavailable("The file changed meanwhile.")
            for piece in answer.iter_bytes(_MOST_PIECE):
                hasher.update(piece)
                if piece.count(0) != len(piece):
                    file.write(piece)
                else:
                    file.seek(len(piece), os.SEEK_CUR)
                progress(file.tell(), total)
    except httpx.TransportError:
        return  # what has arrived is kept
