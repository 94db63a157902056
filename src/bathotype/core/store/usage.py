"""How many stored bytes somebody alone needs, and how many are needed by others as well."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from bathotype.core.store.manifest import Manifest

#: Rows of manifests that are held in memory at once: some 500 MB.
AT_ONCE = 20_000_000
_ROW = np.dtype([("digest", "<u8"), ("holder", "<i4"), ("length", "<i4")])

Rows = npt.NDArray[np.void]


@dataclass(frozen=True)
class Usage:
    """Compressed bytes in a store: those of chunks that one holder alone needs, and those that others need as well."""

    alone: int = 0
    shared: int = 0

    def __add__(self, other: Usage) -> Usage:
        return Usage(self.alone + other.alone, self.shared + other.shared)


@dataclass(frozen=True)
class Measured:
    """Usage by holder, the same by group of holders, and all bytes, each distinct chunk once."""

    holders: Mapping[str, Usage]
    groups: Mapping[str, Usage]
    total: int


def measure(
    manifests: Callable[[], Iterable[tuple[str, Manifest]]], group_of: Mapping[str, str], *, rows: int
) -> Measured:
    """Measure what holders need of a store.

    ``manifests`` gives, each time it is called, the holder and the manifest of everything in the store; ``group_of``
    gives each holder's group.  With more than `AT_ONCE` ``rows`` it is called several times, for a part of all chunks
    each, so that memory stays bounded.  Chunks are distinguished by 64 bits of their digests: of 100 million, two are
    mistaken for each other with a probability of 1 in 3,700, which moves a figure by one chunk."""
    names = sorted(group_of)
    groups = sorted(set(group_of.values()))
    place = {name: number for number, name in enumerate(names)}
    of_group = np.array([groups.index(group_of[name]) for name in names], np.int32)
    parts = min(256, 1 + rows // AT_ONCE)
    by_holder, by_group, total = [Usage()] * len(names), [Usage()] * len(groups), 0
    for part in range(parts):
        found = _distinct(_rows(manifests, place, part, parts))
        by_holder = _added(by_holder, found)
        found["holder"] = of_group[found["holder"]]
        found = _distinct(iter([found]))
        by_group = _added(by_group, found)
        total += int(found["length"][np.unique(found["digest"], return_index=True)[1]].sum())
    return Measured(dict(zip(names, by_holder, strict=True)), dict(zip(groups, by_group, strict=True)), total)


def _rows(
    manifests: Callable[[], Iterable[tuple[str, Manifest]]], place: Mapping[str, int], part: int, parts: int
) -> Iterator[Rows]:
    for holder, manifest in manifests():
        chosen = (manifest.digests[:, 31].astype(np.int32) * parts >> 8) == part
        rows = np.zeros(int(chosen.sum()), _ROW)
        rows["digest"] = np.ascontiguousarray(manifest.digests[chosen, :8]).view("<u8").reshape(-1)
        rows["length"], rows["holder"] = manifest.length[chosen], place[holder]
        yield rows


def _distinct(parts: Iterable[Rows]) -> Rows:
    """Each chunk once for each holder.  Manifests of one holder are alike, so they are folded as they come."""
    found = np.zeros(0, _ROW)
    for rows in parts:
        both = np.concatenate([found, rows])
        _, first = np.unique(both[["digest", "holder"]], return_index=True)
        found = both[first]
    return found


def _added(usages: list[Usage], rows: Rows) -> list[Usage]:
    _, which, needed = np.unique(rows["digest"], return_inverse=True, return_counts=True)
    alone = needed[which] == 1
    length, count = rows["length"].astype(np.float64), len(usages)
    own = np.bincount(rows["holder"][alone], length[alone], count)
    more = np.bincount(rows["holder"][~alone], length[~alone], count)
    return [usage + Usage(int(a), int(b)) for usage, a, b in zip(usages, own, more, strict=True)]
