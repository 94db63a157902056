"""The index of a large folder: a tree of hashes, so that a name is found without reading all of them.

Follows the kernel's documentation of hash tree directories, and ``fs/ext4/namei.c`` in how a full leaf is divided.
"""

from __future__ import annotations

import struct
from typing import TYPE_CHECKING, NamedTuple

from bathotype.core.disk.ext4.edit.entries import entries_of, filled, needed, put_in
from bathotype.core.disk.ext4.filesystem import INDEX_FL
from bathotype.core.disk.ext4.hashes import TEA, UNSIGNED, name_hash
from bathotype.core.disk.ext4.superblock import FILETYPE
from bathotype.core.errors import Damaged

if TYPE_CHECKING:
    from bathotype.core.disk.ext4.edit.folders import Folder

_ROOT_INFO, _NODE_ENTRIES = 24, 8
_MOST_LEVELS = 3
_CASEFOLD_FL = 0x40000000
_UNSIGNED_NAMES = 0x2


class _Frame(NamedTuple):
    """One node on the way to a leaf: its block, where its entries begin, and which of them leads on."""

    block: int
    at: int
    chosen: int


class Index:
    """The index of one folder, read anew each time: adding names is rare."""

    def __init__(self, folder: Folder) -> None:
        self._folder = folder
        self._root = folder.block(0)

    def add(self, name: bytes, inode: int, kind: int) -> bool:
        """Add a name to the leaf where it belongs.

        False where that cannot be done: the folder has no index any more then, and is searched name by name, which every
        kernel does as well.
        """
        if self._added(name, inode, kind):
            return True
        self._remove()
        return False

    def _added(self, name: bytes, inode: int, kind: int) -> bool:
        summed = self._hash(name)
        way = self._way(summed) if summed is not None else None
        if way is None or summed is None:
            return False
        frame, leaf = way
        if self._into(leaf, name, inode, kind):
            return True
        halves = self._divided(frame, leaf)
        return halves is not None and self._into(halves[1] if summed >= halves[0] else leaf, name, inode, kind)

    def _into(self, leaf: int, name: bytes, inode: int, kind: int) -> bool:
        data, start, end = self._folder.piece(leaf)
        if not put_in(data, start, end, name, inode, kind):
            return False
        self._folder.write_piece(leaf, data)
        return True

    def _hash(self, name: bytes) -> int | None:
        if self._folder.node.flags & _CASEFOLD_FL:
            return None
        fs, kind = self._folder.maps.fs, self._root[_ROOT_INFO + 4]
        if kind <= TEA and fs.u32(352) & _UNSIGNED_NAMES:
            kind += UNSIGNED
        return name_hash(name, kind, fs.raw[236:252])

    # The tree

    def _way(self, summed: int) -> tuple[_Frame, int] | None:
        """The last node on the way to a hash's leaf, and the leaf."""
        info = self._root[_ROOT_INFO + 5]
        levels = self._root[_ROOT_INFO + 6]
        if info != 8 or levels >= _MOST_LEVELS:
            return None
        block, at = 0, _ROOT_INFO + info
        for level in range(levels + 1):
            entries = self._entries(block, at)
            chosen = max((i for i, (h, _) in enumerate(entries) if i == 0 or h <= summed), default=0)
            below = entries[chosen][1]
            if not 0 < below < self._folder.block_count:
                raise Damaged("The index of a folder leads elsewhere.")
            if level == levels:
                return _Frame(block, at, chosen), below
            block, at = below, _NODE_ENTRIES
        return None

    def _entries(self, block: int, at: int) -> list[tuple[int, int]]:
        """``(hash, block)`` of a node; the first has no hash of its own."""
        data = self._folder.block(block)
        limit, count = struct.unpack_from("<HH", data, at)
        if not 0 < count <= limit or at + limit * 8 + (8 if self._folder.tail else 0) > len(data):
            raise Damaged("The index of a folder is broken.")
        found = [(0, int(struct.unpack_from("<I", data, at + 4)[0]) & 0x0FFFFFFF)]
        for i in range(1, count):
            summed, below = struct.unpack_from("<II", data, at + 8 * i)
            found.append((summed, below & 0x0FFFFFFF))
        return found

    def _divided(self, frame: _Frame, leaf: int) -> tuple[int, int] | None:
        """Move the upper half of a leaf's names to a new one; returns its first hash and its block."""
        folder = self._folder
        node = folder.block(frame.block)
        limit, count = struct.unpack_from("<HH", node, frame.at)
        if count >= limit:
            return None
        data, start, end = folder.piece(leaf)
        listed = []
        for entry in entries_of(data, start, end):
            if entry.inode:
                summed = self._hash(entry.name)
                if summed is None:
                    return None
                listed.append((summed, entry.name, entry.inode, data[entry.at + 7]))
        listed.sort(key=lambda row: row[0])
        half, size = len(listed), 0
        while half > 1 and size + needed(listed[half - 1][1]) <= (end - start) // 2:
            half -= 1
            size += needed(listed[half][1])
        if not 0 < half < len(listed):
            return None
        # The lowest bit says that names of the same hash are in the leaf before as well.
        boundary = listed[half][0] | (listed[half][0] == listed[half - 1][0])
        new = folder.append(filled(folder.size, [row[1:] for row in listed[half:]], tail=bool(folder.tail)))
        lower = filled(folder.size, [row[1:] for row in listed[:half]], tail=bool(folder.tail))
        folder.write_piece(leaf, lower)
        place = frame.at + 8 * (frame.chosen + 1)
        node[place + 8 : frame.at + 8 * (count + 1)] = node[place : frame.at + 8 * count]
        struct.pack_into("<II", node, place, boundary, new)
        struct.pack_into("<H", node, frame.at + 2, count + 1)
        self._write(frame.block, frame.at, node)
        return boundary, new

    def _write(self, block: int, at: int, node: bytearray) -> None:
        """Put a node back, with its checksum."""
        if self._folder.tail:
            limit, count = struct.unpack_from("<HH", node, at)
            tail = at + limit * 8
            held = bytes(node[: at + count * 8]) + bytes(node[tail : tail + 4]) + bytes(4)
            struct.pack_into("<I", node, tail + 4, self._folder.summed(held))
        self._folder.write_block(block, node)

    # Without it

    def _nodes(self) -> list[int]:
        """The blocks of the index but its root."""
        levels, found = self._root[_ROOT_INFO + 6], []
        if levels >= _MOST_LEVELS:
            raise Damaged("The index of a folder is too deep.")
        level = [(0, _ROOT_INFO + 8)]
        for _ in range(levels):
            below = [b for block, at in level for _, b in self._entries(block, at)]
            if not all(0 < b < self._folder.block_count for b in below) or len(set(below)) != len(below):
                raise Damaged("The index of a folder leads elsewhere.")
            found += below
            level = [(b, _NODE_ENTRIES) for b in below]
        return found

    def _remove(self) -> None:
        """Make it a folder without an index."""
        folder = self._folder
        tail = bool(folder.tail)
        for block in self._nodes():
            folder.write_piece(block, filled(folder.size, [], tail=tail))
        own, parent = struct.unpack_from("<I", self._root, 0)[0], struct.unpack_from("<I", self._root, 12)[0]
        kind = 2 if folder.maps.fs.incompat & FILETYPE else 0
        folder.node.flags &= ~INDEX_FL
        folder.write_piece(0, filled(folder.size, [(b".", own, kind), (b"..", parent, kind)], tail=tail))
        folder.maps.inodes.put(folder.node)
