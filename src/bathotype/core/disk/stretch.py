"""Where a volume lies on its disk: in one piece as a partition does, or in several as a logical volume may."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from itertools import accumulate

from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource, FileSource, Window, check_read


@dataclass(frozen=True)
class Stretch:
    """Pieces of a disk, ``(first byte, length)`` each, that follow one another within the volume."""

    pieces: tuple[tuple[int, int], ...]

    @classmethod
    def of(cls, start: int, length: int) -> Stretch:
        """One piece."""
        return cls(((start, length),))

    @cached_property
    def length(self) -> int:
        """Bytes of the volume."""
        return sum(length for _, length in self.pieces)

    @cached_property
    def _begins(self) -> list[int]:
        return list(accumulate((length for _, length in self.pieces[:-1]), initial=0))

    def within(self, base: BlockSource) -> BlockSource:
        """The volume's own bytes, from 0 on."""
        if len(self.pieces) == 1:
            return Window(base, *self.pieces[0])
        return Joined(base, self)

    def parts(self, offset: int, length: int) -> Iterator[tuple[int, int]]:
        """``(byte of the disk, length)`` of a part of the volume."""
        check_read(self.length, offset, length)
        number = bisect_right(self._begins, offset) - 1
        while length:
            inside = offset - self._begins[number]
            size = min(length, self.pieces[number][1] - inside)
            yield self.pieces[number][0] + inside, size
            offset, length, number = offset + size, length - size, number + 1

    def on_disk(self, ranges: Ranges) -> Ranges:
        """Where ranges of the volume are on the disk."""
        if len(self.pieces) == 1:
            return ranges.shift(self.pieces[0][0])
        return Ranges.of(
            (at + start - begin, at + end - begin)
            for begin, (at, length) in zip(self._begins, self.pieces, strict=True)
            for start, end in ranges.within(begin, begin + length)
        )

    def write(self, image: FileSource, offset: int, data: bytes) -> None:
        """Write into the volume."""
        done = 0
        for at, size in self.parts(offset, len(data)):
            image.write(at, data[done : done + size])
            done += size


@dataclass(frozen=True)
class Joined:
    """The bytes of a volume that lies in several pieces."""

    base: BlockSource
    stretch: Stretch

    @property
    def size(self) -> int:
        return self.stretch.length

    def read(self, offset: int, length: int) -> bytes:
        return b"".join(self.base.read(at, size) for at, size in self.stretch.parts(offset, length))

    def allocated(self) -> Ranges:
        begin, found = 0, []
        for at, length in self.stretch.pieces:
            found += [(begin + a - at, begin + b - at) for a, b in self.base.allocated().within(at, at + length)]
            begin += length
        return Ranges.of(found)
