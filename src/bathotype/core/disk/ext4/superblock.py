"""The superblock and the block groups of ext2, ext3 and ext4: where everything lies, and what may be believed.

Follows the on-disk layout in the Linux kernel's documentation (``Documentation/filesystems/ext4``).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from uuid import UUID

from bathotype.core.disk.crc import raw_crc32c
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Damaged

_MAGIC = 0xEF53
SUPERBLOCK_AT, SUPERBLOCK_SIZE = 1024, 1024

# compat features
_HAS_JOURNAL, _SPARSE_SUPER2 = 0x4, 0x200
# incompat features
FILETYPE, _NEEDS_RECOVERY, _JOURNAL_DEV, META_BG = 0x2, 0x4, 0x8, 0x10
EXTENTS, _64BIT, EA_INODE, _CSUM_SEED, CASEFOLD = 0x40, 0x80, 0x400, 0x2000, 0x20000
_INCOMPAT_READ = 0x2 | 0x4 | 0x10 | 0x40 | 0x80 | 0x100 | 0x200 | 0x400 | 0x1000 | 0x2000 | 0x4000 | 0x8000 | 0x30000
# ro_compat features
_SPARSE_SUPER, GDT_CSUM, QUOTA, _BIGALLOC, METADATA_CSUM = 0x1, 0x10, 0x100, 0x200, 0x400
ORPHAN_PRESENT = 0x10000
# group flags
INODE_UNINIT, BLOCK_UNINIT = 0x1, 0x2


@dataclass(frozen=True)
class Group:
    """A block group's descriptor: places are block numbers, counts are of blocks, inodes and folders."""

    block_bitmap: int
    inode_bitmap: int
    inode_table: int
    flags: int
    inodes_unused: int
    bitmap_checksum: int


