"""Image files as a function of their offset: what is written is laid out first, then any part can be made.

Because a layout is fixed before the first byte is made, a file can be written in any order, streamed, resumed
at any offset, and is the same to the byte each time.
"""

from __future__ import annotations

import bisect
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from typing import Protocol, TypeVar

import numpy as np
import numpy.typing as npt

from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Damaged

Indices = npt.NDArray[np.int64]
Progress = Callable[[int, int], None]
T = TypeVar("T")
R = TypeVar("R")

#: The unit that is present or not in what we write: a chunk of the store, a cluster of qcow2, a grain of VMDK.
UNIT = 64 * 1024
_PIECE = 1024 * 1024
_IN_FLIGHT = 6


class Segment(Protocol):
    """One stretch of an image file."""

    @property
    def length(self) -> int:
        """Bytes in the file."""
        ...

    def read(self, at: int, length: int) -> bytes:
        """Bytes from ``at`` within the segment; the caller stays inside."""
        ...


@dataclass(frozen=True)
class Plain:
    """Bytes that are known: headers and tables."""

    data: bytes

    @property
    def length(self) -> int:
        return len(self.data)

    def read(self, at: int, length: int) -> bytes:
        return self.data[at : at + length]


@dataclass(frozen=True)
class Whole:
    """A disk as it is."""

    disk: BlockSource

    @property
    def length(self) -> int:
        return self.disk.size

    def read(self, at: int, length: int) -> bytes:
        return self.disk.read(at, length)


@dataclass(frozen=True)
class Blocks:
    """Blocks of a disk one after another, each behind the same ``prefix``; the last one is filled up with zeros."""

    disk: BlockSource
    index: Indices
    size: int
    prefix: bytes = b""

    @property
    def length(self) -> int:
        return len(self.index) * self._stride

    @property
    def _stride(self) -> int:
        return self.size + len(self.prefix)

    def read(self, at: int, length: int) -> bytes:
        pieces, end = [], at + length
        while at < end:
            number, inside = divmod(at, self._stride)
            if inside < len(self.prefix):
                piece = self.prefix[inside : inside + end - at]
            else:
                first = number
                # Blocks that are neighbours on the disk, with nothing between them in the file, are read in one go.
                if not self.prefix:
                    wanted = -(-(end - first * self._stride) // self._stride)
                    run = self.index[first : first + wanted]
                    breaks = np.flatnonzero(np.diff(run) != 1)
                    count = int(breaks[0]) + 1 if len(breaks) else len(run)
                else:
                    count = 1
                inside -= len(self.prefix)
                most = min(count * self.size - inside, end - at)
                piece = read_padded(self.disk, int(self.index[first]) * self.size + inside, most)
            pieces.append(piece)
            at += len(piece)
        return pieces[0] if len(pieces) == 1 else b"".join(pieces)


@dataclass(frozen=True)
class Encoded:
    """Blocks of a disk, each encoded to a length of its own; ``places`` are their offsets in the segment.

    The encoder must give the same bytes each time; what it leaves up to the next place is zeros.
    """

    disk: BlockSource
    index: Indices
    size: int
    places: Indices
    length: int
    encode: Callable[[int, bytes | None], bytes]
    needs_data: bool = True

    def read(self, at: int, length: int) -> bytes:
        end = at + length
        out = bytearray(length)
        number = max(0, int(np.searchsorted(self.places, at, side="right")) - 1)
        while number < len(self.places) and int(self.places[number]) < end:
            start, block = int(self.places[number]), int(self.index[number])
            data = self.encode(block, read_padded(self.disk, block * self.size, self.size) if self.needs_data else None)
            first, last = max(start, at), min(start + len(data), end)
            if first < last:
                out[first - at : last - at] = data[first - start : last - start]
            number += 1
        return bytes(out)


class LaidOutFile:
    """An image file made of segments; a `BlockSource` that can be read anywhere, as often as one likes."""

    def __init__(self, segments: Sequence[Segment]) -> None:
        self._segments = [s for s in segments if s.length]
        self._starts: list[int] = []
        at = 0
        for segment in self._segments:
            self._starts.append(at)
            at += segment.length
        self._size = at

    @property
    def segments(self) -> list[Segment]:
        """Its parts, for a file around it."""
        return list(self._segments)

    @property
    def size(self) -> int:
        return self._size

    def read(self, offset: int, length: int) -> bytes:
        if offset < 0 or offset + length > self._size:
            raise Damaged(f"Read of {length} bytes at {offset} is beyond the file.")
        out, end = [], offset + length
        number = bisect.bisect_right(self._starts, offset) - 1
        while offset < end:
            segment, start = self._segments[number], self._starts[number]
            most = min(start + segment.length, end) - offset
            out.append(segment.read(offset - start, most))
            offset, number = offset + most, number + 1
        return out[0] if len(out) == 1 else b"".join(out)

    def allocated(self) -> Ranges:
        return Ranges.of([(0, self._size)])


def read_padded(disk: BlockSource, offset: int, length: int) -> bytes:
    """Bytes of a disk, filled up with zeros beyond its end."""
    inside = max(0, min(length, disk.size - offset))
    data = disk.read(offset, inside) if inside else b""
    return data if inside == length else data + bytes(length - inside)


def present(disk: BlockSource, size: int) -> Indices:
    """Numbers of the blocks of ``size`` bytes that may hold anything but zeros."""
    return disk.allocated().windows(size)


def measure(
    disk: BlockSource, index: Indices, size: int, encode: Callable[[int, bytes], bytes], progress: Progress
) -> Indices:
    """How long each block is when encoded: the first of the two passes that a compressed format needs."""

    def lengths(numbers: list[int]) -> list[int]:
        start = numbers[0] * size
        data = read_padded(disk, start, (numbers[-1] + 1) * size - start)
        return [len(encode(n, data[n * size - start : (n + 1) * size - start])) for n in numbers]

    out: list[int] = []
    for found in ahead(lengths, _runs(index.tolist(), max(1, _PIECE // size))):
        out += found
        progress(len(out) * size, len(index) * size)
    return np.array(out, np.int64)


def _runs(numbers: list[int], most: int) -> Iterator[list[int]]:
    run: list[int] = []
    for number in numbers:
        if run and (len(run) == most or number != run[-1] + 1):
            yield run
            run = []
        run.append(number)
    if run:
        yield run


def stream(file: BlockSource, start: int = 0, end: int | None = None) -> Iterator[bytes]:
    """The file's bytes in order, the next pieces being made while one is taken."""
    stop = file.size if end is None else end
    places = range(start, stop, _PIECE)
    return ahead(lambda at: file.read(at, min(_PIECE, stop - at)), iter(places))


def ahead(work: Callable[[T], R], items: Iterator[T], workers: int = 2) -> Iterator[R]:
    """Results in order, a few being worked out ahead."""
    with ThreadPoolExecutor(workers, thread_name_prefix="ahead") as pool:
        pending: deque[Future[R]] = deque()
        try:
            for item in items:
                pending.append(pool.submit(work, item))
                if len(pending) >= _IN_FLIGHT:
                    yield pending.popleft().result()
            while pending:
                yield pending.popleft().result()
        finally:
            for future in pending:
                future.cancel()
