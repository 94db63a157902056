"""Which bytes of an ext2, ext3 or ext4 file system a reader could ever see."""

from __future__ import annotations

import struct
from collections.abc import Iterator

import numpy as np

from bathotype.core.disk.ext4.extenttrees import ExtentTrees
from bathotype.core.disk.ext4.filesystem import EXTENTS_FL, INLINE_DATA_FL, JOURNAL_INODE, Ext4
from bathotype.core.disk.ext4.superblock import BLOCK_UNINIT, EXTENTS, INODE_UNINIT
from bathotype.core.disk.ranges import Ranges
from bathotype.core.errors import Damaged

#: The upper byte of a file's mode, as far as it says so; and flags of files of which more than the size is needed.
_REGULAR, _MORE_THAN_ITS_SIZE = 0x80, 0x800 | 0x100000 | 0x200000


def used(fs: Ext4, *, whole_blocks: bool = False) -> Ranges:
    """Byte ranges that hold files or metadata.

    What no reader sees is left out: free blocks, extents that are not written yet, what lies behind a file's end in
    its last block, inodes never used, bitmaps that were never initialised, the room that is reserved for group
    descriptors in copies, and the replayed journal.  They read as zeros in a capture, and the file system stays
    consistent.  With ``whole_blocks`` a file's last block is whole: for a copy in which what lies behind the end is zero
    already, and which has far fewer ranges then.
    """
    block, base = fs.block_size, fs.first_block
    in_use = _taken(fs)
    edges = np.flatnonzero(np.diff(np.concatenate(([0], in_use.view(np.int8), [0]))))
    starts, ends = (edges[0::2] + base) * block, (edges[1::2] + base) * block
    ranges = Ranges.of_arrays(starts, ends).union(Ranges.of([(0, base * block)]))
    hidden = _idle_journal(fs).union(_unseen(fs, ends=not whole_blocks), _behind_copies(fs))
    if not whole_blocks:
        hidden = hidden.union(_free_inodes(fs))
    return ranges.minus(hidden, fs.source.size)


