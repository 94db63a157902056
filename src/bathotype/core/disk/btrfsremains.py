"""What removed files leave in a btrfs file system's tree blocks, and the bytes that blank it.

A small file's bytes lie in the tree itself; removing it leaves them in the gap between a leaf's items and its data.
Follows the on-disk format in btrfs's developer documentation.  Tree blocks are found by their header and checksum
wherever they lie, so that no tree has to be walked; blocks that are no longer part of a tree are blanked as well.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

from crc32c import crc32c

from bathotype.core.disk.source import BlockSource

_SUPER_AT, _MAGIC = 65536, b"_BHRfS_M"
_CRC32C = 0
_METADATA_UUID = 1 << 10
_HEADER, _ITEM, _POINTER = 101, 25, 33
_PIECE = 4 * 1024 * 1024


def blanking(volume: BlockSource) -> Iterator[tuple[int, bytes]]:
    """``(byte offset, bytes)`` to be written so that no gap in a tree block holds anything; nothing at all where the
    file system uses another checksum than CRC-32C."""
    if volume.size < _SUPER_AT + 4096:
        return
    head = volume.read(_SUPER_AT, 4096)
    if head[64:72] != _MAGIC or struct.unpack_from("<H", head, 196)[0] != _CRC32C:
        return
    size = struct.unpack_from("<I", head, 148)[0]
    if size not in (4096, 8192, 16384, 32768, 65536):
        return
    flags = struct.unpack_from("<Q", head, 188)[0]
    owner = head[571:587] if flags & _METADATA_UUID else head[32:48]
    for start, end in volume.allocated():
        low = start - start % size
        for at in range(low, end, _PIECE):
            data = volume.read(at, min(_PIECE, volume.size - at, -(-(end - at) // size) * size))
            for inside in range(0, len(data) - size + 1, size):
                if data[inside + 32 : inside + 48] != owner:
                    continue
                block = data[inside : inside + size]
                blanked = _blanked(block)
                if blanked is not None and blanked != block:
                    yield at + inside, blanked


def _blanked(block: bytes) -> bytes | None:
    """A tree block without anything in its gap, and its checksum made right; None where it is no sound one."""
    if struct.unpack_from("<I", block, 0)[0] != crc32c(block[32:]):
        return None
    count, level = struct.unpack_from("<IB", block, 96)
    width = _POINTER if level else _ITEM
    low, high = _HEADER + count * width, len(block)
    if low > len(block):
        return None
    if not level and count:
        high = _HEADER + min(struct.unpack_from("<I", block, _HEADER + n * _ITEM + 17)[0] for n in range(count))
    if high < low or high > len(block):
        return None
    out = bytearray(block)
    out[low:high] = bytes(high - low)
    struct.pack_into("<I", out, 0, crc32c(bytes(out[32:])))
    return bytes(out)
