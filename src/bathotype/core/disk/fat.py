"""Reading FAT12, FAT16 and FAT32: which clusters are in use, and every file, without mounting.

Follows Microsoft's "FAT: General Overview of On-Disk Format" (version 1.03), with VFAT long names.  Chains are
bounded by the number of clusters, so that a damaged file system gives `Damaged` and never an endless loop.
"""

from __future__ import annotations

import calendar
import stat
import struct
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Damaged

_MOST_TABLE = 64 * 1024 * 1024
_MOST_FOLDER = 16 * 1024 * 1024
_LONG_NAME, _VOLUME, _DIRECTORY = 0x0F, 0x08, 0x10
FREE_MARK, END_MARK = 0xE5, 0x00


@dataclass(frozen=True)
class FatFile:
    """A file or folder: ``cluster`` is where it begins, ``slots`` are its entries' byte offsets in the volume."""

    is_dir: bool
    size: int
    mtime: int
    cluster: int
    slots: tuple[int, ...] = ()
    uid: int = 0
    gid: int = 0

    @property
    def is_file(self) -> bool:
        return not self.is_dir

    @property
    def is_link(self) -> bool:
        return False

    @property
    def mode(self) -> int:
        return (stat.S_IFDIR | 0o755) if self.is_dir else (stat.S_IFREG | 0o644)


