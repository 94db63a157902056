"""VHDX, dynamic and fixed: reading.  Follows Microsoft's [MS-VHDX], version 8.0."""

from __future__ import annotations

import struct
from uuid import UUID

import numpy as np
from crc32c import crc32c

from bathotype.core.disk.source import ByteSource
from bathotype.core.errors import Damaged, Refused
from bathotype.core.formats.blockmap import BlockMap

MAGIC = b"vhdxfile"
_KIB, _MIB = 1024, 1024 * 1024
#: Names of regions of the file, and of items of its metadata.
BAT = UUID("2dc27766-f623-4200-9d64-115e9bfd4a08").bytes_le
METADATA = UUID("8b7ca206-4790-4b9a-b8fe-575f050f886e").bytes_le
FILE_PARAMETERS = UUID("caa16737-fa36-4d43-b3b6-33f0aa44e76b").bytes_le
DISK_SIZE = UUID("2fa54224-cd1b-4876-b211-5dbed83bf4b8").bytes_le
SECTOR_SIZE = UUID("8141bf1d-a96f-4709-ba47-f233a8faab5f").bytes_le
PHYSICAL_SECTOR_SIZE = UUID("cda348c7-445d-4471-9cc9-e9885251c556").bytes_le
#: The specification's "page 83 data", by which systems distinguish disks.
DISK_ID = UUID("beca12ab-b2e6-4523-93ef-c309e000c746").bytes_le
_KNOWN_ITEMS = {FILE_PARAMETERS, DISK_SIZE, SECTOR_SIZE, PHYSICAL_SECTOR_SIZE, DISK_ID}
_REQUIRED = 4
_PRESENT, _PARTLY_PRESENT = 6, 7
_MOST_ENTRIES = 1 << 23


def open_vhdx(file: ByteSource) -> BlockMap:
    """The disk in a VHDX.  Raises `Damaged` for a broken file, `Refused` for one that needs another file or a repair."""
    if file.size < _MIB:
        raise Damaged("The VHDX is cut short.")
    _check_header(file)
    regions = _regions(file)
    items = _metadata(file, *regions[METADATA])
    block, flags = struct.unpack_from("<II", items[FILE_PARAMETERS])
    size, sector = struct.unpack_from("<Q", items[DISK_SIZE])[0], struct.unpack_from("<I", items[SECTOR_SIZE])[0]
    if flags & 2:
        raise Refused(
            "The VHDX holds only what changed since another disk, its parent.",
            advice="Merge it with its parent where it was made, then import the whole disk.",
        )
    if sector not in (512, 4096) or not _MIB <= block <= 256 * _MIB or block & (block - 1) or not size:
        raise Damaged("The VHDX's metadata contradict themselves.")
    count, ratio = -(-size // block), (1 << 23) * sector // block
    at, length = regions[BAT]
    entries = count + (count - 1) // ratio
    if entries > _MOST_ENTRIES or entries * 8 > length:
        raise Damaged("The VHDX's allocation table is too short for its disk.")
    table = np.frombuffer(file.read(at, entries * 8), "<u8")
    # After each chunk of blocks there is an entry for its bitmap.
    numbers = np.arange(count, dtype=np.int64)
    table = table[numbers + numbers // ratio]
    states = (table & 7).astype(np.int64)
    if (states == _PARTLY_PRESENT).any() or (states > _PARTLY_PRESENT).any():
        raise Damaged("The VHDX's allocation table contradicts itself.")
    beyond = file.size // _MIB + 1  # for every place that is too far, so that nothing overflows
    places = np.where(states == _PRESENT, np.minimum(table >> 20, beyond).astype(np.int64) * _MIB, -1)
    return BlockMap(file, size, block, places, "VHDX")


def _sound(data: bytes) -> bool:
    """Whether the checksum of a structure, its second word, is right."""
    return bool(crc32c(data[:4] + bytes(4) + data[8:]) == struct.unpack_from("<I", data, 4)[0])


def _check_header(file: ByteSource) -> None:
    """Of two headers the sound one with the higher number counts."""
    found = []
    for at in (64 * _KIB, 128 * _KIB):
        head = file.read(at, 4096)
        if head[:4] == b"head" and _sound(head):
            found.append((struct.unpack_from("<Q", head, 8)[0], head))
    if not found:
        raise Damaged("Both headers of the VHDX are damaged.")
    head = max(found)[1]
    if struct.unpack_from("<H", head, 66)[0] != 1:
        raise Refused("The VHDX is of a version that is not known.")
    if any(head[48:64]):
        raise Refused(
            "The VHDX was not closed: changes wait in its log.",
            advice="Open and close it where it was made, then import it.",
        )


def _regions(file: ByteSource) -> dict[bytes, tuple[int, int]]:
    for at in (192 * _KIB, 256 * _KIB):
        table = file.read(at, 64 * _KIB)
        if table[:4] == b"regi" and _sound(table):
            break
    else:
        raise Damaged("Both region tables of the VHDX are damaged.")
    found = {}
    for number in range(min(struct.unpack_from("<I", table, 8)[0], 2047)):
        name, at, length, required = struct.unpack_from("<16sQII", table, 16 + 32 * number)
        if name not in (BAT, METADATA):
            if required:
                raise Refused("The VHDX has a region that is not known.")
            continue
        if at + length > file.size:
            raise Damaged("A region of the VHDX is outside the file.", advice="Fetch the file again: it is cut short.")
        found[name] = (at, length)
    if len(found) != 2:
        raise Damaged("The VHDX lacks its allocation table or its metadata.")
    return found


def _metadata(file: ByteSource, at: int, length: int) -> dict[bytes, bytes]:
    table = file.read(at, min(length, 64 * _KIB)).ljust(64 * _KIB, b"\0")
    if table[:8] != b"metadata":
        raise Damaged("The VHDX's metadata have no table.")
    found: dict[bytes, bytes] = {}
    for number in range(min(struct.unpack_from("<H", table, 10)[0], 2047)):
        name, offset, size, flags = struct.unpack_from("<16sIII", table, 32 + 32 * number)
        if name not in _KNOWN_ITEMS:
            # A differencing disk names its parent in an item of its own, and says so in its parameters.
            if flags & _REQUIRED and name != UUID("a8d35f2d-b30b-454d-abf7-d3d84834ab0c").bytes_le:
                raise Refused("The VHDX has metadata that are not known.")
            continue
        if offset + size > length or size > _MIB:
            raise Damaged("The VHDX's metadata are outside their region.")
        found[name] = file.read(at + offset, size)
    for name, least in ((FILE_PARAMETERS, 8), (DISK_SIZE, 8), (SECTOR_SIZE, 4)):
        if len(found.get(name, b"")) < least:
            raise Damaged("The VHDX's metadata are not whole.")
    return found
