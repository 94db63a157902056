"""Writing qcow2 version 3, plain or with zstd compressed clusters.

Follows QEMU's specification of the format (``docs/interop/qcow2.txt``).  Order in the file: header, refcount
table, refcount blocks, first table, second tables, clusters; clusters have 64 KiB, as chunks of the store do.
"""

from __future__ import annotations

import struct
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from bathotype.core.disk.source import BlockSource
from bathotype.core.formats.laidout import Blocks, Encoded, Indices, LaidOutFile, Plain, present
from bathotype.core.formats.packing import Packing

CLUSTER = 64 * 1024
_BITS = 16
_PER_TABLE = CLUSTER // 8
_PER_REFBLOCK = CLUSTER // 2
_COPIED, _COMPRESSED = 1 << 63, 1 << 62
_SIZE_SHIFT = 62 - (_BITS - 8)


@dataclass(frozen=True)
class _Generated:
    """Tables made when they are read; ``rows`` of ``width`` bytes each."""

    rows: int
    width: int
    make: Callable[[int], bytes]

    @property
    def length(self) -> int:
        return self.rows * self.width

    def read(self, at: int, length: int) -> bytes:
        first, last = at // self.width, (at + length - 1) // self.width
        data = b"".join(self.make(row) for row in range(first, last + 1))
        return data[at - first * self.width :][:length]


@dataclass(frozen=True)
class _Head:
    """The clusters before the data, and where each part lies."""

    l1_entries: int
    tables: Indices
    refblocks: int
    reftable: int

    @property
    def l1_clusters(self) -> int:
        return max(1, -(-self.l1_entries * 8 // CLUSTER))

    @property
    def clusters(self) -> int:
        return 1 + self.reftable + self.refblocks + self.l1_clusters + len(self.tables)

    @classmethod
    def fitting(cls, size: int, index: Indices, data_clusters: int) -> _Head:
        """Refcount blocks count themselves too: grow them until they cover everything."""
        tables = np.unique(index // _PER_TABLE)
        l1_entries = max(1, -(-size // (CLUSTER * _PER_TABLE)))
        refblocks = reftable = 1
        while True:
            head = cls(l1_entries, tables, refblocks, reftable)
            need = -(-(head.clusters + data_clusters) // _PER_REFBLOCK)
            need_table = -(-need * 8 // CLUSTER)
            if (need, need_table) == (refblocks, reftable):
                return head
            refblocks, reftable = need, need_table


def qcow2_layout(disk: BlockSource) -> LaidOutFile:
    """A plain qcow2 file of a disk."""
    index = present(disk, CLUSTER)
    head = _Head.fitting(disk.size, index, len(index))
    first = head.clusters * CLUSTER
    entries = np.uint64(_COPIED) | (np.uint64(first) + np.arange(len(index), dtype=np.uint64) * np.uint64(CLUSTER))
    total = head.clusters + len(index)
    return LaidOutFile(
        [
            *_head_segments(disk.size, head, index, entries, np.ones(total, np.uint16), compressed=False),
            Blocks(disk, index, CLUSTER),
        ]
    )


def qcow2_compressed_layout(disk: BlockSource, packing: Packing) -> LaidOutFile:
    """A qcow2 file whose clusters are zstd frames; ``packing`` knows their lengths."""
    index, lengths = packing.index, packing.lengths
    starts = np.concatenate(([0], np.cumsum(lengths)))[: len(index)].astype(np.int64)
    used = int(lengths.sum())
    data_clusters = -(-used // CLUSTER)
    head = _Head.fitting(disk.size, index, data_clusters)
    first = head.clusters * CLUSTER
    places = starts + first
    ends = -(-(places + lengths) // 512) * 512
    sectors = (ends - 1) // 512 - places // 512
    entries = np.uint64(_COMPRESSED) | (sectors.astype(np.uint64) << np.uint64(_SIZE_SHIFT)) | places.astype(np.uint64)
    counts = np.zeros(head.clusters + data_clusters, np.uint16)
    counts[: head.clusters] = 1
    # A host cluster is counted once for every compressed cluster that lies, to the sector, in it.
    low, high = places // CLUSTER, (ends - 1) // CLUSTER
    np.add.at(counts, low, 1)
    np.add.at(counts, high[high != low], 1)
    # What cannot be compressed is a little longer than a cluster, and may lie in three.
    np.add.at(counts, low[high - low == 2] + 1, 1)
    body = Encoded(disk, index, CLUSTER, starts, data_clusters * CLUSTER, packing.encode, packing.needs_data)
    return LaidOutFile([*_head_segments(disk.size, head, index, entries, counts, compressed=True), body])


def _head_segments(
    size: int,
    head: _Head,
    index: Indices,
    entries: npt.NDArray[np.uint64],
    counts: npt.NDArray[np.uint16],
    *,
    compressed: bool,
) -> list[Plain | _Generated]:
    reftable_at = CLUSTER
    refblocks_at = reftable_at + head.reftable * CLUSTER
    l1_at = refblocks_at + head.refblocks * CLUSTER
    l2_at = l1_at + head.l1_clusters * CLUSTER
    header = struct.pack(
        ">4sIQIIQIIQQIIQ",
        b"QFI\xfb", 3, 0, 0, _BITS, size, 0, head.l1_entries, l1_at, reftable_at, head.reftable, 0, 0,
    )  # fmt: skip
    header += struct.pack(">QQQII", 8 if compressed else 0, 0, 0, 4, 112) + bytes([1 if compressed else 0]) + bytes(7)
    reftable = np.zeros(head.reftable * CLUSTER // 8, ">u8")
    reftable[: head.refblocks] = refblocks_at + np.arange(head.refblocks) * CLUSTER
    l1 = np.zeros(head.l1_clusters * CLUSTER // 8, ">u8")
    l1[head.tables] = (l2_at + np.arange(len(head.tables)) * CLUSTER).astype(np.uint64) | np.uint64(_COPIED)

    def refblock(number: int) -> bytes:
        block = np.zeros(_PER_REFBLOCK, ">u2")
        part = counts[number * _PER_REFBLOCK : (number + 1) * _PER_REFBLOCK]
        block[: len(part)] = part
        return block.tobytes()

    def table(number: int) -> bytes:
        low = int(head.tables[number]) * _PER_TABLE
        start, end = np.searchsorted(index, [low, low + _PER_TABLE])
        block = np.zeros(_PER_TABLE, ">u8")
        block[index[start:end] - low] = entries[start:end]
        return block.tobytes()

    return [
        Plain(header.ljust(CLUSTER, b"\0")),
        Plain(reftable.tobytes()),
        _Generated(head.refblocks, CLUSTER, refblock),
        Plain(l1.tobytes()),
        _Generated(len(head.tables), CLUSTER, table),
    ]
