"""Which clusters of an NTFS file system are in use: what its allocation bitmap says; and its records and their attributes.

Follows the format as the documentation of Linux-NTFS describes it; numbers are little-endian.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from contextlib import suppress
from typing import NamedTuple

import numpy as np

from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Damaged

_MFT, _LOG, _VOLUME, _BITMAP = 0, 2, 3, 6
_VOLUME_INFORMATION, _DATA, _END = 0x70, 0x80, 0xFFFFFFFF
_IN_USE = 0x1
_MOST_RECORDS, _RECORDS_AT_ONCE = 1 << 21, 256
_DIRTY, _NO_CLIENT, _VOLUME_IS_CLEAN = 0x1, 0xFFFF, 0x2
_MOST_RUNS, _MOST_BITMAP, _MOST_HOLE = 1 << 20, 1 << 32, 1 << 52
#: The cluster of a run that is a hole.
HOLE = -1


class Run(NamedTuple):
    cluster: int
    length: int


class Ntfs:
    """A view of an NTFS file system.  Raises `Damaged` when there is none, or one that is not understood."""

    def __init__(self, source: BlockSource) -> None:
        self.source = source
        head = source.read(0, 512) if source.size >= 1 << 16 else bytes(512)
        if head[3:11] != b"NTFS    ":
            raise Damaged("No NTFS file system.")
        self.uuid, self.label = f"{struct.unpack_from('<Q', head, 72)[0]:016X}", ""
        sector, per_cluster = struct.unpack_from("<HB", head, 11)
        sectors, mft = struct.unpack_from("<QQ", head, 40)
        clusters_of_record = struct.unpack_from("<b", head, 64)[0]
        per_cluster = per_cluster if per_cluster <= 0x80 else 1 << (256 - per_cluster)
        self.cluster = sector * per_cluster
        if sector not in (512, 1024, 2048, 4096) or not 512 <= self.cluster <= 1 << 21:
            raise Damaged("The boot sector of the NTFS file system contradicts itself.")
        self.record = 1 << -clusters_of_record if -31 < clusters_of_record < 0 else clusters_of_record * self.cluster
        self.end = sectors * sector
        self.cluster_count = self.end // self.cluster
        if not 512 <= self.record <= 65536 or self.end > source.size or not 0 < mft < self.cluster_count:
            raise Damaged("The boot sector of the NTFS file system contradicts itself.")
        self._mft = [Run(mft, -(-16 * self.record // self.cluster))]
        self._mft = self.runs(self._attribute(_MFT, _DATA))

    def used(self) -> Ranges:
        """Byte ranges that hold files or metadata.  Raises `Damaged` where the bitmap cannot be relied on."""
        if why := self.waits():
            raise Damaged(why)
        attribute = self._attribute(_BITMAP, _DATA)
        size = -(-self.cluster_count // 8)
        if size > _MOST_BITMAP:
            raise Damaged("The bitmap of the NTFS file system is too large.")
        bits = np.unpackbits(np.frombuffer(self._read(attribute, size), np.uint8), bitorder="little")
        bits = bits[: self.cluster_count]
        edges = np.flatnonzero(np.diff(np.concatenate(([0], bits.view(np.int8), [0]))))
        taken = Ranges.of_arrays(
            edges[0::2].astype(np.int64) * self.cluster, edges[1::2].astype(np.int64) * self.cluster
        )
        # The sectors behind the last whole cluster, where the copy of the boot sector is.
        return taken.union(Ranges.of([(0, self.cluster), (self.cluster_count * self.cluster, self.source.size)]))

    def waits(self) -> str:
        """Why the bitmap cannot be relied on; empty where it can."""
        flags = struct.unpack_from("<H", self._content(self._attribute(_VOLUME, _VOLUME_INFORMATION)), 10)[0]
        if flags & _DIRTY:
            return "It was not shut down in an orderly way."
        page = self._read(self._attribute(_LOG, _DATA), 4096)
        if page[:4] == b"\xff" * 4:
            return ""  # an empty log
        area = struct.unpack_from("<H", page, 24)[0]
        if page[:4] != b"RSTR" or area + 16 > len(page):
            return "Its log cannot be read."
        client, state = struct.unpack_from("<HH", page, area + 12)
        return "" if client == _NO_CLIENT or state & _VOLUME_IS_CLEAN else "Its log waits to be replayed."

    def records(self) -> Iterator[tuple[int, bytes]]:
        """Every record in use that is whole, with its number.  Raises `Damaged` where there are too many."""
        count = sum(run.length for run in self._mft) * self.cluster // self.record
        if count > _MOST_RECORDS:
            raise Damaged(f"The NTFS file system has {count} files: too many to look at.")
        for first in range(0, count, _RECORDS_AT_ONCE):
            few = min(_RECORDS_AT_ONCE, count - first)
            data = self.in_runs(self._mft, first * self.record, few * self.record)
            for n in range(few):
                piece = data[n * self.record : (n + 1) * self.record]
                if piece[:4] == b"FILE" and struct.unpack_from("<H", piece, 22)[0] & _IN_USE:
                    with suppress(Damaged, struct.error):
                        yield first + n, self._repaired(piece, first + n)

    # Records

    def record_at(self, number: int) -> bytes:
        """A record of the master file table.  Raises `Damaged`."""
        return self._repaired(self.in_runs(self._mft, number * self.record, self.record), number)

    def _repaired(self, raw: bytes, number: int) -> bytes:
        """A record as it lies on the disk, with the ends of its sectors put back.  Raises `Damaged`."""
        data = bytearray(raw)
        at, count = struct.unpack_from("<HH", data, 4)
        step = self.record // (count - 1) if count > 1 else 0
        if data[:4] != b"FILE" or at + 2 * count > len(data) or step not in (512, 1024, 2048, 4096):
            raise Damaged(f"Record {number} of the NTFS file system is broken.")
        mark = data[at : at + 2]
        for n in range(1, count):
            end = n * step
            if data[end - 2 : end] != mark:
                raise Damaged(f"Record {number} of the NTFS file system was written in part.")
            data[end - 2 : end] = data[at + 2 * n : at + 2 * n + 2]
        return bytes(data)

    def _attribute(self, number: int, kind: int) -> bytes:
        """An attribute of a record that has no name."""
        for found, name, attribute in attributes_of(self.record_at(number)):
            if found == kind and not name:
                return attribute
        raise Damaged(f"Record {number} of the NTFS file system lacks what it must have.")

    @staticmethod
    def _content(attribute: bytes) -> bytes:
        """The bytes of an attribute that is in its record."""
        size, at = struct.unpack_from("<IH", attribute, 16)
        if attribute[8] or at + size > len(attribute) or size < 12:
            raise Damaged("An attribute of the NTFS file system is broken.")
        return attribute[at : at + size]

    def _read(self, attribute: bytes, size: int) -> bytes:
        """The first bytes of an attribute that lies elsewhere."""
        return self.in_runs(self.runs(attribute), 0, size)

    def runs(self, attribute: bytes, *, holes: bool = False) -> list[Run]:
        """Where an attribute's clusters lie.  Raises `Damaged`, also for holes where none are expected."""
        if len(attribute) < 64 or not attribute[8]:
            raise Damaged("An attribute of the NTFS file system is broken.")
        at, cluster = struct.unpack_from("<H", attribute, 32)[0], 0
        found: list[Run] = []
        while at < len(attribute) and attribute[at] and len(found) < _MOST_RUNS:
            wide, far = attribute[at] & 15, attribute[at] >> 4
            if not 0 < wide <= 8 or not (0 if holes else 1) <= far <= 8 or at + 1 + wide + far > len(attribute):
                raise Damaged("A run list of the NTFS file system is broken.")
            count = int.from_bytes(attribute[at + 1 : at + 1 + wide], "little")
            if not far:
                if not 0 < count <= _MOST_HOLE:
                    raise Damaged("A run of the NTFS file system is outside of it.")
                found.append(Run(HOLE, count))
                at += 1 + wide
                continue
            cluster += int.from_bytes(attribute[at + 1 + wide : at + 1 + wide + far], "little", signed=True)
            if cluster < 0 or not count or cluster + count > self.cluster_count:
                raise Damaged("A run of the NTFS file system is outside of it.")
            found.append(Run(cluster, count))
            at += 1 + wide + far
        return found

    def in_runs(self, runs: list[Run], at: int, size: int) -> bytes:
        """Bytes that lie in runs, from the place ``at`` in them on; holes read as zeros."""
        out = bytearray()
        for run in runs:
            length = run.length * self.cluster
            if at < length and len(out) < size:
                piece = min(length - at, size - len(out))
                hole = run.cluster == HOLE
                out += bytes(piece) if hole else self.source.read(run.cluster * self.cluster + at, piece)
                at = 0
            else:
                at = max(0, at - length)
        if len(out) != size:
            raise Damaged("A structure of the NTFS file system is shorter than it must be.")
        return bytes(out)


def attributes_of(record: bytes) -> Iterator[tuple[int, str, bytes]]:
    """``(kind, name, bytes)`` of each attribute of a record."""
    at = struct.unpack_from("<H", record, 20)[0]
    while at + 24 <= len(record):
        kind, length = struct.unpack_from("<II", record, at)
        if kind == _END or length < 24 or at + length > len(record):
            return
        size, begin = struct.unpack_from("<BH", record, at + 9)
        name = record[at + begin : at + min(length, begin + 2 * size)].decode("utf-16-le", "replace") if size else ""
        yield kind, name, record[at : at + length]
        at += length
