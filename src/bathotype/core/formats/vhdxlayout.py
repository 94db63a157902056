"""Laying out a VHDX: dynamic, with an empty log.  Follows Microsoft's [MS-VHDX], version 8.0."""

from __future__ import annotations

import hashlib
import struct

import numpy as np
from crc32c import crc32c

from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Refused
from bathotype.core.formats import vhdx
from bathotype.core.formats.laidout import Blocks, LaidOutFile, Plain, present

_KIB, _MIB = 1024, 1024 * 1024
_SECTOR = 512
#: The specification's limit: 64 TiB.
LARGEST = 64 * 1024**4
_BLOCK, _MOST_BLOCKS = 2 * _MIB, 1 << 21
_CREATOR = "Bathotype".encode("utf-16-le")
#: Where the log, the metadata and the table of blocks begin; each of the first two has a MiB.
_LOG_AT, _METADATA_AT, _TABLE_AT = _MIB, 2 * _MIB, 3 * _MIB
_ITEMS_AT = 64 * _KIB
#: Of an item of the metadata: it is of the virtual disk, and must be understood.
_OF_THE_DISK, _REQUIRED = 2, 4
_ZERO, _PRESENT = 2, 6


def vhdx_layout(disk: BlockSource, identity: bytes) -> LaidOutFile:
    """A VHDX in which blocks that hold nothing are left out.  ``identity`` (16 bytes) becomes the ids in it.

    Blocks have 2 MiB, and more where there would be over two million of them.
    """
    if disk.size > LARGEST:
        raise Refused("The disk is larger than a VHDX can be (64 TiB).", advice="Take another format.")
    if disk.size % _SECTOR:
        raise Refused(f"A VHDX holds whole sectors of 512 bytes; the disk has {disk.size} bytes.")
    block = _BLOCK
    while -(-disk.size // block) > _MOST_BLOCKS:
        block *= 2
    index = present(disk, block)
    table = _table(disk.size, block, index)
    head = _head(disk.size, block, len(table), identity)
    return LaidOutFile([Plain(head), Plain(table), Blocks(disk, index, block)])


def _table(size: int, block: int, index: np.typing.NDArray[np.int64]) -> bytes:
    """The table of blocks: after each chunk of them comes an entry for a bitmap, which no file written here has."""
    count, ratio = -(-size // block), (1 << 23) * _SECTOR // block
    entries = count + (count - 1) // ratio
    length = -(-entries * 8 // _MIB) * _MIB
    numbers = np.arange(count, dtype=np.int64)
    table = np.zeros(length // 8, "<u8")
    table[numbers + numbers // ratio] = _ZERO
    first = (_TABLE_AT + length) // _MIB
    table[index + index // ratio] = (first + np.arange(len(index), dtype=np.uint64) * (block // _MIB)) << 20 | _PRESENT
    return table.tobytes()


def _head(size: int, block: int, table: int, identity: bytes) -> bytes:
    """All that comes before the table of blocks."""
    out = bytearray(_TABLE_AT)

    def put(at: int, data: bytes) -> None:
        out[at : at + len(data)] = data

    put(0, vhdx.MAGIC + _CREATOR)
    for number, at in enumerate((64 * _KIB, 128 * _KIB), 1):
        ids = _id(identity, "file"), _id(identity, "data")
        header = struct.pack("<4sIQ16s16s16sHHIQ", b"head", 0, number, *ids, bytes(16), 0, 1, _MIB, _LOG_AT)
        put(at, _summed(header, 4096))
    regions = struct.pack("<4sIII", b"regi", 0, 2, 0)
    for name, where, length in ((vhdx.BAT, _TABLE_AT, table), (vhdx.METADATA, _METADATA_AT, _MIB)):
        regions += struct.pack("<16sQII", name, where, length, 1)
    for at in (192 * _KIB, 256 * _KIB):
        put(at, _summed(regions, 64 * _KIB))
    items = (
        (vhdx.FILE_PARAMETERS, struct.pack("<II", block, 0), _REQUIRED),
        (vhdx.DISK_SIZE, struct.pack("<Q", size), _OF_THE_DISK | _REQUIRED),
        (vhdx.DISK_ID, _id(identity, "disk"), _OF_THE_DISK | _REQUIRED),
        (vhdx.SECTOR_SIZE, struct.pack("<I", _SECTOR), _OF_THE_DISK | _REQUIRED),
        (vhdx.PHYSICAL_SECTOR_SIZE, struct.pack("<I", 4096), _OF_THE_DISK | _REQUIRED),
    )
    entries, place = struct.pack("<8sHH20x", b"metadata", 0, len(items)), _ITEMS_AT
    for name, data, flags in items:
        entries += struct.pack("<16sIII4x", name, place, len(data), flags)
        put(_METADATA_AT + place, data)
        place += len(data)
    put(_METADATA_AT, entries)
    return bytes(out)


def _summed(data: bytes, length: int) -> bytes:
    """A structure of this length with its checksum, its second word."""
    whole = data.ljust(length, b"\0")
    return whole[:4] + struct.pack("<I", crc32c(whole)) + whole[8:]


def _id(identity: bytes, of: str) -> bytes:
    """An id that is the same for the same content."""
    return hashlib.sha256(identity + of.encode()).digest()[:16]
