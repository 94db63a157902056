"""The extent trees of a group's inodes, looked at all at once: which of their blocks hold what no reader sees."""

from __future__ import annotations

import stat
from collections.abc import Callable, Iterator

import numpy as np
import numpy.typing as npt

_MAGIC, _EXTENTS = 0xF30A, 0x80000
#: Of encrypted and verified files, and of those that hold attributes, more than the size is needed (inode flags).
_MORE_THAN_ITS_SIZE = 0x800 | 0x100000 | 0x200000
_IN_INODE = 4
#: A length beyond this says that the extent is allocated and not written yet.
_WRITTEN = 32768

Leaves = Callable[[bytes], Iterator[tuple[int, int, int, bool]]]
Words = npt.NDArray[np.int64]


class ExtentTrees:
    """The trees of all files of some inodes, of which each row is one.  ``leaves`` reads a tree that does not fit into
    its inode: most do."""

    def __init__(self, rows: npt.NDArray[np.uint8], block_size: int, leaves: Leaves) -> None:
        flags = _field(rows, 32, "<u4")
        live = (_field(rows, 0, "<u2") != 0) & (_field(rows, 26, "<u2") != 0) & (flags & _EXTENTS != 0)
        rows, flags = rows[live], flags[live]
        sound = _field(rows, 40, "<u2") == _MAGIC
        self._rows, self._flags, self._block, self._leaves = rows[sound], flags[sound], block_size, leaves
        self._entries, self._depth = _field(self._rows, 42, "<u2"), _field(self._rows, 46, "<u2")

    def _extent(self, slot: int) -> tuple[Words, Words, Words]:
        """Of each inode's extent in a slot: first block of the file, length as it is written, first block of the disk."""
        at = 40 + 12 + 12 * slot
        start = _field(self._rows, at + 6, "<u2") << 32 | _field(self._rows, at + 8, "<u4")
        return _field(self._rows, at, "<u4"), _field(self._rows, at + 4, "<u2"), start

    def _deep(self, wanted: npt.NDArray[np.bool_]) -> Iterator[tuple[int, list[tuple[int, int, int, bool]]]]:
        for row in np.flatnonzero((self._depth > 0) & wanted).tolist():
            yield row, list(self._leaves(self._rows[row, 40:100].tobytes()))

    def unwritten(self) -> Iterator[tuple[int, int]]:
        """``(block, count)`` of extents that were allocated and never written."""
        for slot in range(_IN_INODE):
            _, length, start = self._extent(slot)
            chosen = (self._depth == 0) & (self._entries > slot) & (length > _WRITTEN)
            yield from zip(start[chosen].tolist(), (length[chosen] - _WRITTEN).tolist(), strict=True)
        for _, extents in self._deep(np.ones(len(self._rows), bool)):
            yield from ((start, count) for _, start, count, written in extents if not written)

    def behind_ends(self) -> Iterator[tuple[int, int]]:
        """Byte ranges of the disk that lie behind a file's end in its last block."""
        size = _field(self._rows, 4, "<u4") | _field(self._rows, 108, "<u4") << 32
        kind = 0o170000 & _field(self._rows, 0, "<u2")
        inside = size % self._block
        wanted = (kind == stat.S_IFREG) & (inside > 0) & (self._flags & _MORE_THAN_ITS_SIZE == 0)
        last = (size - 1) // self._block
        for slot in range(_IN_INODE):
            logical, length, start = self._extent(slot)
            covers = (logical <= last) & (last < logical + length) & (length <= _WRITTEN)
            chosen = wanted & (self._depth == 0) & (self._entries > slot) & covers
            place = (start + last - logical)[chosen] * self._block
            yield from zip((place + inside[chosen]).tolist(), (place + self._block).tolist(), strict=True)
        for row, extents in self._deep(wanted):
            for first, block, count, written in extents:
                if written and first <= last[row] < first + count:
                    begin = (block + int(last[row]) - first) * self._block
                    yield begin + int(inside[row]), begin + self._block


def _field(rows: npt.NDArray[np.uint8], at: int, kind: str) -> Words:
    width = np.dtype(kind).itemsize
    return np.ascontiguousarray(rows[:, at : at + width]).view(kind).reshape(-1).astype(np.int64)
