"""Inodes as bytes that can be changed."""

from __future__ import annotations

import struct

from bathotype.core.disk.crc import raw_crc32c
from bathotype.core.disk.ext4.attributes import MAGIC, area_of, in_inode, laid_out
from bathotype.core.disk.ext4.edit.draft import Draft
from bathotype.core.disk.ext4.filesystem import EXTENTS_FL, INLINE_DATA_FL, Ext4, Inode, parsed
from bathotype.core.disk.ext4.superblock import EXTENTS

_HUGE_FILE, _HUGE_FILE_FL = 0x8, 0x40000
_EMPTY_TREE = struct.pack("<HHHHI", 0xF30A, 0, 4, 0, 0).ljust(60, b"\0")
_EXTRA = 32


class InodeDraft:
    """One inode, its bytes and what they say.  ``raw`` may be changed; `Inodes.put` writes it."""

    def __init__(self, number: int, raw: bytearray) -> None:
        self.number, self.raw = number, raw

    @property
    def as_read(self) -> Inode:
        """What a reader sees."""
        return parsed(self.number, bytes(self.raw))

    def u16(self, at: int) -> int:
        """A field of two bytes."""
        return int(struct.unpack_from("<H", self.raw, at)[0])

    def u32(self, at: int) -> int:
        """A field of four bytes."""
        return int(struct.unpack_from("<I", self.raw, at)[0])

    def set16(self, at: int, value: int) -> None:
        """Set a field of two bytes."""
        struct.pack_into("<H", self.raw, at, value)

    def set32(self, at: int, value: int) -> None:
        """Set a field of four bytes."""
        struct.pack_into("<I", self.raw, at, value)

    @property
    def links(self) -> int:
        return self.u16(26)

    @links.setter
    def links(self, value: int) -> None:
        self.set16(26, value)

    @property
    def flags(self) -> int:
        return self.u32(32)

    @flags.setter
    def flags(self, value: int) -> None:
        self.set32(32, value)

    @property
    def size(self) -> int:
        return self.u32(4) | self.u32(108) << 32

    @size.setter
    def size(self, value: int) -> None:
        self.set32(4, value & 0xFFFFFFFF)
        self.set32(108, value >> 32)

    def own(self, uid: int, gid: int) -> None:
        """Give it to a user and a group."""
        for low, high, value in ((2, 120, uid), (24, 122, gid)):
            self.set16(low, value & 0xFFFF)
            self.set16(high, value >> 16)

    @property
    def is_inline(self) -> bool:
        return bool(self.flags & INLINE_DATA_FL)


class Inodes:
    """The inode tables of one file system."""

    def __init__(self, fs: Ext4, draft: Draft) -> None:
        self._fs, self._draft = fs, draft

    def get(self, number: int) -> InodeDraft:
        """An inode as it is now.  Raises `Damaged` for a number that cannot be."""
        return InodeDraft(number, bytearray(self._draft.read(self._fs.inode_place(number), self._fs.inode_size)))

    def put(self, node: InodeDraft) -> None:
        """Write an inode, with its checksum."""
        seed = self._fs.checksum_seed
        if seed is not None:
            wide = self._fs.inode_size > 128 and node.u16(128) >= 4
            node.set16(124, 0)
            if wide:
                node.set16(130, 0)
            summed = raw_crc32c(self.seed_of(node), bytes(node.raw))
            node.set16(124, summed & 0xFFFF)
            if wide:
                node.set16(130, summed >> 16)
        self._draft.write(self._fs.inode_place(node.number), bytes(node.raw))

    def blank(self, number: int) -> None:
        """Leave nothing of an inode."""
        self._draft.write(self._fs.inode_place(number), bytes(self._fs.inode_size))

    def seed_of(self, node: InodeDraft) -> int:
        """What the checksums of a file's own structures begin with."""
        seed = raw_crc32c(self._fs.checksum_seed or 0, struct.pack("<I", node.number))
        return raw_crc32c(seed, bytes(node.raw[100:104]))

    def new(self, number: int, mode: int, uid: int, gid: int, *, when: int) -> InodeDraft:
        """A fresh inode, not written yet, of a file without bytes; ``when`` is in seconds since 1970."""
        node = InodeDraft(number, bytearray(self._fs.inode_size))
        node.set16(0, mode)
        node.own(uid, gid)
        for at in (8, 12, 16):
            node.set32(at, when)
        if self._fs.inode_size > 128:
            node.set16(128, min(self._fs.u16(350) or _EXTRA, self._fs.inode_size - 128))
            if node.u16(128) >= 20:
                node.set32(144, when)
        self.without_data(node)
        return node

    def without_data(self, node: InodeDraft) -> None:
        """Make a node's map that of a file without blocks, held as this file system holds new files."""
        node.flags &= ~(INLINE_DATA_FL | EXTENTS_FL)
        node.raw[40:100] = bytes(60)
        if self._fs.incompat & EXTENTS:
            node.flags |= EXTENTS_FL
            node.raw[40:100] = _EMPTY_TREE

    def drop_inline(self, node: InodeDraft) -> None:
        """Take a file's own bytes out of its inode; its attributes stay."""
        at = area_of(bytes(node.raw))
        if node.raw[at : at + 4] == MAGIC:
            kept = [one for one in in_inode(bytes(node.raw)) if not one.is_inline_data]
            node.raw[at:] = laid_out(kept, len(node.raw) - at)
        self.without_data(node)

    def add_blocks(self, node: InodeDraft, change: int) -> None:
        """Count blocks that a file has more, or fewer."""
        wide = bool(self._fs.ro_compat & _HUGE_FILE)
        unit = 1 if wide and node.flags & _HUGE_FILE_FL else self._fs.block_size // 512
        value = (node.u32(28) | (node.u16(116) << 32 if wide else 0)) + change * unit
        value = max(0, value)
        node.set32(28, value & 0xFFFFFFFF)
        if wide:
            node.set16(116, value >> 32)
