"""Reading qcow2, versions 2 and 3.

Follows QEMU's specification of the format (``docs/interop/qcow2.txt``): backing files, zlib and zstd compressed
clusters, zero clusters.  Internal snapshots are left alone.  Every offset is checked against the file; tables
are read one at a time, so that neither a huge nor a hostile image takes more than some tens of MiB.
"""

from __future__ import annotations

import struct
import threading
import zlib
from collections import OrderedDict
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import zstandard

from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource, ByteSource, check_read
from bathotype.core.errors import Damaged, Refused

MAGIC = b"QFI\xfb"
_BACKING_FORMAT = 0xE2792ACA
_DIRTY, _CORRUPT, _EXTERNAL_DATA, _COMPRESSION_TYPE, _EXTENDED_L2 = 1, 2, 4, 8, 16
_COMPRESSED, _ZERO = 1 << 62, 1
_OFFSET_MASK = 0x00FF_FFFF_FFFF_FE00
_MOST_L1 = 32 * 1024 * 1024
_CACHE_BYTES = 16 * 1024 * 1024
_MOST_WINDOW = 8 * 1024 * 1024

#: Opens a backing file by the name and format that the image gives; the caller decides what is allowed.
OpenBacking = Callable[[str, str | None], BlockSource]


def refuse_backing(name: str, form: str | None) -> BlockSource:
    """The default: an image alone must be whole."""
    raise Refused(
        f"The image needs a backing file ({name!r}).",
        advice="Merge it with its backing file first, and import the merged image.",
        code="backing-file",
    )


@dataclass(frozen=True)
class _Header:
    version: int
    cluster_bits: int
    size: int
    l1_entries: int
    l1_offset: int
    zstd: bool
    backing: str | None
    backing_format: str | None
    snapshots: int


def _read_header(file: ByteSource) -> _Header:
    if file.size < 72:
        raise Damaged("This is not a qcow2 image: it is too short.")
    raw = file.read(0, min(file.size, 112))
    magic, version, backing_at, backing_length, bits, size, crypt, l1_entries, l1_at = struct.unpack_from(
        ">4sIQIIQIIQ", raw, 0
    )
    if magic != MAGIC:
        raise Damaged("This is not a qcow2 image: its magic number is missing.")
    if version not in (2, 3):
        raise Refused(f"qcow2 version {version} is not known.", advice="Convert the image to version 3.")
    if not 9 <= bits <= 21:
        raise Damaged(f"The qcow2 image has an impossible cluster size (2^{bits} bytes).")
    if crypt:
        raise Refused("The qcow2 image is encrypted.", advice="Decrypt it first: what cannot be read is not imported.")
    features, header_length, zstd = 0, 72, False
    if version == 3:
        if len(raw) < 104:
            raise Damaged("The qcow2 header is cut short.")
        features = struct.unpack_from(">Q", raw, 72)[0]
        header_length = struct.unpack_from(">I", raw, 100)[0]
        zstd = bool(features & _COMPRESSION_TYPE) and len(raw) > 104 and raw[104] == 1
        if features & _COMPRESSION_TYPE and (len(raw) <= 104 or raw[104] not in (0, 1)):
            raise Refused("The qcow2 image uses a compression that is not known.")
    if features & _CORRUPT:
        raise Damaged("The qcow2 image is marked as corrupt.", advice="Repair it where it was made.")
    if features & _EXTERNAL_DATA:
        raise Refused("The qcow2 image keeps its data in another file.", advice="Convert it to a single file.")
    if features & _EXTENDED_L2 or features & ~0x1F:
        raise Refused(
            f"The qcow2 image uses features that are not read here ({features:#x}).",
            advice="Convert it without extended L2 entries.",
        )
    if l1_entries * 8 > _MOST_L1 or l1_at % (1 << bits) or l1_at + l1_entries * 8 > file.size:
        raise Damaged("The qcow2 image's first table is outside the file.")
    backing, form = None, None
    if backing_at:
        if not 0 < backing_length <= 1023 or backing_at + backing_length > file.size:
            raise Damaged("The name of the qcow2 image's backing file is outside the file.")
        backing = file.read(backing_at, backing_length).decode("utf-8", "replace")
        form = _backing_format(file, header_length, min(backing_at, 1 << bits))
    snapshots = struct.unpack_from(">I", raw, 60)[0]
    return _Header(version, bits, size, l1_entries, l1_at, zstd, backing, form, snapshots)


def _backing_format(file: ByteSource, at: int, end: int) -> str | None:
    while at + 8 <= min(end, file.size):
        kind, length = struct.unpack(">II", file.read(at, 8))
        if kind == 0 or at + 8 + length > min(end, file.size):
            return None
        if kind == _BACKING_FORMAT:
            return file.read(at + 8, length).decode("ascii", "replace")
        at += 8 + (length + 7 & ~7)
    return None


