"""Reading ext2, ext3 and ext4: which blocks are in use, and every file, without mounting.

Follows the on-disk layout in the Linux kernel's documentation (``Documentation/filesystems/ext4``).
Everything read is checked against the size of the file system, so that a damaged or hostile disk gives
`Damaged` and never a read elsewhere, an endless loop or unbounded memory.
"""

from __future__ import annotations

import stat
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property, partial
from uuid import UUID

import numpy as np

from bathotype.core.disk.crc import raw_crc32c
from bathotype.core.disk.extenttrees import ExtentTrees
from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Damaged

ROOT_INODE = 2
JOURNAL_INODE = 8
_MAGIC = 0xEF53

# incompat features
_META_BG, _NEEDS_RECOVERY, _JOURNAL_DEV = 0x10, 0x4, 0x8
_EXTENTS, _64BIT, _INLINE_DATA, _ENCRYPT = 0x40, 0x80, 0x8000, 0x10000
_INCOMPAT_READ = 0x2 | 0x4 | 0x40 | 0x80 | 0x100 | 0x200 | 0x400 | 0x1000 | 0x2000 | 0x4000 | 0x8000 | 0x10000
# ro_compat features
_SPARSE_SUPER, _GDT_CSUM, _BIGALLOC, METADATA_CSUM = 0x1, 0x10, 0x200, 0x400
_ORPHAN_PRESENT = 0x10000
_HAS_JOURNAL, _COMPAT_SPARSE_SUPER2 = 0x4, 0x200
# group flags
_INODE_UNINIT, _BLOCK_UNINIT = 0x1, 0x2
# inode flags
_CSUM_SEED = 0x2000
_EXTENTS_FL, _INLINE_DATA_FL, _ENCRYPT_FL = 0x80000, 0x10000000, 0x800

_ATTRIBUTES = b"\x00\x00\x02\xea"
_ATTRIBUTE_NAMES = {
    1: "user.", 2: "system.posix_acl_access", 3: "system.posix_acl_default", 4: "trusted.", 6: "security.",
    7: "system.", 8: "system.richacl",
}  # fmt: skip
_MOST_DEPTH = 5
_MOST_DIRECTORY = 256 * 1024 * 1024


def _crc16(seed: int, data: bytes) -> int:
    """CRC-16 with the polynomial 0xA001, lowest bit first, as group descriptors of ext4 have it."""
    for byte in data:
        seed ^= byte
        for _ in range(8):
            seed = seed >> 1 ^ (0xA001 if seed & 1 else 0)
    return seed


@dataclass(frozen=True)
class Inode:
    """One inode: ``size`` in bytes, ``mtime`` in seconds since 1970."""

    number: int
    mode: int
    uid: int
    gid: int
    size: int
    links: int
    flags: int
    mtime: int
    generation: int
    sectors: int
    block: bytes
    body: bytes

    @property
    def is_dir(self) -> bool:
        return stat.S_ISDIR(self.mode)

    @property
    def is_file(self) -> bool:
        return stat.S_ISREG(self.mode)

    @property
    def is_link(self) -> bool:
        return stat.S_ISLNK(self.mode)


@dataclass(frozen=True)
class Entry:
    """A file, directory or link found while walking; ``path`` is absolute within the file system."""

    path: str
    inode: Inode


@dataclass(frozen=True)
class _Group:
    block_bitmap: int
    inode_bitmap: int
    inode_table: int
    flags: int
    inodes_unused: int
    bitmap_checksum: int


