"""Which blocks of an XFS file system are in use: all but those in its trees of free space.

Follows the on-disk format in the kernel's "XFS Algorithms & Data Structures", third edition; versions 4 and 5.  Numbers are
big-endian, but for checksums and what the log holds.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from uuid import UUID

import numpy as np
from crc32c import crc32c

from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Damaged

_SECTOR = 512
_BY_BLOCK = {b"ABTB": 16, b"AB3B": 56}
#: Incompatible features that leave the trees of free space as they are: file types, sparse inodes, metadata's own UUID, large
#: times, a repair that is due, large counters, exchanged contents, parent pointers.
_KNOWN_INCOMPAT = 0x1 | 0x2 | 0x4 | 0x8 | 0x10 | 0x20 | 0x40 | 0x80
_NEEDS_REPAIR = 0x10
_MOST_LEVELS = 9
_MOST_LOG = 4 * 1024**3

_LOG_MAGIC = 0xFEEDBABE
_LOG_HEAD, _OPERATION = 512, 12
_UNMOUNT, _CONTINUES = 0x20, 0x04 | 0x08
_BUFFER_ITEM, _TRANSACTION = 0x123C, 0x5452414E


class Xfs:
    """A view of an XFS file system.  Raises `Damaged` when there is none, or one that is not understood."""

    def __init__(self, source: BlockSource) -> None:
        self.source = source
        if source.size < 4096:
            raise Damaged("No XFS file system: too small.")
        head = source.read(0, 512)
        magic, self.block_size, self.block_count = struct.unpack_from(">4sIQ", head, 0)
        if magic != b"XFSB":
            raise Damaged("No XFS file system: the superblock's magic is missing.")
        self._log_start = struct.unpack_from(">Q", head, 48)[0]
        self.group_blocks, self.group_count = struct.unpack_from(">II", head, 84)
        self._log_blocks, version, self.sector = struct.unpack_from(">IHH", head, 96)
        self.version = version & 0xF
        self._group_log = head[124]
        self.uuid = str(UUID(bytes=head[32:48]))
        self.label = head[108:120].split(b"\0")[0].decode("utf-8", "replace")
        self._check(head)
        self.end = self.block_count * self.block_size

    def _check(self, head: bytes) -> None:
        sane = (
            self.version in (4, 5)
            and self.block_size in (512, 1024, 2048, 4096, 8192, 16384, 32768, 65536)
            and self.sector in (512, 1024, 2048, 4096, 8192, 16384, 32768)
            and 0 < self.block_count * self.block_size <= self.source.size
            and 0 < self.group_blocks < 1 << 31
            and self.group_count > 0
            and (self.group_count - 1) * self.group_blocks < self.block_count <= self.group_count * self.group_blocks
            and self._group_log < 32
        )
        if not sane:
            raise Damaged("The XFS superblock contradicts itself or the size of its partition.")
        if self.version == 5:
            incompatible = struct.unpack_from(">I", head, 216)[0]
            if incompatible & ~_KNOWN_INCOMPAT or incompatible & _NEEDS_REPAIR:
                raise Damaged(f"The XFS file system has features that are not known here ({incompatible:#x}).")
            summed(self.source.read(0, self.sector), 224, "superblock")

    def block_number(self, block: int, count: int) -> int:
        """The number from the beginning of the file system of a block, and of those behind it, that is named by its
        group and its number there.  Raises `Damaged` where they are not in one group."""
        group, inside = block >> self._group_log, block & ((1 << self._group_log) - 1)
        first = group * self.group_blocks + inside
        if group >= self.group_count or inside + count > self.group_blocks or first + count > self.block_count:
            raise Damaged("The XFS file system names blocks that are outside of it.")
        return int(first)

    def place_of(self, block: int) -> int:
        """The byte at which such a block lies."""
        return self.block_number(block, 1) * int(self.block_size)

    # Blocks in use

    def used(self) -> Ranges:
        """Byte ranges that hold files or metadata.  What was given to files and never written is among them.

        Raises `Damaged` where the log waits to be replayed, or a structure is broken.
        """
        if not self.is_settled():
            raise Damaged("Its log waits to be replayed.")
        free = [piece for group in range(self.group_count) for piece in self._free_in(group)]
        starts = np.array([start for start, _ in free], np.int64) * self.block_size
        lengths = np.array([count for _, count in free], np.int64) * self.block_size
        return Ranges.of([(0, self.end)]).minus(Ranges.of_arrays(starts, starts + lengths), self.source.size)

    def _free_in(self, group: int) -> Iterator[tuple[int, int]]:
        """``(first block, count)`` of a group's free blocks."""
        at = group * self.group_blocks * self.block_size
        head = self.source.read(at + self.sector, self.sector)
        magic, version, number, length = struct.unpack_from(">4sIII", head, 0)
        here = min(self.group_blocks, self.block_count - group * self.group_blocks)
        if magic != b"XAGF" or version != 1 or number != group or length != here:
            raise Damaged(f"Allocation group {group} of the XFS file system is broken.")
        if self.version == 5:
            summed(head, 216, f"allocation group {group}")
        root, level = struct.unpack_from(">I", head, 16)[0], struct.unpack_from(">I", head, 28)[0]
        expected = struct.unpack_from(">I", head, 52)[0]
        found, last = 0, 0
        for start, count in self._tree(group, root, level - 1, set()):
            if start < last or not count or start + count > here:
                raise Damaged(f"The free space of allocation group {group} of the XFS file system is broken.")
            last, found = start + count, found + count
            yield group * self.group_blocks + start, count
        if found != expected:
            raise Damaged(
                f"Allocation group {group} of the XFS file system has another number of free blocks than it says."
            )

    def _tree(self, group: int, block: int, level: int, seen: set[int]) -> Iterator[tuple[int, int]]:
        """The free runs below a block of the tree that is ordered by place."""
        if not 0 <= level < _MOST_LEVELS or block in seen or not 0 < block < self.group_blocks:
            raise Damaged("A tree of free space of the XFS file system is broken.")
        seen.add(block)
        at = (group * self.group_blocks + block) * self.block_size
        data = self.source.read(at, self.block_size)
        head = _BY_BLOCK.get(data[:4], 0)
        mine, count = struct.unpack_from(">HH", data, 4)
        if head != (56 if self.version == 5 else 16) or mine != level or head + count * 8 > len(data):
            raise Damaged("A tree of free space of the XFS file system is broken.")
        if self.version == 5:
            summed(data, 52, "tree of free space")
        if level == 0:
            yield from struct.iter_unpack(">II", data[head : head + count * 8])
            return
        pointers = head + (self.block_size - head) // 12 * 8
        for (child,) in struct.iter_unpack(">I", data[pointers : pointers + count * 4]):
            yield from self._tree(group, child, level - 1, seen)

    # The log

    def is_settled(self) -> bool:
        """Whether nothing waits in the log, or nothing but the superblock, as a freeze leaves it."""
        if not self._log_start:
            return False  # on another device
        group, block = self._log_start >> self._group_log, self._log_start & ((1 << self._group_log) - 1)
        at = (group * self.group_blocks + block) * self.block_size
        size = self._log_blocks * self.block_size
        if at + size > self.end or size > _MOST_LOG or not size:
            return False
        records = self._records(at, size)
        if not records:
            return False
        lsn, _, last = records[-1]
        if self._is_unmount(at, size, last):
            return True
        tail = struct.unpack_from(">Q", last, 24)[0]
        return tail <= lsn and all(self._only_superblock(at, size, head) for n, _, head in records if n >= tail)

    def _records(self, at: int, size: int) -> list[tuple[int, int, bytes]]:
        """``(sequence number, place, header)`` of the log's records, in their order."""
        found = []
        for start in range(0, size, 1 << 20):
            data = self.source.read(at + start, min(1 << 20, size - start))
            rows = np.frombuffer(data, ">u4").reshape(-1, _SECTOR // 4)
            for row in np.flatnonzero(rows[:, 0] == _LOG_MAGIC).tolist():
                head = data[row * _SECTOR : (row + 1) * _SECTOR]
                lsn = struct.unpack_from(">Q", head, 16)[0]
                if (lsn & 0xFFFFFFFF) * _SECTOR == start + row * _SECTOR:
                    found.append((lsn, start + row * _SECTOR, head))
        return sorted(found, key=lambda record: record[0])

    def _body(self, at: int, size: int, head: bytes) -> bytes:
        """A record's bytes behind its headers, as they were before each sector got its cycle's number."""
        version, length = struct.unpack_from(">II", head, 8)
        place = (struct.unpack_from(">Q", head, 16)[0] & 0xFFFFFFFF) * _SECTOR
        held = struct.unpack_from(">I", head, 320)[0] if version & 2 else 32768
        heads = max(1, -(-held // 32768)) if version & 2 else 1
        if length > 1 << 20 or heads > 64:
            raise Damaged("The log of the XFS file system is broken.")
        out = bytearray()
        for number in range(-(-length // _SECTOR)):
            sector = (place + (heads + number) * _SECTOR) % size
            out += self.source.read(at + sector, _SECTOR)
            extra, inside = divmod(number, 64)
            source = head if extra == 0 else self.source.read(at + (place + extra * _SECTOR) % size, _SECTOR)
            begin = (44 if extra == 0 else 4) + inside * 4
            out[number * _SECTOR : number * _SECTOR + 4] = source[begin : begin + 4]
        return bytes(out[:length])

    def _is_unmount(self, at: int, size: int, head: bytes) -> bool:
        body = self._body(at, size, head)
        return struct.unpack_from(">I", head, 40)[0] == 1 and len(body) >= _OPERATION and bool(body[9] & _UNMOUNT)

    def _only_superblock(self, at: int, size: int, head: bytes) -> bool:
        """Whether a record changes nothing but the superblock."""
        body, place, skipped = self._body(at, size, head), 0, 0
        for _ in range(struct.unpack_from(">I", head, 40)[0]):
            if place + _OPERATION > len(body):
                return False
            _, length, _, flags = struct.unpack_from(">IIBB", body, place)
            region = body[place + _OPERATION : place + _OPERATION + length]
            place += _OPERATION + length
            if flags & _CONTINUES or len(region) != length:
                return False
            if not length or flags & _UNMOUNT:
                continue
            if skipped:
                skipped -= 1
                continue
            if length == 16 and struct.unpack_from("<I", region, 0)[0] == _TRANSACTION:
                continue
            if length < 24:
                return False
            kind, regions, _, _, block = struct.unpack_from("<HHHHq", region, 0)
            if kind != _BUFFER_ITEM or block != 0 or not regions:
                return False
            skipped = regions - 1
        return True


def summed(data: bytes, at: int, what: str) -> None:
    """Raise `Damaged` where the checksum of a structure, at a place in it, is wrong."""
    told = struct.unpack_from("<I", data, at)[0]
    if crc32c(data[:at] + bytes(4) + data[at + 4 :]) != told:
        raise Damaged(f"The checksum of the {what} of the XFS file system is wrong.")
