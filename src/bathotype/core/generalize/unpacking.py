"""What is packed in a file: members of archives, and what was compressed, within bounds that are known before.

gzip (RFC 1952), xz, bzip2 and Zstandard (RFC 8878) streams, tar archives in them or alone, and ZIP archives.  Anything that is
broken or encrypted ends quietly: the scan looks at what can be read.
"""

from __future__ import annotations

import io
import struct
import tarfile
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass

from bathotype.core.formats.packed import BROKEN, Readable, opened, packing_shown

#: A compressed archive is two layers.
_DEPTH, _MOST_MEMBERS, _PIECE = 4, 10_000, 1024 * 1024
_TAR_MAGIC = slice(257, 262)
_BROKEN = (*BROKEN, RuntimeError, KeyError, struct.error, tarfile.TarError, zipfile.BadZipFile)


@dataclass
class Budget:
    """Bytes that may still be unpacked.  ``spent`` says that something was left out."""

    left: int
    spent: bool = False

    def take(self, wanted: int) -> int:
        """How many of so many bytes may be unpacked."""
        taken = min(wanted, self.left)
        self.spent |= taken < wanted
        self.left -= taken
        return taken


def is_packed(head: bytes) -> bool:
    """Whether a file begins as one does that holds others."""
    return packing_shown(head) is not None or head.startswith(b"PK\x03\x04") or head[_TAR_MAGIC] == b"ustar"


def unpacked(data: bytes, budget: Budget, *, depth: int = _DEPTH) -> Iterator[tuple[str, bytes]]:
    """``(name, bytes)`` of everything in a packed file, and in packed files in it."""
    if not depth:
        return
    for name, inner in _members(data, budget):
        if is_packed(inner[:512]):
            for below, bytes_of in unpacked(inner, budget, depth=depth - 1):
                yield "!".join(filter(None, (name, below))), bytes_of
        else:
            yield name, inner


def _members(data: bytes, budget: Budget) -> Iterator[tuple[str, bytes]]:
    try:
        if packing := packing_shown(data):
            yield "", _read(opened(io.BytesIO(data), packing), budget.left, budget)
        elif data.startswith(b"PK\x03\x04"):
            yield from _in_zip(data, budget)
        else:
            yield from _in_tar(data, budget)
    except _BROKEN:
        return


def _read(file: Readable, most: int, budget: Budget) -> bytes:
    """What a stream holds, as far as the budget goes; what was read of a broken one."""
    out = bytearray()
    try:
        while len(out) < most and (piece := file.read(min(_PIECE, most - len(out)))):
            out += piece
    except _BROKEN:
        pass
    budget.take(len(out))
    budget.spent |= len(out) >= most
    return bytes(out)


def _in_zip(data: bytes, budget: Budget) -> Iterator[tuple[str, bytes]]:
    end = data.rfind(b"PK\x05\x06")
    if end < 0 or len(data) < end + 22 or struct.unpack_from("<H", data, end + 10)[0] > _MOST_MEMBERS:
        return
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        for member in archive.infolist()[:_MOST_MEMBERS]:
            if not member.is_dir() and not member.flag_bits & 1:
                try:
                    with archive.open(member) as file:
                        yield member.filename, _read(file, budget.left, budget)
                except _BROKEN:
                    continue


def _in_tar(data: bytes, budget: Budget) -> Iterator[tuple[str, bytes]]:
    with tarfile.open(fileobj=io.BytesIO(data), mode="r:") as archive:
        for number, member in enumerate(archive):
            if number >= _MOST_MEMBERS:
                budget.spent = True
                return
            if member.isreg() and (file := archive.extractfile(member)) is not None:
                yield member.name, _read(file, budget.left, budget)
