"""VDI, dynamic and fixed: reading.  Follows QEMU's description of the format (``block/vdi.c``), version 1.1."""

from __future__ import annotations

import struct

import numpy as np

from bathotype.core.disk.source import ByteSource
from bathotype.core.errors import Damaged, Refused
from bathotype.core.formats.blockmap import BlockMap

MAGIC_AT, MAGIC = 64, b"\x7f\x10\xda\xbe"
_NOWHERE = 0xFFFFFFFE  # this, and one more, are no blocks of the file
_MOST_BLOCKS, _LARGEST_BLOCK = 1 << 23, 1 << 26


def open_vdi(file: ByteSource) -> BlockMap:
    """The disk in a VDI.  Raises `Damaged` for a broken file, `Refused` for one that needs another file."""
    if file.size < 512:
        raise Damaged("The VDI is cut short.")
    head = file.read(0, 512)
    magic, version, _, kind = struct.unpack_from("<4sIII", head, MAGIC_AT)
    if magic != MAGIC:
        raise Damaged("This is no VDI: its magic number is missing.")
    if version >> 16 != 1:
        raise Refused(f"The VDI is of version {version >> 16}.{version & 0xFFFF}, which is not known.")
    map_at, data_at = struct.unpack_from("<II", head, 340)
    size, block, extra, count = struct.unpack_from("<QIII", head, 368)
    if kind not in (1, 2) or any(head[424:456]):
        raise Refused(
            "The VDI holds only what changed since another disk, its parent.",
            advice="Merge it with its parent where it was made, then import the whole disk.",
        )
    if not 512 <= block <= _LARGEST_BLOCK or block & (block - 1) or extra > block:
        raise Damaged("The VDI's header contradicts itself.")
    if not 0 < size <= count * block or count > _MOST_BLOCKS:
        raise Damaged("The VDI's header contradicts itself.")
    if map_at + count * 4 > file.size:
        raise Damaged("The VDI's map of blocks is outside the file.", advice="Fetch the file again: it is cut short.")
    listed = np.frombuffer(file.read(map_at, count * 4), "<u4").astype(np.int64)[: -(-size // block)]
    places = np.where(listed >= _NOWHERE, -1, data_at + listed * (block + extra) + extra)
    return BlockMap(file, size, block, places, "VDI")