def _taken(fs: Ext4) -> np.typing.NDArray[np.bool_]:
    """For each block from the first on, whether it is in use: by the bitmaps, but for what was never initialised."""
    base, per_group = fs.first_block, fs.blocks_per_group
    in_use = np.zeros(fs.group_count * per_group, bool)
    for index, group in enumerate(fs.groups):
        if not group.flags & BLOCK_UNINIT:
            bitmap = fs.blocks(group.block_bitmap, 1)
            if fs.bitmap_checksum(bitmap, per_group // fs.cluster) not in (None, group.bitmap_checksum):
                raise Damaged(f"The checksum of the block bitmap of group {index} of the ext4 file system is wrong.")
            bits = np.unpackbits(np.frombuffer(bitmap, np.uint8), bitorder="little")[: per_group // fs.cluster]
            in_use[index * per_group : (index + 1) * per_group] = np.repeat(bits, fs.cluster)
    in_use = in_use[: fs.block_count - base]
    for index in range(fs.group_count):
        for kind, start, count in fs.head_of(index):
            # What is reserved holds, in the first group, the resize inode's pointers, elsewhere whatever was there before.
            in_use[start - base : start - base + count] = kind != "reserved" or index == 0
    for group in fs.groups:
        for single, uninit in ((group.block_bitmap, BLOCK_UNINIT), (group.inode_bitmap, INODE_UNINIT)):
            fs.blocks_valid(single, 1)
            in_use[single - base] = not group.flags & uninit
        start = group.inode_table - base
        fs.blocks_valid(group.inode_table, fs.table_blocks)
        never = fs.inodes_per_group if group.flags & INODE_UNINIT else group.inodes_unused
        live = -(-(fs.inodes_per_group - never) * fs.inode_size // fs.block_size)
        in_use[start : start + live] = True
        in_use[start + live : start + fs.table_blocks] = False
    return in_use


def _behind_copies(fs: Ext4) -> Ranges:
    """What lies in the blocks of copied superblocks and group descriptors behind what they hold."""
    size, found = fs.block_size, []
    filled = fs.group_count * fs.descriptor_size % size
    for index in range(1, fs.group_count):
        for kind, start, count in fs.head_of(index):
            if kind == "superblock":
                found.append((start * size + 1024, (start + 1) * size))
            elif kind == "descriptors" and filled and count == -(-fs.group_count * fs.descriptor_size // size):
                found.append(((start + count - 1) * size + filled, (start + count) * size))
    return Ranges.of(found)


def _unseen(fs: Ext4, *, ends: bool) -> Ranges:
    """Blocks that belong to a file and were never written, and with ``ends`` what lies behind files' ends: whatever
    is there is of an earlier file."""
    size, found, behind = fs.block_size, [], []
    for index, (_, table, _) in fs.numbered_tables():
        rows = np.frombuffer(table, np.uint8).reshape(-1, fs.inode_size)
        if fs.incompat & EXTENTS:
            trees = ExtentTrees(rows, size, fs.extent_node)
            found += [(first, first + count) for first, count in trees.unwritten()]
            behind += list(trees.behind_ends()) if ends else []
        if ends:
            behind += list(_behind_mapped(fs, index * fs.inodes_per_group + 1, rows))
    blocks = Ranges.of((a * size, b * size) for a, b in found if fs.first_block <= a and b <= fs.block_count)
    return blocks.union(Ranges.of((a, b) for a, b in behind if fs.first_block * size <= a and b <= fs.end))


def _behind_mapped(fs: Ext4, first: int, rows: np.typing.NDArray[np.uint8]) -> Iterator[tuple[int, int]]:
    """The same of files whose map consists of pointers: the last block is looked up in each file's map."""
    words = rows[:, :112].copy().view("<u4")
    kind, linked = rows[:, 1] & 0xF0, (rows[:, 26] | rows[:, 27]) != 0
    flags, low = words[:, 8], words[:, 1]
    mapped = (flags & (EXTENTS_FL | INLINE_DATA_FL | _MORE_THAN_ITS_SIZE)) == 0
    chosen = (kind == _REGULAR) & linked & mapped & (low % fs.block_size != 0)
    for slot in np.flatnonzero(chosen).tolist():
        inode = fs.inode(first + slot)
        last, inside = divmod(inode.size, fs.block_size)
        if (place := fs.mapped_block(inode, last)) is not None:
            yield place * fs.block_size + inside, (place + 1) * fs.block_size


def _free_inodes(fs: Ext4) -> Ranges:
    """Inodes that were used once: they may hold a small file's bytes, or say where a large one was."""
    size, starts, ends = fs.inode_size, [], []
    for start, table, bitmap in fs.inode_tables():
        free = np.unpackbits(np.frombuffer(bitmap, np.uint8), bitorder="little")[: len(table) // size] == 0
        edges = np.flatnonzero(np.diff(np.concatenate(([0], free.view(np.int8), [0]))))
        starts.append(start + edges[0::2] * size)
        ends.append(start + edges[1::2] * size)
    if not starts:
        return Ranges.of([])
    return Ranges.of_arrays(np.concatenate(starts).astype(np.int64), np.concatenate(ends).astype(np.int64))


def _idle_journal(fs: Ext4) -> Ranges:
    """The journal's blocks but its first, when nothing in it waits to be replayed."""
    nothing = Ranges.of([])
    if not fs.journal_inode or fs.needs_recovery or fs.journal_inode != JOURNAL_INODE:
        return nothing
    runs = list(fs.extents(fs.inode(fs.journal_inode)))
    if not runs or runs[0][0] != 0:
        return nothing
    head = fs.blocks(runs[0][1], 1)
    magic, kind = struct.unpack_from(">II", head, 0)
    start = struct.unpack_from(">I", head, 28)[0]
    if magic != 0xC03B3998 or kind not in (3, 4) or start != 0:
        return nothing
    block = fs.block_size
    every = Ranges.of((p * block, (p + n) * block) for _, p, n, _ in runs)
    first = runs[0][1] * block
    return every.minus(Ranges.of([(first, first + block)]), fs.source.size)