class Qcow2Image:
    """The disk in a qcow2 image.  ``backing`` opens what the image builds upon.

    Raises `Damaged` for a broken image, `Refused` for a feature that is not read.
    """

    def __init__(self, file: ByteSource, *, backing: OpenBacking = refuse_backing) -> None:
        self._file = file
        header = _read_header(file)
        self.version, self._bits, self._size, self._zstd = (
            header.version,
            header.cluster_bits,
            header.size,
            header.zstd,
        )
        #: How many internal snapshots it holds.
        self.snapshots = header.snapshots
        self._cluster = 1 << self._bits
        self._per_table = self._cluster // 8
        needed = -(-self._size // (self._cluster * self._per_table))
        if needed > header.l1_entries:
            raise Damaged("The qcow2 image's first table is too short for its disk.")
        self._l1: npt.NDArray[np.uint64] = np.frombuffer(file.read(header.l1_offset, needed * 8), ">u8").astype(
            np.uint64
        )
        self._tables: OrderedDict[int, npt.NDArray[np.uint64]] = OrderedDict()
        self._most_tables = max(4, _CACHE_BYTES // self._cluster)
        self._lock = threading.Lock()
        self._backing = backing(header.backing, header.backing_format) if header.backing is not None else None

    @property
    def size(self) -> int:
        return self._size

    def read(self, offset: int, length: int) -> bytes:
        check_read(self._size, offset, length)
        out, end = bytearray(), offset + length
        while offset < end:
            entries, first = self._entries(offset)
            inside = offset & (self._cluster - 1)
            count = min(len(entries) - first, -(-(inside + end - offset) // self._cluster))
            run = self._run(entries[first : first + count])
            most = min(run * self._cluster - inside, end - offset)
            out += self._read_run(int(entries[first]), offset, inside, most)
            offset += most
        return bytes(out)

    def _run(self, entries: npt.NDArray[np.uint64]) -> int:
        """How many clusters from the first can be read as one: plain ones side by side, or equal holes."""
        first = int(entries[0])
        if first & _COMPRESSED:
            return 1
        step = self._cluster if first & _OFFSET_MASK and not first & _ZERO else 0
        wanted = first + np.arange(len(entries), dtype=np.uint64) * np.uint64(step)
        differ = np.flatnonzero(entries != wanted)
        return int(differ[0]) if len(differ) else len(entries)

    def _read_run(self, entry: int, offset: int, inside: int, length: int) -> bytes:
        if entry & _COMPRESSED:
            return self._inflate(entry)[inside : inside + length]
        place = entry & _OFFSET_MASK
        if entry & _ZERO and self.version >= 3:
            return bytes(length)
        if place:
            if place % self._cluster or place + inside + length > self._file.size + self._cluster:
                raise Damaged("A cluster of the qcow2 image is outside the file.")
            there = max(0, min(length, self._file.size - place - inside))  # the last cluster may be cut short
            return self._file.read(place + inside, there) + bytes(length - there)
        if self._backing is None:
            return bytes(length)
        there = max(0, min(length, self._backing.size - offset))
        return (self._backing.read(offset, there) if there else b"") + bytes(length - there)

    def _inflate(self, entry: int) -> bytes:
        shift = 62 - (self._bits - 8)
        place = entry & ((1 << shift) - 1)
        sectors = (entry & (_COMPRESSED - 1)) >> shift
        length = min((sectors + 1) * 512 - (place & 511), self._file.size - place)
        if length <= 0:
            raise Damaged("A compressed cluster of the qcow2 image is outside the file.")
        data = self._file.read(place, length)
        try:
            if self._zstd:
                reader = zstandard.ZstdDecompressor(max_window_size=_MOST_WINDOW).stream_reader(data)
                out = reader.read(self._cluster)
            else:
                out = zlib.decompressobj(-15).decompress(data, self._cluster)
        except (zlib.error, zstandard.ZstdError) as error:
            raise Damaged("A compressed cluster of the qcow2 image cannot be unpacked.") from error
        if len(out) != self._cluster:
            raise Damaged("A compressed cluster of the qcow2 image is too short.")
        return bytes(out)

    def _entries(self, offset: int) -> tuple[npt.NDArray[np.uint64], int]:
        """The second table for a disk offset, and the index in it."""
        number, first = divmod(offset >> self._bits, self._per_table)
        return self._table(number), first

    def _table(self, number: int) -> npt.NDArray[np.uint64]:
        with self._lock:
            table = self._tables.get(number)
            if table is not None:
                self._tables.move_to_end(number)
                return table
        place = int(self._l1[number]) & _OFFSET_MASK
        if not place:
            return np.zeros(self._per_table, np.uint64)
        if place % self._cluster or place + self._cluster > self._file.size:
            raise Damaged("A table of the qcow2 image is outside the file.")
        table = np.frombuffer(self._file.read(place, self._cluster), ">u8").astype(np.uint64)
        with self._lock:
            self._tables[number] = table
            if len(self._tables) > self._most_tables:
                self._tables.popitem(last=False)
        return table

    def allocated(self) -> Ranges:
        own, known = Ranges.of(self._extents(data=True)), None
        if self._backing is not None:
            known = Ranges.of(self._extents(data=False))
            below = Ranges.of(self._backing.allocated().within(0, self._size))
            own = own.union(below.minus(known, self._size))
        return own

    def _extents(self, *, data: bool) -> Iterator[tuple[int, int]]:
        """Clusters that hold data, or all that this image itself knows about (zeros as well)."""
        span = self._cluster * self._per_table
        for number in np.flatnonzero(self._l1 & np.uint64(_OFFSET_MASK)).tolist():
            table = self._table(number)
            there = table & np.uint64(_COMPRESSED | _OFFSET_MASK) != 0
            if self.version >= 3:
                zero = (table & np.uint64(_ZERO) != 0) & (table & np.uint64(_COMPRESSED) == 0)
                there = there & ~zero if data else there | zero
            edges = np.flatnonzero(np.diff(np.concatenate(([0], there.view(np.int8), [0]))))
            for start, end in zip(edges[0::2].tolist(), edges[1::2].tolist(), strict=True):
                low = number * span + start * self._cluster
                if low < self._size:
                    yield low, min(number * span + end * self._cluster, self._size)
