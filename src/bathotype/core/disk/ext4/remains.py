"""What removed files leave in an ext4 file system's own structures, and the bytes that blank it.

Removing a file frees its blocks, which a capture leaves out; but its inode keeps its size, block list and short
contents, and its name stays in its folder's block, behind the entries that are still there.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

import numpy as np

from bathotype.core.disk.crc import raw_crc32c
from bathotype.core.disk.ext4.filesystem import Ext4, Inode

_INDEX_FL, _INLINE_DATA_FL = 0x1000, 0x10000000
_TAIL = 12  # a checksum disguised as an entry, at the end of each block
_TAIL_KIND = 0xDE
#: The upper byte of a folder's mode, as far as it says that it is one.
_FOLDER = 0x40


def blanking(fs: Ext4) -> Iterator[tuple[int, bytes]]:
    """``(byte offset, bytes)`` to be written to the file system so that nothing of removed files is left."""
    blank = bytes(fs.inode_size)
    for index, (start, table, bitmap) in fs.numbered_tables():
        first = index * fs.inodes_per_group + 1
        rows = np.frombuffer(table, np.uint8).reshape(-1, fs.inode_size)
        taken = np.unpackbits(np.frombuffer(bitmap, np.uint8), bitorder="little")[: len(rows)] != 0
        for slot in np.flatnonzero(~taken & rows.any(axis=1)).tolist():
            yield start + slot * fs.inode_size, blank
        for slot in np.flatnonzero(taken & (rows[:, 1] & 0xF0 == _FOLDER)).tolist():
            inode = fs.inode(first + slot)
            if inode.links and not inode.flags & _INLINE_DATA_FL:
                yield from _directory(fs, inode)


def _directory(fs: Ext4, inode: Inode) -> Iterator[tuple[int, bytes]]:
    seed = fs.checksum_seed
    if seed is not None:
        seed = raw_crc32c(raw_crc32c(seed, struct.pack("<I", inode.number)), struct.pack("<I", inode.generation))
    for logical, physical, count, written in fs.extents(inode):
        for number in range(count if written else 0):
            if inode.flags & _INDEX_FL and logical + number == 0:
                continue  # the root of the hash index lies where slack would be
            at = (physical + number) * fs.block_size
            block = fs.source.read(at, fs.block_size)
            blanked = _blanked(block, indexed=bool(inode.flags & _INDEX_FL), seed=seed)
            if blanked != block:
                yield at, blanked


def _blanked(block: bytes, *, indexed: bool, seed: int | None) -> bytes:
    """A folder's block with only live entries in it, and its checksum made right."""
    out = bytearray(block)
    end = len(block) - (_TAIL if seed is not None else 0)
    at = 0
    while at + 8 <= end:
        number, length, name_length, _kind = struct.unpack_from("<IHBB", block, at)
        length = length or end - at
        if length < 8 or at + length > len(block) or (indexed and number == 0 and length == len(block)):
            return block  # an inner node of the hash index, or not for us to judge
        used = 8 + name_length if number else 8
        if not number:
            out[at + 6 : at + 8] = b"\0\0"
        out[at + used : min(at + length, end)] = bytes(max(0, min(at + length, end) - at - used))
        at += length
    if seed is not None:
        if block[end + 7] != _TAIL_KIND:
            return block
        struct.pack_into("<I", out, end + 8, raw_crc32c(seed, bytes(out[:end])))
    return bytes(out)
