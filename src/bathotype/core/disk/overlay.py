"""A view of a disk in which some blocks are read from other places, and some bytes are given."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from bathotype.core.disk.ranges import Offsets, Ranges
from bathotype.core.disk.source import BlockSource, check_read, read_into


@dataclass(frozen=True)
class Overlay:
    """``targets`` are blocks, ascending, that are read from the blocks ``places``; the first bytes of those in ``escaped``
    are ``magic``.  ``pieces`` are bytes by their offset, over everything.  Memory is a few bytes a block."""

    base: BlockSource
    block: int
    targets: Offsets
    places: Offsets
    escaped: frozenset[int] = frozenset()
    magic: bytes = b""
    pieces: Mapping[int, bytes] = field(default_factory=dict)

    @property
    def size(self) -> int:
        return self.base.size

    def with_pieces(self, pieces: Mapping[int, bytes]) -> Overlay:
        """The same with more bytes given."""
        return replace(self, pieces={**self.pieces, **pieces})

    def read(self, offset: int, length: int) -> bytes:
        out = bytearray(length)
        self.read_into(offset, memoryview(out))
        return bytes(out)

    def read_into(self, offset: int, view: memoryview) -> None:
        """Fill ``view`` from ``offset``."""
        length = len(view)
        check_read(self.size, offset, length)
        read_into(self.base, offset, view)
        first = int(np.searchsorted(self.targets, offset // self.block))
        last = int(np.searchsorted(self.targets, (offset + length - 1) // self.block, side="right"))
        for number in range(first, last):
            target, place = int(self.targets[number]), int(self.places[number])
            data = self.base.read(place * self.block, self.block)
            if target in self.escaped:
                data = self.magic + data[len(self.magic) :]
            _lay(view, offset, target * self.block, data)
        for at, data in self.pieces.items():
            _lay(view, offset, at, data)

    def changes(self) -> Iterator[tuple[int, bytes]]:
        """``(offset, bytes)`` of all that is not as in the base, to be written to it in this order."""
        for target in self.targets.tolist():
            yield target * self.block, self.read(target * self.block, self.block)
        yield from self.pieces.items()

    def allocated(self) -> Ranges:
        moved = Ranges.of_arrays(self.targets * self.block, (self.targets + 1) * self.block)
        given = Ranges.of((at, at + len(data)) for at, data in self.pieces.items())
        return self.base.allocated().union(moved, given)


def _lay(view: memoryview, offset: int, at: int, data: bytes) -> None:
    """Put bytes that belong at ``at`` into a view of what begins at ``offset``, as far as they reach into it."""
    start, end = max(at, offset), min(at + len(data), offset + len(view))
    if start < end:
        view[start - offset : end - offset] = data[start - at : end - at]


@dataclass(frozen=True)
class Spliced:
    """A disk in which one stretch is read through another source, such as a partition whose journal was replayed."""

    base: BlockSource
    start: int
    inner: BlockSource

    @property
    def size(self) -> int:
        return self.base.size

    @property
    def disks(self) -> tuple[int, ...]:
        """The sizes of the disks, where there are several (`core.disk.several`)."""
        return getattr(self.base, "disks", ())

    def read(self, offset: int, length: int) -> bytes:
        out = bytearray(length)
        self.read_into(offset, memoryview(out))
        return bytes(out)

    def read_into(self, offset: int, view: memoryview) -> None:
        """Fill ``view`` from ``offset``."""
        length, begin, end = len(view), self.start, self.start + self.inner.size
        check_read(self.size, offset, length)
        if offset < begin:
            read_into(self.base, offset, view[: max(0, begin - offset)])
        if offset + length > end:
            after = max(offset, end)
            read_into(self.base, after, view[after - offset :])
        inside, until = max(offset, begin), min(offset + length, end)
        if inside < until:
            read_into(self.inner, inside - begin, view[inside - offset : until - offset])

    def allocated(self) -> Ranges:
        begin, end = self.start, self.start + self.inner.size
        around = Ranges.of([*self.base.allocated().within(0, begin), *self.base.allocated().within(end, self.size)])
        return around.union(self.inner.allocated().shift(begin))
