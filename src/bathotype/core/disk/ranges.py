"""Sets of byte ranges, kept as two NumPy arrays so that a fragmented terabyte disk stays cheap."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

Offsets = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Ranges:
    """A sorted set of disjoint, non-touching half-open ranges ``[start, end)`` in bytes."""

    starts: Offsets
    ends: Offsets

    @classmethod
    def of(cls, pairs: Iterable[tuple[int, int]]) -> Ranges:
        """The union of any ``(start, end)`` pairs; empty ones are dropped."""
        table = np.array([p for p in pairs if p[1] > p[0]], dtype=np.int64).reshape(-1, 2)
        return cls._merged(table[:, 0], table[:, 1])

    @classmethod
    def of_arrays(cls, starts: Offsets, ends: Offsets) -> Ranges:
        """The union of ranges given as two arrays."""
        keep = ends > starts
        return cls._merged(starts[keep].astype(np.int64), ends[keep].astype(np.int64))

    @classmethod
    def _merged(cls, starts: Offsets, ends: Offsets) -> Ranges:
        if not len(starts):
            return cls(np.empty(0, np.int64), np.empty(0, np.int64))
        if bool((starts[1:] > ends[:-1]).all()):  # they are in order and apart, as most are
            return cls(starts, ends)
        order = np.argsort(starts, kind="stable")
        starts, reach = starts[order], np.maximum.accumulate(ends[order])
        fresh = np.ones(len(starts), bool)
        fresh[1:] = starts[1:] > reach[:-1]
        last = np.append(np.flatnonzero(fresh)[1:] - 1, len(starts) - 1)
        return cls(starts[fresh], reach[last])

    @property
    def total(self) -> int:
        """Bytes covered."""
        return int((self.ends - self.starts).sum())

    def __iter__(self) -> Iterator[tuple[int, int]]:
        return iter(zip(self.starts.tolist(), self.ends.tolist(), strict=True))

    def __len__(self) -> int:
        return len(self.starts)

    def joined(self, gap: int) -> Ranges:
        """The same with everything that lies between two ranges less than ``gap`` bytes apart."""
        if not len(self.starts):
            return self
        fresh = np.append(np.True_, self.starts[1:] - self.ends[:-1] >= gap)
        return Ranges(self.starts[fresh], self.ends[np.append(np.flatnonzero(fresh)[1:] - 1, len(self.ends) - 1)])

    def shift(self, offset: int) -> Ranges:
        """The same ranges, moved by ``offset`` bytes."""
        return Ranges(self.starts + offset, self.ends + offset)

    def union(self, *others: Ranges) -> Ranges:
        """What is in any of them."""
        every = (self, *others)
        return Ranges._merged(np.concatenate([r.starts for r in every]), np.concatenate([r.ends for r in every]))

    def complement(self, size: int) -> Ranges:
        """What of ``[0, size)`` is not covered."""
        starts, ends = np.empty(len(self) + 1, np.int64), np.empty(len(self) + 1, np.int64)
        starts[0], ends[-1] = 0, size
        np.minimum(self.ends, size, out=starts[1:])
        np.minimum(self.starts, size, out=ends[:-1])
        keep = ends > starts  # what lies between ranges that do not touch is in order and does not touch either
        return Ranges(starts[keep], ends[keep])

    def minus(self, other: Ranges, size: int) -> Ranges:
        """What is in this set and not in ``other``; both lie in ``[0, size)``."""
        return self.complement(size).union(other).complement(size)

    def intersect(self, other: Ranges, size: int) -> Ranges:
        """What is in both; both lie in ``[0, size)``."""
        return self.complement(size).union(other.complement(size)).complement(size)

    def within(self, start: int, end: int) -> list[tuple[int, int]]:
        """The parts that lie in ``[start, end)``, in order."""
        first, last = int(self.ends.searchsorted(start, "right")), int(self.starts.searchsorted(end, "left"))
        if first >= last:
            return []
        starts, ends = self.starts[first:last].tolist(), self.ends[first:last].tolist()
        starts[0], ends[-1] = max(starts[0], start), min(ends[-1], end)
        return list(zip(starts, ends, strict=True))

    def windows(self, width: int) -> Offsets:
        """Indices of the aligned windows of ``width`` bytes that any range touches, ascending."""
        if not len(self.starts):
            return np.empty(0, np.int64)
        touched = Ranges.of_arrays(self.starts // width, (self.ends - 1) // width + 1)
        counts = touched.ends - touched.starts
        offsets = np.repeat(touched.starts - np.concatenate(([0], np.cumsum(counts)[:-1])), counts)
        return (np.arange(counts.sum(), dtype=np.int64) + offsets).astype(np.int64)
