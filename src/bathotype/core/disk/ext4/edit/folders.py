"""The names of one folder: looking them up, removing and adding them, with or without an index."""

from __future__ import annotations

import stat
import struct
from functools import cached_property

from bathotype.core.disk.crc import raw_crc32c
from bathotype.core.disk.ext4.attributes import MAGIC, area_of
from bathotype.core.disk.ext4.edit.entries import (
    TAIL,
    DirectoryEntry,
    entries_of,
    filled,
    has_tail,
    put_in,
    take_out,
)
from bathotype.core.disk.ext4.edit.index import Index
from bathotype.core.disk.ext4.edit.inodes import InodeDraft
from bathotype.core.disk.ext4.edit.maps import Maps
from bathotype.core.disk.ext4.filesystem import ENCRYPT_FL, INDEX_FL
from bathotype.core.disk.ext4.superblock import FILETYPE
from bathotype.core.errors import Damaged, Refused

_MOST_BLOCKS = 1 << 18
_KINDS = {
    stat.S_IFREG: 1, stat.S_IFDIR: 2, stat.S_IFCHR: 3, stat.S_IFBLK: 4, stat.S_IFIFO: 5, stat.S_IFSOCK: 6, stat.S_IFLNK: 7,
}  # fmt: skip
_OWN = (b".", b"..")


