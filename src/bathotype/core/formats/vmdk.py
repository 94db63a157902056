"""VMDK with a single sparse extent, monolithic and stream-optimised: reading and writing.

Follows the technical note "Virtual Disk Format 5.0".  Images of several files are refused.
"""

from __future__ import annotations

import re
import struct
import threading
import zlib
from collections import OrderedDict
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource, ByteSource, check_read
from bathotype.core.errors import Damaged, Refused
from bathotype.core.formats.laidout import UNIT, Blocks, Encoded, LaidOutFile, Plain, Segment, present
from bathotype.core.formats.packing import Packing

MAGIC = b"KDMV"
_SECTOR = 512
_GRAIN_SECTORS = UNIT // _SECTOR
_PER_TABLE = 512
_TABLE_SECTORS = _PER_TABLE * 4 // _SECTOR
_DESCRIPTOR_AT, _DESCRIPTOR_SECTORS = 1, 20
_AT_END = 0xFFFFFFFFFFFFFFFF
_NEWLINES, _REDUNDANT, _ZEROED, _COMPRESSED, _MARKERS = 1, 2, 4, 1 << 16, 1 << 17
_END_OF_STREAM, _GRAIN_TABLE, _GRAIN_DIRECTORY, _FOOTER = 0, 1, 2, 3
_HEADER = struct.Struct("<4sIIQQQQIQQQB4sH")
#: Sectors are numbered by 32 bits.
LARGEST = 2 * 1024**4 - 1024**3
_MOST_TABLES = 4096
_MOST_DESCRIPTOR = 1024 * 1024


def _header(size: int, *, stream: bool, directory: int, redundant: int, overhead: int) -> bytes:
    flags = _NEWLINES | (_COMPRESSED | _MARKERS if stream else _REDUNDANT)
    packed = _HEADER.pack(
        MAGIC, 3 if stream else 1, flags, _grains(size) * _GRAIN_SECTORS, _GRAIN_SECTORS, _DESCRIPTOR_AT,
        _DESCRIPTOR_SECTORS, _PER_TABLE, redundant, directory, overhead, 0, b"\n \r\n", 1 if stream else 0,
    )  # fmt: skip
    return packed.ljust(_SECTOR, b"\0")


