"""Which clusters of an NTFS file system are in use: what its allocation bitmap says; and single small files of it.

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

_MFT, _LOG, _VOLUME, _ROOT, _BITMAP = 0, 2, 3, 5, 6
_FILE_NAME, _VOLUME_INFORMATION, _DATA, _END = 0x30, 0x70, 0x80, 0xFFFFFFFF
#: Of a record: in use.  Of an attribute: compressed, encrypted, sparse.
_IN_USE, _NOT_PLAIN = 0x1, 0x00FF | 0x4000 | 0x8000
_MOST_RECORDS, _RECORDS_AT_ONCE = 1 << 20, 256
_DIRTY, _NO_CLIENT, _VOLUME_IS_CLEAN = 0x1, 0xFFFF, 0x2
_MOST_RUNS, _MOST_BITMAP = 1 << 20, 1 << 32


class _Run(NamedTuple):
    cluster: int
    length: int


class Ntfs:
    """A view of an NTFS file system.  Raises `Damaged` when there is none, or one that is not understood."""

    def __init__(self, source: BlockSource) -> None:
        self.source = source
        head = source.read(0, 512) if source.size >= 1 << 16 else bytes(512)
        if head[3:11] != b"NTFS    ":
            raise Damaged("No NTFS file system.")
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
        self._mft = [_Run(mft, -(-16 * self.record // self.cluster))]
        self._mft = self._runs(self._attribute(_MFT, _DATA))

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

    def read_file(self, path: str, *, most: int) -> bytes | None:
        """The first bytes of a file by its path (``/folder/name``, in any case); None where there is none.

        Raises `Damaged` where it cannot be read: it is compressed or encrypted, or the table of files is too long.
        """
        wanted = [part.casefold() for part in path.split("/") if part]
        found = self._named({*wanted})
        at = _ROOT
        for part in wanted:
            numbers = [number for number, name, parent in found if name == part and parent == at]
            if not numbers:
                return None
            at = numbers[0]
        attribute = self._attribute(at, _DATA)
        flags = struct.unpack_from("<H", attribute, 12)[0]
        if flags & _NOT_PLAIN:
            raise Damaged(f"{path} is compressed, encrypted or sparse on its NTFS file system.")
        if not attribute[8]:
            size, begin = struct.unpack_from("<IH", attribute, 16)
            return attribute[begin : begin + min(size, most)]
        size = struct.unpack_from("<Q", attribute, 48)[0] if len(attribute) >= 56 else 0
        return self._read(attribute, min(size, most))

    def _named(self, names: set[str]) -> list[tuple[int, str, int]]:
        """Every record in use with one of these names: its number, the name, and its folder's number."""
        count = sum(run.length for run in self._mft) * self.cluster // self.record
        if count > _MOST_RECORDS:
            raise Damaged(f"The NTFS file system has {count} files: too many to look for one.")
        found = []
        for first in range(0, count, _RECORDS_AT_ONCE):
            few = min(_RECORDS_AT_ONCE, count - first)
            data = self._in_runs(self._mft, first * self.record, few * self.record)
            for n in range(few):
                piece = data[n * self.record : (n + 1) * self.record]
                if piece[:4] == b"FILE" and struct.unpack_from("<H", piece, 22)[0] & _IN_USE:
                    with suppress(Damaged, struct.error):
                        named = self._names(self._repaired(piece, first + n))
                        found += [(first + n, name, parent) for name, parent in named if name in names]
        return found

    @staticmethod
    def _names(record: bytes) -> Iterator[tuple[str, int]]:
        """The names of a record, in lower case, each with its folder's number."""
        at = struct.unpack_from("<H", record, 20)[0]
        while at + 24 <= len(record):
            kind, length = struct.unpack_from("<II", record, at)
            if kind == _END or length < 24 or at + length > len(record):
                return
            if kind == _FILE_NAME and not record[at + 8]:
                size, begin = struct.unpack_from("<IH", record, at + 16)
                content = record[at + begin : at + min(length, begin + size)]
                if len(content) >= 66 and len(content) >= 66 + 2 * content[64]:
                    parent = int.from_bytes(content[:6], "little")
                    yield content[66 : 66 + 2 * content[64]].decode("utf-16-le", "replace").casefold(), parent
            at += length

    # Records

    def _record(self, number: int) -> bytes:
        """A record of the master file table."""
        return self._repaired(self._in_runs(self._mft, number * self.record, self.record), number)

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
        record = self._record(number)
        at = struct.unpack_from("<H", record, 20)[0]
        while at + 24 <= len(record):
            found, length = struct.unpack_from("<II", record, at)
            if found == _END or length < 24 or at + length > len(record):
                break
            if found == kind and not record[at + 9]:
                return record[at : at + length]
            at += length
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
        return self._in_runs(self._runs(attribute), 0, size)

    def _runs(self, attribute: bytes) -> list[_Run]:
        """Where an attribute's clusters lie.  Raises `Damaged` for holes: what is read here has none."""
        if len(attribute) < 64 or not attribute[8]:
            raise Damaged("An attribute of the NTFS file system is broken.")
        at, cluster = struct.unpack_from("<H", attribute, 32)[0], 0
        found: list[_Run] = []
        while at < len(attribute) and attribute[at] and len(found) < _MOST_RUNS:
            wide, far = attribute[at] & 15, attribute[at] >> 4
            if not 0 < wide <= 8 or not 0 < far <= 8 or at + 1 + wide + far > len(attribute):
                raise Damaged("A run list of the NTFS file system is broken.")
            count = int.from_bytes(attribute[at + 1 : at + 1 + wide], "little")
            cluster += int.from_bytes(attribute[at + 1 + wide : at + 1 + wide + far], "little", signed=True)
            if cluster < 0 or not count or cluster + count > self.cluster_count:
                raise Damaged("A run of the NTFS file system is outside of it.")
            found.append(_Run(cluster, count))
            at += 1 + wide + far
        return found

    def _in_runs(self, runs: list[_Run], at: int, size: int) -> bytes:
        """Bytes that lie in runs, from the place ``at`` in them on."""
        out = bytearray()
        for run in runs:
            length = run.length * self.cluster
            if at < length and len(out) < size:
                piece = min(length - at, size - len(out))
                out += self.source.read(run.cluster * self.cluster + at, piece)
                at = 0
            else:
                at = max(0, at - length)
        if len(out) != size:
            raise Damaged("A structure of the NTFS file system is shorter than it must be.")
        return bytes(out)