class Superblock:
    """The geometry of a file system, checked against itself and the size of what it lies on.

    Raises `Damaged` where there is none, or one that uses a feature we do not read.
    """

    def __init__(self, source: BlockSource) -> None:
        self.source = source
        if source.size < 2048:
            raise Damaged("No ext4 file system: too small.")
        sb = source.read(SUPERBLOCK_AT, SUPERBLOCK_SIZE)
        if struct.unpack_from("<H", sb, 56)[0] != _MAGIC:
            raise Damaged("No ext4 file system: the superblock's magic is missing.")
        self.raw = sb
        self.compat, self.incompat, self.ro_compat = self.u32(92), self.u32(96), self.u32(100)
        unknown = self.incompat & ~_INCOMPAT_READ
        if unknown or self.incompat & _JOURNAL_DEV:
            raise Damaged(f"The ext4 file system uses features we do not read (incompat {unknown:#x}).")
        if self.u32(24) > 6:
            raise Damaged("The ext4 superblock gives an impossible block size.")
        self.block_size = 1024 << self.u32(24)
        self.inode_count = self.u32(0)
        self.wide = wide = bool(self.incompat & _64BIT)
        self.checksummed = bool(self.ro_compat & METADATA_CSUM)
        self.journal_inode = self.u32(224) if self.compat & _HAS_JOURNAL else 0
        self.block_count = self.u32(4) | (self.u32(336) << 32 if wide else 0)
        self.first_block = self.u32(20)
        self.blocks_per_group, self.inodes_per_group = self.u32(32), self.u32(40)
        #: Blocks of a cluster, which is what a bit of a block bitmap stands for; 1 but for file systems with bigalloc.
        self.cluster = 1 << max(0, min(16, self.u32(28) - self.u32(24))) if self.ro_compat & _BIGALLOC else 1
        self.inode_size = self.u16(88) if self.u32(76) else 128
        self.descriptor_size = (self.u16(254) or 32) if wide else 32
        self.reserved_gdt = self.u16(206)
        self.uuid = str(UUID(bytes=sb[104:120]))
        self.label = sb[120:136].split(b"\0")[0].decode("utf-8", "replace")
        self._check()
        if self.checksummed and raw_crc32c(0xFFFFFFFF, sb[:1020]) != self.u32(1020):
            raise Damaged("The checksum of the ext4 superblock is wrong.")
        self.group_count = -(-(self.block_count - self.first_block) // self.blocks_per_group)
        self.table_blocks = -(-self.inodes_per_group * self.inode_size // self.block_size)

    def u32(self, at: int) -> int:
        """A field of four bytes."""
        return int(struct.unpack_from("<I", self.raw, at)[0])

    def u16(self, at: int) -> int:
        """A field of two bytes."""
        return int(struct.unpack_from("<H", self.raw, at)[0])

    def _check(self) -> None:
        sane = (
            self.block_count * self.block_size <= self.source.size
            and 0 < self.blocks_per_group <= self.block_size * 8 * self.cluster
            and self.blocks_per_group % self.cluster == 0
            and 0 < self.inodes_per_group <= self.block_size * 8
            and self.inode_size >= 128
            and self.inode_size <= self.block_size
            and self.inode_size & (self.inode_size - 1) == 0
            and 32 <= self.descriptor_size <= 1024
            and self.first_block in ((0, 1) if self.cluster == 1 else (0,))
            and self.block_count > self.first_block
        )
        if not sane:
            raise Damaged("The ext4 superblock contradicts itself or the size of its partition.")

    @property
    def needs_recovery(self) -> bool:
        """Whether the journal must be replayed before the rest can be trusted."""
        return bool(self.incompat & _NEEDS_RECOVERY)

    @property
    def has_orphans(self) -> bool:
        """Whether files wait to be let go that were removed while they were open."""
        return bool(self.u32(232) or self.u16(58) & 4 or self.ro_compat & ORPHAN_PRESENT)

    @property
    def end(self) -> int:
        """Bytes that the file system covers; what lies behind them in its partition is none of it."""
        return self.block_count * self.block_size

    @property
    def checksum_seed(self) -> int | None:
        """What metadata checksums begin with, None where the file system has none."""
        if not self.checksummed:
            return None
        return self.u32(624) if self.incompat & _CSUM_SEED else raw_crc32c(0xFFFFFFFF, self.raw[104:120])

    # Places

    def group_start(self, group: int) -> int:
        """The first block of a group."""
        return self.first_block + group * self.blocks_per_group

    @property
    def _superblock(self) -> int:
        """The block of the first superblock.  With bigalloc a file system of small blocks begins with the block
        before."""
        return SUPERBLOCK_AT // self.block_size

    def has_superblock(self, group: int) -> bool:
        """Whether a group begins with a superblock, the first or a copy."""
        if group == 0:
            return True
        if self.compat & _SPARSE_SUPER2:
            return group in struct.unpack_from("<II", self.raw, 588)
        if not self.ro_compat & _SPARSE_SUPER:
            return True
        for base in (3, 5, 7):
            power = base
            while power < group:
                power *= base
            if power == group:
                return True
        return group == 1

    @cached_property
    def _contiguous(self) -> int:
        """How many blocks of group descriptors follow each superblock; the others lie in their own groups."""
        blocks = -(-self.group_count * self.descriptor_size // self.block_size)
        return min(blocks, self.u32(260)) if self.incompat & META_BG else blocks

    def head_of(self, group: int) -> Iterator[tuple[str, int, int]]:
        """What a group begins with: ``(kind, first block, count)`` of superblock, descriptors, and the room that is
        reserved for more descriptors."""
        at = self.group_start(group) if group else self._superblock
        has = self.has_superblock(group)
        if has:
            yield "superblock", at, 1
            yield "descriptors", at + 1, self._contiguous
            yield "reserved", at + 1 + self._contiguous, self.reserved_gdt
        if self.incompat & META_BG:
            per_block = self.block_size // self.descriptor_size
            block, inside = divmod(group, per_block)
            last = min((block + 1) * per_block, self.group_count) - 1 - block * per_block
            if block >= self._contiguous and inside in (0, 1, last):
                yield "descriptors", at + has, 1

    def descriptor_place(self, group: int) -> int:
        """The byte at which a group's descriptor lies."""
        block, inside = divmod(group * self.descriptor_size, self.block_size)
        if block < self._contiguous:
            at = self._superblock + 1 + block
        else:
            first = block * (self.block_size // self.descriptor_size)
            at = self.group_start(first) + self.has_superblock(first)
        self.blocks_valid(at, 1)
        return at * self.block_size + inside

    def descriptors(self) -> bytes:
        """All descriptors, one after another."""
        length = self.group_count * self.descriptor_size
        if not self.incompat & META_BG:
            return self.blocks(self._superblock + 1, self._contiguous)[:length]
        per_block = self.block_size // self.descriptor_size
        places = [self.descriptor_place(group) for group in range(0, self.group_count, per_block)]
        return b"".join(self.source.read(at, self.block_size) for at in places)[:length]

    # Groups

    @cached_property
    def groups(self) -> list[Group]:
        """Every group.  Raises `Damaged` for one whose checksum is wrong."""
        size, table = self.descriptor_size, self.descriptors()
        flagged = bool(self.ro_compat & (GDT_CSUM | METADATA_CSUM))
        groups = []
        for index in range(self.group_count):
            d = table[index * size : (index + 1) * size]
            if self.descriptor_checksum(index, d) not in (None, struct.unpack_from("<H", d, 30)[0]):
                raise Damaged(f"The checksum of block group {index} of the ext4 file system is wrong.")
            lo = struct.unpack_from("<IIIHHHH", d, 0)
            unused = struct.unpack_from("<H", d, 28)[0]
            hi = (0, 0, 0)
            if size >= 64:
                hi = struct.unpack_from("<III", d, 32)
                unused |= struct.unpack_from("<H", d, 50)[0] << 16
            groups.append(
                Group(
                    lo[0] | hi[0] << 32,
                    lo[1] | hi[1] << 32,
                    lo[2] | hi[2] << 32,
                    lo[6] if flagged else 0,
                    min(unused, self.inodes_per_group) if flagged else 0,
                    struct.unpack_from("<H", d, 24)[0]
                    | (struct.unpack_from("<H", d, 56)[0] << 16 if size >= 64 else 0),
                )
            )
        return groups

    def descriptor_checksum(self, index: int, descriptor: bytes) -> int | None:
        """What a descriptor's checksum must be, None where it has none.  A group's flags decide what of it is left out:
        they are believed only where it is right."""
        if self.checksummed:
            seed = raw_crc32c(self.checksum_seed or 0, struct.pack("<I", index))
            return raw_crc32c(seed, descriptor[:30] + bytes(2) + descriptor[32:]) & 0xFFFF
        if self.ro_compat & GDT_CSUM:
            summed = _crc16(_crc16(0xFFFF, self.raw[104:120] + struct.pack("<I", index)), descriptor[:30])
            return _crc16(summed, descriptor[32:]) if self.descriptor_size > 32 else summed
        return None

    def bitmap_checksum(self, bitmap: bytes, bits: int) -> int | None:
        """What the checksum of a bitmap must be, None where it has none."""
        if not self.checksummed:
            return None
        summed = raw_crc32c(self.checksum_seed or 0, bitmap[: bits // 8])
        return summed & (0xFFFFFFFF if self.descriptor_size >= 64 else 0xFFFF)

    def free_counts(self) -> tuple[int, int]:
        """Free blocks and inodes by the groups' counts; the superblock's own counts may be older."""
        blocks = inodes = 0
        table = self.descriptors()
        for at in range(0, len(table), self.descriptor_size):
            low = struct.unpack_from("<HH", table, at + 12)
            high = struct.unpack_from("<HH", table, at + 44) if self.descriptor_size >= 64 else (0, 0)
            blocks += low[0] | high[0] << 16
            inodes += low[1] | high[1] << 16
        return blocks, inodes

    # Blocks

    def blocks_valid(self, start: int, count: int) -> None:
        """Raise `Damaged` for blocks outside the file system."""
        if start < self.first_block or count < 1 or start + count > self.block_count:
            raise Damaged(f"Blocks {start} to {start + count} lie outside the ext4 file system.")

    def blocks(self, start: int, count: int) -> bytes:
        """The bytes of some blocks."""
        self.blocks_valid(start, count)
        return self.source.read(start * self.block_size, count * self.block_size)


def _crc16(seed: int, data: bytes) -> int:
    """CRC-16 with the polynomial 0xA001, lowest bit first, as group descriptors of ext4 have it."""
    for byte in data:
        seed ^= byte
        for _ in range(8):
            seed = seed >> 1 ^ (0xA001 if seed & 1 else 0)
    return seed
