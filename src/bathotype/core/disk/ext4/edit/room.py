"""Free blocks and inodes: taking them and giving them back, with bitmaps, counts and checksums kept right."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from bathotype.core.disk.crc import raw_crc32c
from bathotype.core.disk.ext4.edit.draft import Draft
from bathotype.core.disk.ext4.filesystem import Ext4
from bathotype.core.disk.ext4.superblock import (
    BLOCK_UNINIT,
    INODE_UNINIT,
    METADATA_CSUM,
    SUPERBLOCK_AT,
    SUPERBLOCK_SIZE,
)
from bathotype.core.errors import Damaged, OutOfSpace

Bits = npt.NDArray[np.bool_]
#: Counts of a descriptor: places of the low and of the high half.
_FREE_BLOCKS, _FREE_INODES, _FOLDERS, _UNUSED = (12, 44), (14, 46), (16, 48), (28, 50)
_BLOCK_SUM, _INODE_SUM = (24, 56), (26, 58)


@dataclass
class _Group:
    """One group's descriptor, and its bitmaps as far as they were looked at."""

    raw: bytearray
    flagged: bool
    blocks: Bits | None = None
    inodes: Bits | None = None
    changed: bool = False

    def get(self, places: tuple[int, int]) -> int:
        low = int(struct.unpack_from("<H", self.raw, places[0])[0])
        return low | (struct.unpack_from("<H", self.raw, places[1])[0] << 16 if len(self.raw) >= 64 else 0)

    def put(self, places: tuple[int, int], value: int) -> None:
        struct.pack_into("<H", self.raw, places[0], value & 0xFFFF)
        if len(self.raw) >= 64:
            struct.pack_into("<H", self.raw, places[1], value >> 16)
        self.changed = True

    def add(self, places: tuple[int, int], change: int) -> None:
        value = self.get(places) + change
        if value < 0:
            raise Damaged("A count of the ext4 file system's block groups is wrong.")
        self.put(places, value)

    @property
    def flags(self) -> int:
        return int(struct.unpack_from("<H", self.raw, 18)[0]) if self.flagged else 0

    def clear(self, flag: int) -> None:
        struct.pack_into("<H", self.raw, 18, self.flags & ~flag)
        self.changed = True


