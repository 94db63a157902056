"""Letting go of files: their blocks, their extended attributes as far as nobody else has them, and their inodes."""

from __future__ import annotations

import struct
from dataclasses import dataclass

from bathotype.core.disk.crc import raw_crc32c
from bathotype.core.disk.ext4.attributes import Attribute, block_of, in_block, in_inode
from bathotype.core.disk.ext4.edit.inodes import InodeDraft
from bathotype.core.disk.ext4.edit.maps import Maps
from bathotype.core.disk.ext4.filesystem import EA_INODE_FL

_REFERENCES, _CHECKSUM = 4, 16


@dataclass(frozen=True)
class Release:
    """Gives back what a file had."""

    maps: Maps

    def inode(self, node: InodeDraft) -> None:
        """Let go of a whole file; nothing of its inode is left."""
        folder = node.as_read.is_dir
        self._attributes(node)
        self.maps.free(node)
        self.maps.room.give_inode_back(node.number, folder=folder)
        self.maps.inodes.blank(node.number)

    def _attributes(self, node: InodeDraft) -> None:
        raw = bytes(node.raw)
        self._values(in_inode(raw))
        block = block_of(raw)
        if not block:
            return
        fs = self.maps.fs
        data = bytearray(fs.blocks(block, 1))
        held = in_block(bytes(data))
        references = struct.unpack_from("<I", data, _REFERENCES)[0]
        if references > 1:
            struct.pack_into("<I", data, _REFERENCES, references - 1)
            if fs.checksum_seed is not None:
                struct.pack_into("<I", data, _CHECKSUM, 0)
                seed = raw_crc32c(fs.checksum_seed, struct.pack("<Q", block))
                struct.pack_into("<I", data, _CHECKSUM, raw_crc32c(seed, bytes(data)))
            self.maps.draft.write(block * fs.block_size, bytes(data))
        else:
            self._values(held)
            self.maps.room.give_back(block, 1)

    def _values(self, attributes: list[Attribute]) -> None:
        """Count down the inodes in which values of attributes lie; those that nobody needs any more go."""
        for one in attributes:
            if not one.inode:
                continue
            value = self.maps.inodes.get(one.inode)
            if not value.flags & EA_INODE_FL or not value.as_read.is_file:
                continue  # the check afterwards says what is wrong
            # The kernel counts them in the time of change and in the version: nothing else is in these there.
            count = (value.u32(12) << 32 | value.u32(36)) - 1
            if count > 0:
                value.set32(12, count >> 32)
                value.set32(36, count & 0xFFFFFFFF)
                self.maps.inodes.put(value)
            else:
                self.maps.free(value)
                self.maps.room.give_inode_back(value.number, folder=False)
                self.maps.inodes.blank(value.number)