class Ext4:
    """A read-only view of an ext2/3/4 file system on a block source.

    Raises `Damaged` when there is none, or one that uses a feature we do not read.
    """

    def __init__(self, source: BlockSource) -> None:
        self.source = source
        if source.size < 2048:
            raise Damaged("No ext4 file system: too small.")
        sb = source.read(1024, 1024)
        if struct.unpack_from("<H", sb, 56)[0] != _MAGIC:
            raise Damaged("No ext4 file system: the superblock's magic is missing.")
        self._sb = sb

        def u32(at: int) -> int:
            return int(struct.unpack_from("<I", sb, at)[0])

        def u16(at: int) -> int:
            return int(struct.unpack_from("<H", sb, at)[0])

        self.compat, self.incompat, self.ro_compat = u32(92), u32(96), u32(100)
        unknown = self.incompat & ~_INCOMPAT_READ
        if unknown or self.incompat & _JOURNAL_DEV:
            raise Damaged(f"The ext4 file system uses features we do not read (incompat {unknown:#x}).")
        if self.incompat & _META_BG or self.ro_compat & _BIGALLOC:
            raise Damaged("The ext4 file system uses meta_bg or bigalloc, which we do not read.")
        if u32(24) > 6:
            raise Damaged("The ext4 superblock gives an impossible block size.")
        self.block_size = 1024 << u32(24)
        self.inode_count = u32(0)
        self.wide = wide = bool(self.incompat & _64BIT)
        self.checksummed = bool(self.ro_compat & METADATA_CSUM)
        self.journal_inode = u32(224) if self.compat & _HAS_JOURNAL else 0
        self.block_count = u32(4) | (u32(336) << 32 if wide else 0)
        self.first_block = u32(20)
        self.blocks_per_group, self.inodes_per_group = u32(32), u32(40)
        self.inode_size = u16(88) if u32(76) else 128
        self.descriptor_size = (u16(254) or 32) if wide else 32
        self.reserved_gdt = u16(206)
        self.uuid = str(UUID(bytes=sb[104:120]))
        self.label = sb[120:136].split(b"\0")[0].decode("utf-8", "replace")
        self._check()
        if self.checksummed and raw_crc32c(0xFFFFFFFF, sb[:1020]) != u32(1020):
            raise Damaged("The checksum of the ext4 superblock is wrong.")
        self.group_count = -(-(self.block_count - self.first_block) // self.blocks_per_group)
        self._table_cache: dict[int, bytes] = {}

    def _check(self) -> None:
        sane = (
            self.block_count * self.block_size <= self.source.size
            and 0 < self.blocks_per_group <= self.block_size * 8
            and 0 < self.inodes_per_group <= self.block_size * 8
            and self.inode_size >= 128
            and self.inode_size <= self.block_size
            and self.inode_size & (self.inode_size - 1) == 0
            and 32 <= self.descriptor_size <= 1024
            and self.first_block in (0, 1)
            and self.block_count > self.first_block
        )
        if not sane:
            raise Damaged("The ext4 superblock contradicts itself or the size of its partition.")

    # State

    @property
    def needs_recovery(self) -> bool:
        """Whether the journal must be replayed before the rest can be trusted."""
        return bool(self.incompat & _NEEDS_RECOVERY)

    @property
    def has_orphans(self) -> bool:
        """Whether files wait to be let go that were removed while they were open."""
        last, state = struct.unpack_from("<I", self._sb, 232)[0], struct.unpack_from("<H", self._sb, 58)[0]
        return bool(last or state & 4 or self.ro_compat & _ORPHAN_PRESENT)

    def free_counts(self) -> tuple[int, int]:
        """Free blocks and inodes, as the groups tell; the superblock's own counts may be older."""
        blocks = inodes = 0
        table = self._descriptors()
        for at in range(0, len(table), self.descriptor_size):
            low = struct.unpack_from("<HH", table, at + 12)
            high = struct.unpack_from("<HH", table, at + 44) if self.descriptor_size >= 64 else (0, 0)
            blocks += low[0] | high[0] << 16
            inodes += low[1] | high[1] << 16
        return blocks, inodes

    # Blocks in use

    def _descriptors(self) -> bytes:
        length = self.group_count * self.descriptor_size
        return self._blocks(self.first_block + 1, -(-length // self.block_size))[:length]

    @cached_property
    def _groups(self) -> list[_Group]:
        size, table = self.descriptor_size, self._descriptors()
        flagged = bool(self.ro_compat & (_GDT_CSUM | METADATA_CSUM))
        groups = []
        for index in range(self.group_count):
            d = table[index * size : (index + 1) * size]
            self._check_descriptor(index, d)
            lo = struct.unpack_from("<IIIHHHH", d, 0)
            unused = struct.unpack_from("<H", d, 28)[0]
            hi = (0, 0, 0)
            if size >= 64:
                hi = struct.unpack_from("<III", d, 32)
                unused |= struct.unpack_from("<H", d, 50)[0] << 16
            groups.append(
                _Group(
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

    def _check_descriptor(self, index: int, descriptor: bytes) -> None:
        """A group's flags decide what of it is left out: they are believed only where their checksum is right."""
        if self.checksummed:
            seed = raw_crc32c(self.checksum_seed() or 0, struct.pack("<I", index))
            summed = raw_crc32c(seed, descriptor[:30] + bytes(2) + descriptor[32:]) & 0xFFFF
        elif self.ro_compat & _GDT_CSUM:
            summed = _crc16(_crc16(0xFFFF, self._sb[104:120] + struct.pack("<I", index)), descriptor[:30])
            if self.descriptor_size > 32:
                summed = _crc16(summed, descriptor[32:])
        else:
            return
        if summed != struct.unpack_from("<H", descriptor, 30)[0]:
            raise Damaged(f"The checksum of block group {index} of the ext4 file system is wrong.")

    def _check_bitmap(self, index: int, group: _Group, bitmap: bytes) -> None:
        if self.checksummed:
            wide = self.descriptor_size >= 64
            summed = raw_crc32c(self.checksum_seed() or 0, bitmap[: self.blocks_per_group // 8])
            if summed & (0xFFFFFFFF if wide else 0xFFFF) != group.bitmap_checksum:
                raise Damaged(f"The checksum of the block bitmap of group {index} of the ext4 file system is wrong.")

    @property
    def end(self) -> int:
        """Bytes that the file system covers; what lies behind them in its partition is none of it."""
        return self.block_count * self.block_size

    def used(self, *, whole_blocks: bool = False) -> Ranges:
        """Byte ranges that hold files or metadata.

        What no reader sees is left out: free blocks, extents that are not written yet, what lies behind a file's end in
        its last block, inodes never used, bitmaps that
        were never initialised, the room that is reserved for group descriptors in copies, and the replayed journal.
        They read as zeros in a capture, and the file system stays consistent.  With ``whole_blocks`` a file's last block
        is whole: for a copy in which what lies behind the end is zero already, and which has far fewer ranges then.
        """
        block = self.block_size
        per_group, count = self.blocks_per_group, self.block_count
        in_use = np.zeros(self.group_count * per_group, bool)
        for index, group in enumerate(self._groups):
            if not group.flags & _BLOCK_UNINIT:
                bitmap = self._blocks(group.block_bitmap, 1)
                self._check_bitmap(index, group, bitmap)
                bits = np.frombuffer(bitmap, np.uint8)
                spread = np.unpackbits(bits, bitorder="little")[:per_group]
                in_use[index * per_group : (index + 1) * per_group] = spread
        in_use = in_use[: count - self.first_block]
        table_blocks = self.inodes_per_group * self.inode_size // block
        descriptor_blocks = -(-self.group_count * self.descriptor_size // block)
        base = self.first_block
        for index in range(self.group_count):
            if self._has_superblock(index):
                start = index * per_group
                reserved = start + 1 + descriptor_blocks
                in_use[start:reserved] = True
                # In the first group it holds the resize inode's pointers, elsewhere whatever was there before.
                in_use[reserved : reserved + self.reserved_gdt] = index == 0
        for group in self._groups:
            for single, uninit in ((group.block_bitmap, _BLOCK_UNINIT), (group.inode_bitmap, _INODE_UNINIT)):
                self._blocks_valid(single, 1)
                in_use[single - base] = not group.flags & uninit
            start = group.inode_table
            self._blocks_valid(start, table_blocks)
            never = self.inodes_per_group if group.flags & _INODE_UNINIT else group.inodes_unused
            live = -(-(self.inodes_per_group - never) * self.inode_size // block)
            in_use[start - base : start - base + live] = True
            in_use[start - base + live : start - base + table_blocks] = False
        edges = np.flatnonzero(np.diff(np.concatenate(([0], in_use.view(np.int8), [0]))))
        starts, ends = (edges[0::2] + base) * block, (edges[1::2] + base) * block
        ranges = Ranges.of_arrays(starts, ends).union(Ranges.of([(0, base * block)]))
        hidden = self._idle_journal().union(self._unseen(ends=not whole_blocks), self._behind_copies())
        return ranges.minus(hidden, self.source.size)

    def _behind_copies(self) -> Ranges:
        """What lies in the blocks of copied superblocks and group descriptors behind what they hold."""
        size, length = self.block_size, self.group_count * self.descriptor_size
        found = []
        for index in filter(self._has_superblock, range(1, self.group_count)):
            at = (self.first_block + index * self.blocks_per_group) * size
            found.append((at + 1024, at + size))
            found.append((at + size + length, at + size + -(-length // size) * size))
        return Ranges.of(found)

    def _unseen(self, *, ends: bool) -> Ranges:
        """Blocks that belong to a file and were never written, and with ``ends`` what lies behind files' ends: whatever
        is there is of an earlier file."""
        if not self.incompat & _EXTENTS:
            return Ranges.of([])
        size, found, behind = self.block_size, [], []
        for _, table, _ in self.inode_tables():
            rows = np.frombuffer(table, np.uint8).reshape(-1, self.inode_size)
            trees = ExtentTrees(rows, size, partial(self._extent_node, level=0))
            found += [(first, first + count) for first, count in trees.unwritten()]
            if ends:
                behind += list(trees.behind_ends())
        blocks = Ranges.of((a * size, b * size) for a, b in found if self.first_block <= a and b <= self.block_count)
        return blocks.union(Ranges.of((a, b) for a, b in behind if self.first_block * size <= a and b <= self.end))

    def _has_superblock(self, group: int) -> bool:
        if group == 0:
            return True
        if self.compat & _COMPAT_SPARSE_SUPER2:
            return group in struct.unpack_from("<II", self._sb, 588)
        if not self.ro_compat & _SPARSE_SUPER:
            return True
        for base in (3, 5, 7):
            power = base
            while power < group:
                power *= base
            if power == group:
                return True
        return group == 1

    def _idle_journal(self) -> Ranges:
        """The journal's blocks but its first, when nothing in it waits to be replayed."""
        nothing = Ranges.of([])
        if not self.compat & 0x4 or self.needs_recovery:
            return nothing
        number = struct.unpack_from("<I", self._sb, 224)[0]
        if number != JOURNAL_INODE:
            return nothing
        runs = list(self.extents(self.inode(number)))
        if not runs or runs[0][0] != 0:
            return nothing
        head = self._blocks(runs[0][1], 1)
        magic, kind = struct.unpack_from(">II", head, 0)
        start = struct.unpack_from(">I", head, 28)[0]
        if magic != 0xC03B3998 or kind not in (3, 4) or start != 0:
            return nothing
        block = self.block_size
        every = Ranges.of((p * block, (p + n) * block) for _, p, n, _ in runs)
        first = runs[0][1] * block
        return every.minus(Ranges.of([(first, first + block)]), self.source.size)

    def inode_tables(self) -> Iterator[tuple[int, bytes, bytes]]:
        """For each group: byte offset of its inode table, its bytes up to the last inode ever used, its bitmap."""
        for index, group in enumerate(self._groups):
            if not group.flags & _INODE_UNINIT:
                live = (self.inodes_per_group - group.inodes_unused) * self.inode_size
                yield (
                    group.inode_table * self.block_size,
                    self._table(index)[:live],
                    self._blocks(group.inode_bitmap, 1),
                )

    def checksum_seed(self) -> int | None:
        """What metadata checksums begin with, None where the file system has none."""
        if not self.ro_compat & METADATA_CSUM:
            return None
        if self.incompat & _CSUM_SEED:
            return int(struct.unpack_from("<I", self._sb, 624)[0])
        return raw_crc32c(0xFFFFFFFF, self._sb[104:120])

    # Files

    def inode(self, number: int) -> Inode:
        """Read one inode.  Raises `Damaged` for a number that cannot be."""
        if not 0 < number <= self.inode_count:
            raise Damaged(f"Inode {number} is outside the file system.")
        group, slot = divmod(number - 1, self.inodes_per_group)
        if group >= self.group_count:
            raise Damaged(f"Inode {number} is outside the file system.")
        at = slot * self.inode_size
        raw = self._table(group)[at : at + self.inode_size]
        mode, uid, size, _a, _c, mtime, _d, gid, links, sectors, flags = struct.unpack_from("<HHIIIIIHHII", raw, 0)
        uid |= struct.unpack_from("<H", raw, 120)[0] << 16
        gid |= struct.unpack_from("<H", raw, 122)[0] << 16
        size |= struct.unpack_from("<I", raw, 108)[0] << 32
        generation = struct.unpack_from("<I", raw, 100)[0]
        # A disk may hold a million inodes: only inline data needs the whole one later.
        body = raw if flags & _INLINE_DATA_FL else b""
        return Inode(number, mode, uid, gid, size, links, flags, mtime, generation, sectors, raw[40:100], body)

    def _table(self, group: int) -> bytes:
        cached = self._table_cache.get(group)
        if cached is None:
            length = self.inodes_per_group * self.inode_size // self.block_size
            cached = self._blocks(self._groups[group].inode_table, length)
            if len(self._table_cache) >= 16:  # bounded: a table is at most a few MiB
                self._table_cache.pop(next(iter(self._table_cache)))
            self._table_cache[group] = cached
        return cached

    def extents(self, inode: Inode) -> Iterator[tuple[int, int, int, bool]]:
        """``(logical block, physical block, count, written)`` runs of a file, in order."""
        if inode.flags & _INLINE_DATA_FL:
            return
        if inode.flags & _EXTENTS_FL:
            yield from self._extent_node(inode.block, 0)
        else:
            yield from self._block_map(inode)

    def _extent_node(self, node: bytes, level: int) -> Iterator[tuple[int, int, int, bool]]:
        magic, entries, most, depth = struct.unpack_from("<HHHH", node, 0)
        if magic != 0xF30A or entries > most or 12 + entries * 12 > len(node) or level > _MOST_DEPTH:
            raise Damaged("An extent tree is broken.")
        for i in range(entries):
            if depth == 0:
                logical, count, high, low = struct.unpack_from("<IHHI", node, 12 + 12 * i)
                written = count <= 32768
                count = count if written else count - 32768
                start = low | high << 32
                self._blocks_valid(start, count)
                yield logical, start, count, written
            else:
                _, low, high = struct.unpack_from("<IIH", node, 12 + 12 * i)
                yield from self._extent_node(self._blocks(low | high << 32, 1), level + 1)

    def _block_map(self, inode: Inode) -> Iterator[tuple[int, int, int, bool]]:
        pointers = struct.unpack("<15I", inode.block)
        total = -(-inode.size // self.block_size)
        logical = 0
        for pointer in pointers[:12]:
            if logical >= total:
                return
            if pointer:
                self._blocks_valid(pointer, 1)
                yield logical, pointer, 1, True
            logical += 1
        for level, pointer in enumerate(pointers[12:], 1):
            yield from self._indirect(pointer, level, logical, total)
            logical += (self.block_size // 4) ** level
            if logical >= total:
                return

    def _indirect(self, pointer: int, level: int, logical: int, total: int) -> Iterator[tuple[int, int, int, bool]]:
        if not pointer or logical >= total:
            return
        span = (self.block_size // 4) ** (level - 1)
        for (child,) in struct.iter_unpack("<I", self._blocks(pointer, 1)):
            if logical >= total:
                return
            if child and level == 1:
                self._blocks_valid(child, 1)
                yield logical, child, 1, True
            elif child:
                yield from self._indirect(child, level - 1, logical, total)
            logical += span

    def read(self, inode: Inode, *, most: int | None = None) -> bytes:
        """A file's bytes, at most the first ``most``.  Holes and unwritten extents read as zeros."""
        length = inode.size if most is None else min(inode.size, most)
        if inode.is_link and inode.size < 60 and not inode.sectors:
            return inode.block[:length]
        if inode.flags & _INLINE_DATA_FL:
            return self._inline(inode)[:length]
        if length > self.source.size:
            raise Damaged(f"Inode {inode.number} claims more bytes than the file system has.")
        out = bytearray(length)
        for logical, start, count, written in self.extents(inode):
            at = logical * self.block_size
            if not written or at >= length:
                continue
            wanted = min(count * self.block_size, length - at)
            out[at : at + wanted] = self.source.read(start * self.block_size, wanted)
        return bytes(out)

    def _inline(self, inode: Inode) -> bytes:
        data = inode.block
        extra = struct.unpack_from("<H", inode.body, 128)[0] if self.inode_size > 128 else 0
        at = 128 + extra
        if inode.body[at : at + 4] == b"\x00\x00\x02\xea":
            base = at + 4
            while base + 16 <= len(inode.body) and inode.body[at + 4] != 0:
                name_len, index, offset, _inum, size, _hash = struct.unpack_from("<BBHIII", inode.body, at + 4)
                if name_len == 4 and index == 7 and inode.body[at + 20 : at + 24] == b"data":
                    data += inode.body[base + offset : base + offset + size]
                    break
                at += (16 + name_len + 3) & ~3
                if at + 20 > len(inode.body):
                    break
        return data

    def attributes(self, inode: Inode) -> dict[str, bytes]:
        """A file's extended attributes by their full names, with the values as the disk holds them.

        They are in the inode, behind its fields, and in a block that files may share.
        """
        group, slot = divmod(inode.number - 1, self.inodes_per_group)
        raw = self._table(group)[slot * self.inode_size : (slot + 1) * self.inode_size]
        found: dict[str, bytes] = {}
        at = 128 + (struct.unpack_from("<H", raw, 128)[0] if self.inode_size > 128 else 0)
        if at + 4 < len(raw) and raw[at : at + 4] == _ATTRIBUTES:
            found |= self._attribute_entries(raw[at + 4 :], 0)
        block = struct.unpack_from("<I", raw, 104)[0] | struct.unpack_from("<H", raw, 118)[0] << 32
        if block:
            data = self._blocks(block, 1)
            if data[:4] != _ATTRIBUTES:
                raise Damaged(f"The attribute block of inode {inode.number} is broken.")
            found |= self._attribute_entries(data, 32)
        return found

    def _attribute_entries(self, data: bytes, at: int) -> dict[str, bytes]:
        found: dict[str, bytes] = {}
        while at + 16 <= len(data) and data[at : at + 4] != bytes(4):
            length, index, offset, inode, size = struct.unpack_from("<BBHII", data, at)
            name = data[at + 16 : at + 16 + length].decode("ascii", "replace")
            at += (16 + length + 3) & ~3
            if index not in _ATTRIBUTE_NAMES:
                raise Damaged(f"An extended attribute is of a kind that is not known ({index}).")
            if (index, name) == (7, "data"):
                continue  # the inline data of the file itself
            if inode:
                value = self.read(self.inode(inode), most=size)
            elif offset + size > len(data):
                raise Damaged("An extended attribute lies outside its block.")
            else:
                value = data[offset : offset + size]
            found[_ATTRIBUTE_NAMES[index] + name] = value
        return found

    def entries(self, inode: Inode) -> Iterator[tuple[str, int]]:
        """``(name, inode number)`` of a directory, but for ``.`` and ``..``."""
        if inode.flags & _ENCRYPT_FL:
            return
        if inode.size > _MOST_DIRECTORY:
            raise Damaged(f"Directory inode {inode.number} is impossibly large.")
        data = self.read(inode)
        # Inline directories begin with the parent's inode number instead of "." and "..".
        starts = [4] if inode.flags & _INLINE_DATA_FL else list(range(0, len(data), self.block_size))
        for start in starts:
            end = len(data) if inode.flags & _INLINE_DATA_FL else min(start + self.block_size, len(data))
            at = start
            while at + 8 <= end:
                number, length, name_length = struct.unpack_from("<IHB", data, at)
                length = length or end - at
                if length < 8 or at + length > end or 8 + name_length > length:
                    if inode.flags & _INLINE_DATA_FL:
                        break
                    raise Damaged(f"Directory inode {inode.number} is broken.")
                name = data[at + 8 : at + 8 + name_length]
                if number and name and name not in (b".", b".."):
                    yield name.decode("utf-8", "surrogateescape"), number
                at += length

    def walk(self, top: str = "/") -> Iterator[Entry]:
        """Every file below ``top``, parents before children; links are not followed."""
        root = self.lookup(top)
        if root is None:
            return
        pending = [Entry(top, root)]
        seen: set[int] = set()
        while pending:
            entry = pending.pop()
            yield entry
            if not entry.inode.is_dir or entry.inode.number in seen:
                continue
            seen.add(entry.inode.number)
            prefix = entry.path.rstrip("/")
            children = [Entry(f"{prefix}/{name}", self.inode(n)) for name, n in self.entries(entry.inode)]
            pending.extend(sorted(children, key=lambda e: e.path, reverse=True))

    def lookup(self, path: str) -> Inode | None:
        """The inode at an absolute path, following no links; None where nothing is."""
        inode = self.inode(ROOT_INODE)
        for part in path.split("/"):
            if not part:
                continue
            if not inode.is_dir:
                return None
            number = next((n for name, n in self.entries(inode) if name == part), None)
            if number is None:
                return None
            inode = self.inode(number)
        return inode

    # The wire

    def _blocks_valid(self, start: int, count: int) -> None:
        if start < self.first_block or count < 1 or start + count > self.block_count:
            raise Damaged(f"Blocks {start} to {start + count} lie outside the ext4 file system.")

    def _blocks(self, start: int, count: int) -> bytes:
        self._blocks_valid(start, count)
        return self.source.read(start * self.block_size, count * self.block_size)