class Room:
    """Free room of one file system.  What is taken and given back is on the draft after `finish`."""

    def __init__(self, fs: Ext4, draft: Draft) -> None:
        self._fs, self._draft = fs, draft
        size, table = fs.descriptor_size, fs.descriptors()
        flagged = bool(fs.groups) and fs.descriptor_checksum(0, table[:size]) is not None
        self._groups = [
            _Group(bytearray(table[i * size : (i + 1) * size]), flagged) for i in range(fs.group_count)
        ]  # fmt: skip

    # Blocks

    def take_blocks(self, count: int, near: int) -> list[tuple[int, int]]:
        """``(first, count)`` runs of blocks that were free, from the group ``near`` on.  Raises `OutOfSpace`."""
        runs: list[tuple[int, int]] = []
        for index in self._in_turn(near, BLOCK_UNINIT):
            if count == 0:
                break
            group = self._groups[index]
            if not group.get(_FREE_BLOCKS):
                continue
            bits = self._block_bits(index)
            for start, length in _free_runs(bits, count):
                bits[start : start + length] = True
                group.add(_FREE_BLOCKS, -length)
                runs.append((self._fs.group_start(index) + start, length))
                count -= length
        if count:
            raise OutOfSpace(
                "The disk's own file system is too full to be changed.",
                advice="Free some space in the machine, then capture it again.",
            )
        return runs

    def give_back(self, start: int, count: int) -> None:
        """Free blocks.  Raises `Damaged` for one that is free already: two files claim it, or one claims it twice."""
        self._fs.blocks_valid(start, count)
        while count:
            index, inside = divmod(start - self._fs.first_block, self._fs.blocks_per_group)
            length = min(count, self._fs.blocks_per_group - inside)
            bits = self._block_bits(index)
            if not bits[inside : inside + length].all():
                raise Damaged(f"Block {start} of the ext4 file system is claimed twice.")
            bits[inside : inside + length] = False
            self._groups[index].add(_FREE_BLOCKS, length)
            start, count = start + length, count - length

    def _block_bits(self, index: int) -> Bits:
        group = self._groups[index]
        if group.blocks is None:
            if group.flags & BLOCK_UNINIT:
                group.blocks = self._first_bits(index)
                group.clear(BLOCK_UNINIT)
            else:
                group.blocks = self._bits_at(self._fs.groups[index].block_bitmap)
        return group.blocks

    def _first_bits(self, index: int) -> Bits:
        """The bitmap of a group in which no file ever had a block: its own structures, and what follows the end."""
        fs = self._fs
        start, per_group = fs.group_start(index), fs.blocks_per_group
        bits = np.zeros(fs.block_size * 8, bool)
        taken = [(first, count) for _, first, count in fs.head_of(index)]
        for group in fs.groups:
            taken += [(group.block_bitmap, 1), (group.inode_bitmap, 1), (group.inode_table, fs.table_blocks)]
        for first, count in taken:
            begin, end = max(0, first - start), min(per_group, first + count - start)
            if begin < end:
                bits[begin:end] = True
        bits[min(per_group, fs.block_count - start) :] = True
        return bits

    # Inodes

    def take_inode(self, near: int, *, folder: bool) -> int:
        """The number of an inode that was free.  Raises `OutOfSpace`."""
        for index in self._in_turn(near, INODE_UNINIT):
            group = self._groups[index]
            if not group.get(_FREE_INODES):
                continue
            bits = self._inode_bits(index)
            reserved = max(0, self._first_inode - 1 - index * self._fs.inodes_per_group)
            free = np.flatnonzero(~bits[reserved : self._fs.inodes_per_group])
            if not len(free):
                continue
            slot = int(free[0]) + reserved
            bits[slot] = True
            group.add(_FREE_INODES, -1)
            group.add(_FOLDERS, int(folder))
            self._reach(index, slot)
            return index * self._fs.inodes_per_group + slot + 1
        raise OutOfSpace(
            "The disk's own file system has no room for more files.",
            advice="Remove some files in the machine, then capture it again.",
        )

    def give_inode_back(self, number: int, *, folder: bool) -> None:
        """Free an inode.  Raises `Damaged` where it is free already."""
        index, slot = self._fs.slot_of(number)
        bits = self._inode_bits(index)
        if not bits[slot]:
            raise Damaged(f"Inode {number} of the ext4 file system is in use and free at once.")
        bits[slot] = False
        self._groups[index].add(_FREE_INODES, 1)
        if folder:
            self._groups[index].add(_FOLDERS, -1)

    def is_taken(self, number: int) -> bool:
        """Whether an inode is in use."""
        index, slot = self._fs.slot_of(number)
        return bool(self._inode_bits(index)[slot])

    @property
    def _first_inode(self) -> int:
        return self._fs.u32(84) if self._fs.u32(76) else 11

    def _inode_bits(self, index: int) -> Bits:
        group, fs = self._groups[index], self._fs
        if group.inodes is None:
            if group.flags & INODE_UNINIT:
                group.inodes = np.ones(fs.block_size * 8, bool)
                group.inodes[: fs.inodes_per_group] = False
                group.put(_UNUSED, fs.inodes_per_group)
                self._block_bits(index)
                group.clear(INODE_UNINIT)
            else:
                group.inodes = self._bits_at(fs.groups[index].inode_bitmap)
        return group.inodes

    def _reach(self, index: int, slot: int) -> None:
        """Make inodes up to one part of what is looked at: those before it that nobody used are blank."""
        group, fs = self._groups[index], self._fs
        if not group.flagged:
            return
        used = fs.inodes_per_group - min(group.get(_UNUSED), fs.inodes_per_group)
        if slot >= used:
            at = fs.groups[index].inode_table * fs.block_size
            self._draft.write(at + used * fs.inode_size, bytes((slot + 1 - used) * fs.inode_size))
            group.put(_UNUSED, fs.inodes_per_group - slot - 1)

    # Both

    def _in_turn(self, near: int, untouched: int) -> Iterator[int]:
        """Groups from one on; those of which nothing was ever used come last."""
        order = [(near + i) % len(self._groups) for i in range(len(self._groups))]
        yield from (i for i in order if not self._groups[i].flags & untouched)
        yield from (i for i in order if self._groups[i].flags & untouched)

    def _bits_at(self, block: int) -> Bits:
        return np.unpackbits(np.frombuffer(self._fs.blocks(block, 1), np.uint8), bitorder="little").astype(bool)

    def finish(self) -> None:
        """Put bitmaps, descriptors and the superblock's counts on the draft."""
        fs = self._fs
        for index, group in enumerate(self._groups):
            if not group.changed:
                continue
            for bits, block, length, places in (
                (group.blocks, fs.groups[index].block_bitmap, fs.blocks_per_group, _BLOCK_SUM),
                (group.inodes, fs.groups[index].inode_bitmap, fs.inodes_per_group, _INODE_SUM),
            ):
                if bits is not None:
                    data = np.packbits(bits, bitorder="little").tobytes()
                    self._draft.write(block * fs.block_size, data)
                    if (summed := fs.bitmap_checksum(data, length)) is not None:
                        group.put(places, summed)
            checksum = fs.descriptor_checksum(index, bytes(group.raw))
            struct.pack_into("<H", group.raw, 30, checksum or 0)
            self._draft.write(fs.descriptor_place(index), bytes(group.raw))
        if any(group.changed for group in self._groups):
            blocks, inodes = (sum(g.get(places) for g in self._groups) for places in (_FREE_BLOCKS, _FREE_INODES))
            write_superblock(
                self._draft, {12: blocks & 0xFFFFFFFF, 16: inodes} | ({344: blocks >> 32} if fs.wide else {})
            )


def write_superblock(draft: Draft, fields: dict[int, int]) -> None:
    """Set fields of four bytes of the superblock, and its checksum."""
    raw = bytearray(draft.read(SUPERBLOCK_AT, SUPERBLOCK_SIZE))
    for at, value in fields.items():
        struct.pack_into("<I", raw, at, value)
    if struct.unpack_from("<I", raw, 100)[0] & METADATA_CSUM:
        struct.pack_into("<I", raw, 1020, raw_crc32c(0xFFFFFFFF, bytes(raw[:1020])))
    draft.write(SUPERBLOCK_AT, bytes(raw))


def _free_runs(bits: Bits, wanted: int) -> list[tuple[int, int]]:
    """Free runs of a group for so many blocks: the first that holds all of them, else the first ones."""
    edges = np.flatnonzero(np.diff(np.concatenate(([True], bits, [True])).astype(np.int8)))
    starts, lengths = edges[0::2], edges[1::2] - edges[0::2]
    fitting = np.flatnonzero(lengths >= wanted)
    if len(fitting):
        return [(int(starts[fitting[0]]), wanted)]
    found = []
    for start, length in zip(starts.tolist(), lengths.tolist(), strict=True):
        taken = min(length, wanted)
        found.append((start, taken))
        wanted -= taken
        if not wanted:
            break
    return found