class Fat:
    """A read-only view of a FAT file system.  Raises `Damaged` where there is none that we can read."""

    def __init__(self, source: BlockSource) -> None:
        self.source = source
        if source.size < 512:
            raise Damaged("No FAT file system: too small.")
        boot = source.read(0, 512)
        self.sector, per_cluster, reserved, self.copies, root_entries, small, _, fat16 = struct.unpack_from(
            "<HBHBHHBH", boot, 11
        )
        large, fat32 = struct.unpack_from("<I", boot, 32)[0], struct.unpack_from("<I", boot, 36)[0]
        sectors, table = small or large, fat16 or fat32
        sane = (
            self.sector in (512, 1024, 2048, 4096)
            and per_cluster in (1, 2, 4, 8, 16, 32, 64, 128)
            and reserved > 0
            and 1 <= self.copies <= 8
            and table > 0
            and sectors * self.sector <= source.size
            and table * self.sector <= _MOST_TABLE
        )
        if not sane:
            raise Damaged("The FAT boot sector contradicts itself or the size of its partition.")
        self.cluster_size = per_cluster * self.sector
        self.tables_at, self.table_size = reserved * self.sector, table * self.sector
        self.root_at = self.tables_at + self.copies * self.table_size
        self.root_size = -(-root_entries * 32 // self.sector) * self.sector
        self.data_at = self.root_at + self.root_size
        self.end = sectors * self.sector
        self.clusters = (self.end - self.data_at) // self.cluster_size
        # As Linux and fsck.fat decide: a FAT32 says so by having no size in the older field, however small it is.
        self.width = 32 if not fat16 else 12 if self.clusters < 4085 else 16
        entries = self.table_size * 8 // self.width
        self.clusters = min(self.clusters, entries - 2)
        if self.clusters < 1:
            raise Damaged("The FAT file system has no clusters.")
        #: Bytes up to the end of the last cluster; what lies behind belongs to no file.
        self.clusters_end = self.data_at + self.clusters * self.cluster_size
        self.root_cluster = struct.unpack_from("<I", boot, 44)[0] if self.width == 32 else 0
        at = 67 if self.width == 32 else 39
        serial = struct.unpack_from("<I", boot, at)[0]
        self.uuid = f"{serial >> 16:04X}-{serial & 0xFFFF:04X}"
        self.label = boot[at + 4 : at + 15].decode("ascii", "replace").rstrip()
        self.table = self._table()

    def _table(self) -> npt.NDArray[np.uint32]:
        raw = np.frombuffer(self.source.read(self.tables_at, self.table_size), np.uint8)
        count = self.clusters + 2
        if self.width == 32:
            table = raw[: len(raw) // 4 * 4].view("<u4") & 0x0FFFFFFF
        elif self.width == 16:
            table = raw[: len(raw) // 2 * 2].view("<u2").astype(np.uint32)
        else:
            triples = np.append(raw, np.zeros(-len(raw) % 3, np.uint8)).reshape(-1, 3).astype(np.uint32)
            pairs = np.stack([triples[:, 0] | (triples[:, 1] & 15) << 8, triples[:, 1] >> 4 | triples[:, 2] << 4], 1)
            table = pairs.reshape(-1)
        if len(table) < count:
            raise Damaged("The FAT is shorter than its file system.")
        return table[:count].astype(np.uint32)

    def used(self) -> Ranges:
        """Byte ranges that hold files or metadata."""
        taken = self.table[2:] != 0
        edges = np.flatnonzero(np.diff(np.concatenate(([0], taken.view(np.int8), [0])))).astype(np.int64)
        starts, ends = edges[0::2] * self.cluster_size, edges[1::2] * self.cluster_size
        clusters = Ranges.of_arrays(starts, ends).shift(self.data_at)
        return clusters.union(Ranges.of([(0, self.data_at)]))

    def chain(self, cluster: int) -> list[int]:
        """The clusters of a file, in order."""
        found: list[int] = []
        last = {12: 0xFF8, 16: 0xFFF8, 32: 0x0FFFFFF8}[self.width]
        while cluster < last:
            if not 2 <= cluster < len(self.table) or len(found) > self.clusters:
                raise Damaged("A cluster chain of the FAT file system is broken.")
            found.append(cluster)
            cluster = int(self.table[cluster])
        return found

    def place(self, cluster: int) -> int:
        """Byte offset of a cluster in the volume."""
        return int(self.data_at + (cluster - 2) * self.cluster_size)

    def read(self, file: FatFile, *, most: int | None = None) -> bytes:
        """A file's bytes, at most the first ``most``."""
        length = file.size if most is None else min(file.size, most)
        if not length:
            return b""
        clusters = self.chain(file.cluster)[: -(-length // self.cluster_size)]
        if len(clusters) * self.cluster_size < length:
            raise Damaged("A file of the FAT file system is longer than its clusters.")
        return b"".join(self.source.read(self.place(c), self.cluster_size) for c in clusters)[:length]

    def folder_pieces(self, folder: FatFile | None) -> list[tuple[int, int]]:
        """``(offset, length)`` of a folder's entries in the volume; None is the root."""
        if folder is None and self.width != 32:
            return [(self.root_at, self.root_size)]
        first = self.root_cluster if folder is None else folder.cluster
        clusters = self.chain(first)
        if len(clusters) * self.cluster_size > _MOST_FOLDER:
            raise Damaged("A folder of the FAT file system is impossibly large.")
        return [(self.place(c), self.cluster_size) for c in clusters]

    def entries(self, folder: FatFile | None) -> Iterator[tuple[str, FatFile]]:
        """``(name, file)`` of a folder."""
        long: list[tuple[int, str]] = []
        slots: list[int] = []
        for at, length in self.folder_pieces(folder):
            data = self.source.read(at, length)
            for offset in range(0, length, 32):
                raw = data[offset : offset + 32]
                if raw[0] == END_MARK:
                    return
                slots.append(at + offset)
                if raw[0] == FREE_MARK:
                    long, slots = [], []
                elif raw[11] & 0x3F == _LONG_NAME:
                    part = (raw[1:11] + raw[14:26] + raw[28:32]).decode("utf-16-le", "replace")
                    long.append((raw[0] & 0x1F, part.split("\0")[0]))
                else:
                    if not raw[11] & _VOLUME and raw[:2] not in (b". ", b".."):
                        name = "".join(part for _, part in sorted(long)) or _short_name(raw)
                        yield name.replace("/", "?"), _file(raw, tuple(slots))
                    long, slots = [], []

    def walk(self) -> Iterator[tuple[str, FatFile]]:
        """``(absolute path, file)`` of everything, parents before children."""
        yield "/", FatFile(True, 0, 0, self.root_cluster)
        pending: list[tuple[str, FatFile | None]] = [("", None)]
        seen: set[int] = set()
        while pending:
            prefix, folder = pending.pop()
            for name, file in self.entries(folder):
                path = f"{prefix}/{name}"
                yield path, file
                if file.is_dir and file.cluster not in seen:
                    seen.add(file.cluster)
                    pending.append((path, file))


def _file(raw: bytes, slots: tuple[int, ...]) -> FatFile:
    high, time, date, low, size = struct.unpack_from("<HHHHI", raw, 20)
    day, month, year = date & 31, date >> 5 & 15, 1980 + (date >> 9)
    # A month of 13 is on disks that were made by others; the file counts, not its date.
    days = calendar.monthrange(year, min(max(1, month), 12))[1]
    moment = (year, min(max(1, month), 12), min(max(1, day), days), time >> 11, time >> 5 & 63, (time & 31) * 2)
    mtime = calendar.timegm(moment)
    is_dir = bool(raw[11] & _DIRECTORY)
    return FatFile(is_dir, 0 if is_dir else size, mtime, high << 16 | low, slots)


def _short_name(raw: bytes) -> str:
    base = (b"\xe5" + raw[1:8] if raw[0] == 5 else raw[:8]).decode("cp437").rstrip()
    extension = raw[8:11].decode("cp437").rstrip()
    lower_base, lower_extension = raw[12] & 8, raw[12] & 16
    name = base.lower() if lower_base else base
    return f"{name}.{extension.lower() if lower_extension else extension}" if extension else name