def _descriptor(size: int, *, stream: bool, name: str, identity: bytes) -> bytes:
    sectors = _grains(size) * _GRAIN_SECTORS
    cylinders = min(sectors // (255 * 63) + 1, 65535)
    kind = "streamOptimized" if stream else "monolithicSparse"
    lines = [
        "# Disk DescriptorFile", "version=1", f"CID={identity[:4].hex()}", "parentCID=ffffffff",
        f'createType="{kind}"', "", "# Extent description", f'RW {sectors} SPARSE "{name}"', "",
        "# The Disk Data Base", "#DDB", "", 'ddb.virtualHWVersion = "4"', f'ddb.geometry.cylinders = "{cylinders}"',
        'ddb.geometry.heads = "255"', 'ddb.geometry.sectors = "63"', 'ddb.adapterType = "lsilogic"', "",
    ]  # fmt: skip
    return "\n".join(lines).encode().ljust(_DESCRIPTOR_SECTORS * _SECTOR, b"\0")


def _grains(size: int) -> int:
    return -(-size // UNIT)


def _check_size(size: int) -> None:
    if size > LARGEST:
        raise Refused("The disk is larger than a VMDK of one extent can be (2 TiB).", advice="Take another format.")


def _plain_name(name: str) -> str:
    """A file name that the descriptor can quote."""
    return "".join(c for c in name if c.isprintable() and c not in '"\\/') or "disk.vmdk"


def vmdk_layout(disk: BlockSource, identity: bytes, *, name: str = "disk.vmdk") -> LaidOutFile:
    """A monolithic sparse VMDK; a disk whose size is no multiple of 64 KiB is filled up with zeros."""
    _check_size(disk.size)
    index = present(disk, UNIT)
    tables = -(-_grains(disk.size) // _PER_TABLE)
    directory_sectors = -(-tables * 4 // _SECTOR)
    redundant = _DESCRIPTOR_AT + _DESCRIPTOR_SECTORS
    directory = redundant + directory_sectors + tables * _TABLE_SECTORS
    overhead = directory + directory_sectors + tables * _TABLE_SECTORS
    overhead = -(-overhead // _GRAIN_SECTORS) * _GRAIN_SECTORS
    entries = np.zeros(tables * _PER_TABLE, "<u4")
    entries[index] = overhead + np.arange(len(index)) * _GRAIN_SECTORS

    def tables_at(sector: int) -> bytes:
        places = np.zeros(directory_sectors * _SECTOR // 4, "<u4")
        places[:tables] = sector + directory_sectors + np.arange(tables) * _TABLE_SECTORS
        return places.tobytes() + entries.tobytes()

    head = _header(disk.size, stream=False, directory=directory, redundant=redundant, overhead=overhead)
    head += _descriptor(disk.size, stream=False, name=_plain_name(name), identity=identity)
    head += tables_at(redundant) + tables_at(directory)
    return LaidOutFile([Plain(head.ljust(overhead * _SECTOR, b"\0")), Blocks(disk, index, UNIT)])


def _marker(sectors: int, kind: int) -> bytes:
    return struct.pack("<QII", sectors, 0, kind).ljust(_SECTOR, b"\0")


def vmdk_stream_layout(disk: BlockSource, packing: Packing, identity: bytes, *, name: str = "disk.vmdk") -> LaidOutFile:
    """A stream-optimised VMDK; ``packing`` holds zlib streams of the grains."""
    _check_size(disk.size)
    index, lengths = packing.index, packing.lengths

    def grain(number: int, data: bytes | None) -> bytes:
        body = packing.encode(number, data)
        return struct.pack("<QI", number * _GRAIN_SECTORS, len(body)) + body

    strides = -(-(lengths + 12) // _SECTOR) * _SECTOR
    tables = -(-_grains(disk.size) // _PER_TABLE)
    directory = np.zeros(-(-tables * 4 // _SECTOR) * _SECTOR // 4, "<u4")
    head = _header(disk.size, stream=True, directory=_AT_END, redundant=0, overhead=UNIT // _SECTOR)
    head += _descriptor(disk.size, stream=True, name=_plain_name(name), identity=identity)
    segments: list[Segment] = [Plain(head.ljust(UNIT, b"\0"))]
    at = UNIT
    for table in np.unique(index // _PER_TABLE).tolist():
        first, last = np.searchsorted(index, [table * _PER_TABLE, (table + 1) * _PER_TABLE]).tolist()
        ends = np.cumsum(strides[first:last])
        places = ends - strides[first:last]
        segments.append(Encoded(disk, index[first:last], UNIT, places, int(ends[-1]), grain, packing.needs_data))
        entries = np.zeros(_PER_TABLE, "<u4")
        entries[index[first:last] - table * _PER_TABLE] = (at + places) // _SECTOR
        at += int(ends[-1])
        segments.append(Plain(_marker(_TABLE_SECTORS, _GRAIN_TABLE) + entries.tobytes()))
        directory[table] = at // _SECTOR + 1
        at += (1 + _TABLE_SECTORS) * _SECTOR
    footer = _header(
        disk.size, stream=True, directory=at // _SECTOR + 1, redundant=0, overhead=UNIT // _SECTOR
    )  # fmt: skip
    tail = _marker(len(directory) * 4 // _SECTOR, _GRAIN_DIRECTORY) + directory.tobytes()
    tail += _marker(1, _FOOTER) + footer + _marker(0, _END_OF_STREAM)
    return LaidOutFile([*segments, Plain(tail)])


@dataclass(frozen=True)
class _Shape:
    flags: int
    capacity: int
    grain: int
    per_table: int
    directory: int
    algorithm: int


def _read_shape(file: ByteSource) -> _Shape:
    if file.size < _SECTOR:
        raise Damaged("This is not a VMDK file: it is too short.")
    shape = _shape_at(file, 0)
    if shape.directory == _AT_END:
        # header, directory marker ..., footer marker, footer, end of stream
        shape = _shape_at(file, file.size - 2 * _SECTOR)
        if shape.directory == _AT_END:
            raise Damaged("The VMDK's footer does not say where its directory is: the file is cut short.")
    return shape


def _shape_at(file: ByteSource, at: int) -> _Shape:
    raw = file.read(at, _SECTOR) if at >= 0 else b""
    if raw[:4] != MAGIC:
        raise Damaged("This is not a sparse VMDK: its magic number is missing.")
    fields = _HEADER.unpack_from(raw, 0)
    _check_alone(file, fields[5] * _SECTOR, fields[6] * _SECTOR)
    return _Shape(fields[2], fields[3], fields[4], fields[7], fields[9], fields[13])


def _check_alone(file: ByteSource, at: int, length: int) -> None:
    """Raises `Refused` where the descriptor in the file says that the disk is in other files as well."""
    if not at or not 0 < length <= _MOST_DESCRIPTOR or at + length > file.size:
        return
    text = file.read(at, length).split(b"\0")[0].decode("latin-1")
    parent = re.search(r"(?mi)^\s*parentCID\s*=\s*([0-9a-f]+)", text)
    if parent is not None and parent[1].lower() not in ("ffffffff", "0"):
        raise Refused(
            "The VMDK holds only what changed since another disk, its parent.",
            advice="Merge it with its parent where it was made, then import the whole disk.",
        )
    extents = re.findall(r"(?mi)^\s*(?:RW|RDONLY)\s+\d+\s+(\w+)", text)
    if len(extents) > 1:
        raise Refused(
            f"The VMDK's disk is in {len(extents)} files.", advice="Convert it to a single file where it was made."
        )


class VmdkImage:
    """The disk in a VMDK file of one sparse extent.  Raises `Damaged` for a broken file, `Refused` for other kinds."""

    def __init__(self, file: ByteSource) -> None:
        self._file = file
        shape = _read_shape(file)
        if shape.algorithm not in (0, 1) or (shape.flags & _COMPRESSED and shape.algorithm != 1):
            raise Refused("The VMDK uses a compression that is not known.")
        if not 8 <= shape.grain <= 4096 or shape.grain & (shape.grain - 1) or not 1 <= shape.per_table <= 65536:
            raise Damaged("The VMDK header contradicts itself.")
        self._size, self._grain = shape.capacity * _SECTOR, shape.grain * _SECTOR
        self._per_table, self._flags = shape.per_table, shape.flags
        tables = -(-self._size // (self._grain * self._per_table))
        if tables * 4 > 64 * 1024 * 1024 or shape.directory * _SECTOR + tables * 4 > file.size:
            raise Damaged("The VMDK's directory is outside the file.")
        self._directory = np.frombuffer(file.read(shape.directory * _SECTOR, tables * 4), "<u4")
        self._tables: OrderedDict[int, npt.NDArray[np.uint32]] = OrderedDict()
        self._most_tables = max(4, _MOST_TABLES * 512 // self._per_table)
        self._lock = threading.Lock()

    @property
    def size(self) -> int:
        return self._size

    def read(self, offset: int, length: int) -> bytes:
        check_read(self._size, offset, length)
        out, end = bytearray(), offset + length
        while offset < end:
            number, inside = divmod(offset, self._grain)
            table, slot = divmod(number, self._per_table)
            entries = self._table(table)
            count = min(self._per_table - slot, -(-(inside + end - offset) // self._grain))
            run = self._run(entries[slot : slot + count])
            most = min(run * self._grain - inside, end - offset)
            out += self._read_run(int(entries[slot]), number, inside, most)
            offset += most
        return bytes(out)

    def _run(self, entries: npt.NDArray[np.uint32]) -> int:
        """How many grains from the first can be read as one."""
        first = int(entries[0])
        if first > 1 and self._flags & _COMPRESSED:
            return 1
        step = self._grain // _SECTOR if first > 1 else 0
        differ = np.flatnonzero(entries.astype(np.int64) != first + np.arange(len(entries)) * step)
        return int(differ[0]) if len(differ) else len(entries)

    def _read_run(self, entry: int, number: int, inside: int, length: int) -> bytes:
        if entry == 0 or (entry == 1 and self._flags & _ZEROED):
            return bytes(length)
        at = entry * _SECTOR
        if not self._flags & _COMPRESSED:
            if at + inside + length > self._file.size + self._grain:
                raise Damaged("A grain of the VMDK is outside the file.")
            there = max(0, min(length, self._file.size - at - inside))  # the last grain may be cut short
            return (self._file.read(at + inside, there) if there else b"") + bytes(length - there)
        return self._inflate(at, number)[inside : inside + length]

    def _inflate(self, at: int, number: int) -> bytes:
        if at + 12 > self._file.size:
            raise Damaged("A grain of the VMDK is outside the file.")
        sector, length = struct.unpack("<QI", self._file.read(at, 12))
        if sector != number * (self._grain // _SECTOR) or not 0 < length <= 2 * self._grain:
            raise Damaged("A grain of the VMDK is not where its table says.")
        if at + 12 + length > self._file.size:
            raise Damaged("A grain of the VMDK is outside the file.")
        try:
            out = zlib.decompressobj().decompress(self._file.read(at + 12, length), self._grain)
        except zlib.error as error:
            raise Damaged("A grain of the VMDK cannot be unpacked.") from error
        return out.ljust(self._grain, b"\0")

    def _table(self, number: int) -> npt.NDArray[np.uint32]:
        with self._lock:
            if (known := self._tables.get(number)) is not None:
                self._tables.move_to_end(number)
                return known
        at = int(self._directory[number]) * _SECTOR
        if not at:
            return np.zeros(self._per_table, np.uint32)
        if at + self._per_table * 4 > self._file.size:
            raise Damaged("A grain table of the VMDK is outside the file.")
        table = np.frombuffer(self._file.read(at, self._per_table * 4), "<u4").astype(np.uint32)
        with self._lock:
            self._tables[number] = table
            if len(self._tables) > self._most_tables:
                self._tables.popitem(last=False)
        return table

    def allocated(self) -> Ranges:
        low = 2 if self._flags & _ZEROED else 1
        span = self._grain * self._per_table
        found = [Ranges.of([])]
        for number in np.flatnonzero(self._directory).tolist():
            used = np.flatnonzero(self._table(number) >= low).astype(np.int64)
            starts = number * span + used * self._grain
            starts = starts[starts < self._size]
            found.append(Ranges.of_arrays(starts, np.minimum(starts + self._grain, self._size)))
        return found[0].union(*found[1:])
