"""Where a file's blocks lie: reading its map, and building it anew as an extent tree or as indirect blocks."""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

from bathotype.core.disk.crc import raw_crc32c
from bathotype.core.disk.ext4.edit.draft import Draft
from bathotype.core.disk.ext4.edit.inodes import InodeDraft, Inodes
from bathotype.core.disk.ext4.edit.room import Room
from bathotype.core.disk.ext4.filesystem import EXTENTS_FL, Ext4, Inode
from bathotype.core.errors import Refused

_HEADER = struct.Struct("<HHHHI")
_MAGIC, _IN_INODE, _LONGEST = 0xF30A, 4, 32767
_DIRECT = 12


class Run(NamedTuple):
    """Blocks of a file that lie one after another; ``written`` is false for room that reads as zeros."""

    logical: int
    start: int
    length: int
    written: bool = True


@dataclass(frozen=True)
class Maps:
    """The maps of files of one file system."""

    fs: Ext4
    draft: Draft
    room: Room
    inodes: Inodes

    def runs(self, node: InodeDraft) -> list[Run]:
        """All runs of a file, in order, also behind its end."""
        return [Run(*run) for run in self.fs.extents(self._whole(node))]

    def _whole(self, node: InodeDraft) -> Inode:
        """A file as if it reached as far as it can: a map of pointers is read only up to the file's end."""
        seen = node.as_read
        return seen if seen.flags & EXTENTS_FL or seen.is_link else replace(seen, size=self.fs.end)

    def free(self, node: InodeDraft, *, keep: int = 0) -> None:
        """Give back a file's blocks but for its first ``keep``; its map is made anew."""
        kept: list[Run] = []
        for run in self.runs(node):
            staying = min(run.length, max(0, keep - run.logical))
            if staying:
                kept.append(run._replace(length=staying))
            if staying < run.length:
                self.room.give_back(run.start + staying, run.length - staying)
                self.inodes.add_blocks(node, staying - run.length)
        self.rebuild(node, kept)

    def grow(self, node: InodeDraft, logical: int, count: int, near: int) -> list[Run]:
        """Give a file blocks that it does not have yet, from ``logical`` on."""
        new = []
        for start, length in self.room.take_blocks(count, near):
            new.append(Run(logical, start, length))
            logical += length
        self.inodes.add_blocks(node, count)
        self.rebuild(node, [*self.runs(node), *new])
        return new

    def rebuild(self, node: InodeDraft, runs: Sequence[Run]) -> None:
        """Make a file's map from its runs; the old map's blocks are given back."""
        old = self.fs.map_blocks(self._whole(node))
        for block in old:
            self.room.give_back(block, 1)
        self.inodes.add_blocks(node, -len(old))
        joined = _joined(sorted(runs))
        if node.flags & EXTENTS_FL:
            self._tree(node, joined)
        else:
            self._indirect(node, joined)

    # Extent trees

    def _tree(self, node: InodeDraft, runs: list[Run]) -> None:
        entries = [_leaf_entry(run) for run in runs]
        firsts = [run.logical for run in runs]
        depth = 0
        fitting = (self.fs.block_size - _HEADER.size) // 12
        while len(entries) > _IN_INODE:
            above, places = [], []
            for at in range(0, len(entries), fitting):
                block = self._take(node)
                self._write_node(node, block, entries[at : at + fitting], fitting, depth)
                above.append(struct.pack("<IIHH", firsts[at], block & 0xFFFFFFFF, block >> 32, 0))
                places.append(firsts[at])
            entries, firsts, depth = above, places, depth + 1
        header = _HEADER.pack(_MAGIC, len(entries), _IN_INODE, depth, 0)
        node.raw[40:100] = (header + b"".join(entries)).ljust(60, b"\0")

    def _write_node(self, node: InodeDraft, block: int, entries: list[bytes], most: int, depth: int) -> None:
        data = bytearray(self.fs.block_size)
        packed = _HEADER.pack(_MAGIC, len(entries), most, depth, 0) + b"".join(entries)
        data[: len(packed)] = packed
        if self.fs.checksummed:
            tail = _HEADER.size + most * 12
            struct.pack_into("<I", data, tail, raw_crc32c(self.inodes.seed_of(node), bytes(data[:tail])))
        self.draft.write(block * self.fs.block_size, bytes(data))

    # Indirect blocks

    def _indirect(self, node: InodeDraft, runs: list[Run]) -> None:
        places = {run.logical + i: run.start + i for run in runs for i in range(run.length)}
        per_block = self.fs.block_size // 4
        pointers = [places.pop(i, 0) for i in range(_DIRECT)]
        base = _DIRECT
        for level in (1, 2, 3):
            end = base + per_block**level
            mine = {logical - base: place for logical, place in places.items() if base <= logical < end}
            pointers.append(self._pointers(node, mine, level) if mine else 0)
            base = end
        if any(logical >= base or place >= 1 << 32 for logical, place in places.items()):
            raise Refused(
                "The file is too large for a file system without extents.",
                advice="Make it smaller.",
                code="path-not-editable",
            )
        node.raw[40:100] = struct.pack("<15I", *pointers)

    def _pointers(self, node: InodeDraft, places: dict[int, int], level: int) -> int:
        """A block of pointers to blocks, or to blocks of pointers."""
        span = (self.fs.block_size // 4) ** (level - 1)
        block = self._take(node)
        below: dict[int, dict[int, int]] = {}
        for logical, place in places.items():
            below.setdefault(logical // span, {})[logical % span] = place
        data = bytearray(self.fs.block_size)
        for slot, inner in below.items():
            pointer = inner[0] if level == 1 else self._pointers(node, inner, level - 1)
            struct.pack_into("<I", data, slot * 4, pointer)
        self.draft.write(block * self.fs.block_size, bytes(data))
        return block

    def _take(self, node: InodeDraft) -> int:
        """A block for the map, near its file."""
        self.inodes.add_blocks(node, 1)
        return self.room.take_blocks(1, self.fs.slot_of(node.number)[0])[0][0]


def _joined(runs: list[Run]) -> list[Run]:
    out: list[Run] = []
    for run in runs:
        last = out[-1] if out else None
        follows = last and (last.logical + last.length, last.start + last.length) == (run.logical, run.start)
        if last and follows and last.written == run.written and last.length + run.length <= _LONGEST:
            out[-1] = last._replace(length=last.length + run.length)
        else:
            out.append(run)
    return [piece for run in out for piece in _pieces(run)]


def _pieces(run: Run) -> list[Run]:
    """A run as extents of a length that can be written down."""
    return [
        Run(run.logical + at, run.start + at, min(_LONGEST, run.length - at), run.written)
        for at in range(0, run.length, _LONGEST)
    ]


def _leaf_entry(run: Run) -> bytes:
    length = run.length if run.written else run.length + 32768
    return struct.pack("<IHHI", run.logical, length, run.start >> 32, run.start & 0xFFFFFFFF)