class Folder:
    """One folder of a draft.  ``node`` is its inode; it is written when it changes."""

    def __init__(self, maps: Maps, node: InodeDraft) -> None:
        self.maps, self.node = maps, node
        self.size = maps.fs.block_size
        self.tail = TAIL if maps.fs.checksummed else 0

    # Names

    def inode_of(self, name: bytes) -> int | None:
        """The inode that a name leads to, None where there is no such name."""
        place = self._places.get(name)
        return place[0] if place else None

    @property
    def is_empty(self) -> bool:
        """Whether it has no name but ``.`` and ``..``."""
        return not self._places

    @cached_property
    def _places(self) -> dict[bytes, tuple[int, int]]:
        """The inode of every name but ``.`` and ``..``, and the piece in which it is."""
        return {entry.name: (entry.inode, piece) for piece in self._pieces() for entry in self._listed(piece)}

    def _listed(self, piece: int) -> list[DirectoryEntry]:
        data, start, end = self.piece(piece)
        return [e for e in entries_of(data, start, end) if e.inode and e.name and e.name not in _OWN]

    def remove(self, name: bytes) -> None:
        """Take a name out.  Raises `Damaged` where it is not there."""
        _, piece = self._places.pop(name, (0, -1))
        if piece < 0:
            raise Damaged(f"The folder has no {name!r}.")
        data, start, end = self.piece(piece)
        if not take_out(data, start, end, name):
            raise Damaged(f"The folder has no {name!r}.")
        self.write_piece(piece, data)

    def add(self, name: bytes, inode: int, mode: int) -> None:
        """Add a name.  Raises `OutOfSpace`, and `Refused` in a folder whose names are encrypted."""
        if self.node.flags & ENCRYPT_FL:
            raise Refused(
                "A folder with encrypted names cannot be written to.",
                advice="Leave it out of the profile's steps.",
                code="path-not-editable",
            )
        kind = _KINDS.get(stat.S_IFMT(mode), 0) if self.maps.fs.incompat & FILETYPE else 0
        if self.node.flags & INDEX_FL and Index(self).add(name, inode, kind):
            self.__dict__.pop("_places", None)  # names may have moved to another block
            return
        self._places[name] = (inode, self._put(name, inode, kind))

    def _put(self, name: bytes, inode: int, kind: int) -> int:
        """Put a name where there is room for it; returns that piece."""
        for piece in self._pieces():
            data, start, end = self.piece(piece)
            if put_in(data, start, end, name, inode, kind):
                self.write_piece(piece, data)
                return piece
        if self.node.is_inline:
            self._out_of_its_inode()
            return self._put(name, inode, kind)
        return self.append(filled(self.size, [(name, inode, kind)], tail=bool(self.tail)))

    # Pieces: blocks, or two parts of the inode

    def _pieces(self) -> range:
        return range(len(self._inline_areas() if self.node.is_inline else self._blocks))

    @property
    def block_count(self) -> int:
        """Blocks of the folder."""
        return len(self._blocks)

    @cached_property
    def _blocks(self) -> list[int]:
        count = self.node.size // self.size
        if count > _MOST_BLOCKS:
            raise Damaged(f"Directory inode {self.node.number} is impossibly large.")
        places = [0] * count
        for run in self.maps.runs(self.node):
            for i in range(run.length):
                if run.logical + i < count and run.written:
                    places[run.logical + i] = run.start + i
        if not all(places):
            raise Damaged(f"Directory inode {self.node.number} has holes.")
        return places

    def piece(self, number: int) -> tuple[bytearray, int, int]:
        """A piece's bytes, and where its entries begin and end in them."""
        if self.node.is_inline:
            start, end = self._inline_areas()[number]
            return bytearray(self.node.raw), start, end
        data = self.block(number)
        if self._is_node(number, data):
            return data, 0, 0
        if self.tail and not has_tail(data):
            raise Damaged(f"A block of directory inode {self.node.number} has no checksum.")
        return data, 0, self.size - self.tail

    def _is_node(self, number: int, data: bytearray) -> bool:
        """Whether a block belongs to the index: the root, or one that looks like a single empty entry."""
        if not self.node.flags & INDEX_FL:
            return False
        inode, length = struct.unpack_from("<IH", data, 0)
        return number == 0 or (inode == 0 and length in (0, 65535, self.size))

    def block(self, number: int) -> bytearray:
        """A block of the folder as it is."""
        return bytearray(self.maps.draft.read(self._blocks[number] * self.size, self.size))

    def write_piece(self, number: int, data: bytearray) -> None:
        """Put a changed piece back, with its checksum."""
        if self.node.is_inline:
            self.node.raw[:] = data
            self.maps.inodes.put(self.node)
            return
        if self.tail:
            struct.pack_into("<I", data, self.size - 4, raw_crc32c(self._seed, bytes(data[: self.size - TAIL])))
        self.write_block(number, data)

    def write_block(self, number: int, data: bytearray) -> None:
        """Put a block back as it is."""
        self.maps.draft.write(self._blocks[number] * self.size, bytes(data))

    @property
    def _seed(self) -> int:
        return self.maps.inodes.seed_of(self.node)

    def summed(self, data: bytes) -> int:
        """The checksum of some bytes of this folder."""
        return raw_crc32c(self._seed, data)

    def append(self, data: bytearray) -> int:
        """Add a block; returns its number."""
        number = len(self._blocks)
        near = self.maps.fs.slot_of(self.node.number)[0]
        new = self.maps.grow(self.node, number, 1, near)
        self._blocks.append(new[0].start)
        self.node.size += self.size
        self.maps.inodes.put(self.node)
        self.write_piece(number, data)
        return number

    # In the inode

    def _inline_areas(self) -> list[tuple[int, int]]:
        """Where entries lie in the inode: behind the parent's number, and in the attribute that holds the rest."""
        areas = [(44, 100)]
        at = area_of(bytes(self.node.raw))
        if self.node.raw[at : at + 4] != MAGIC:
            return areas
        base = at = at + 4
        while at + 16 <= len(self.node.raw) and self.node.raw[at : at + 4] != bytes(4):
            length, kind, offset, _, size = struct.unpack_from("<BBHII", self.node.raw, at)
            if (kind, bytes(self.node.raw[at + 16 : at + 16 + length])) == (7, b"data") and size:
                if base + offset + size > len(self.node.raw):
                    raise Damaged("An inline folder is broken.")
                areas.append((base + offset, base + offset + size))
            at += (16 + length + 3) & ~3
        return areas

    def _out_of_its_inode(self) -> None:
        """Move an inline folder's entries into a block."""
        fs, node = self.maps.fs, self.node
        parent = node.u32(40)
        found = [(e.name, e.inode, node.raw[e.at + 7]) for piece in self._pieces() for e in self._listed(piece)]
        folder = 2 if fs.incompat & FILETYPE else 0
        self.maps.inodes.drop_inline(node)
        node.size = 0
        self.__dict__.pop("_blocks", None)
        entries = [(b".", node.number, folder), (b"..", parent, folder), *found]
        self.append(filled(self.size, entries, tail=bool(self.tail)))
        self.__dict__.pop("_places", None)
