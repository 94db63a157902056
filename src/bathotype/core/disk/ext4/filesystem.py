"""Reading ext2, ext3 and ext4: every file, without mounting.

Follows the on-disk layout in the Linux kernel's documentation (``Documentation/filesystems/ext4``).
Everything read is checked against the size of the file system, so that a damaged or hostile disk gives
`Damaged` and never a read elsewhere, an endless loop or unbounded memory.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass

from bathotype.core.disk.diskfile import OfMode
from bathotype.core.disk.ext4.attributes import Attribute, block_of, in_block, in_inode
from bathotype.core.disk.ext4.superblock import INODE_UNINIT, Superblock
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Damaged

ROOT_INODE = 2
JOURNAL_INODE = 8
# inode flags
ENCRYPT_FL, INDEX_FL, EXTENTS_FL, EA_INODE_FL, INLINE_DATA_FL = 0x800, 0x1000, 0x80000, 0x200000, 0x10000000

_INODE = struct.Struct("<HHIIIiIHHIII60sIIIIHHHH")
#: How much of a large inode's end is in use, and the bits there that carry its time on beyond 2038.
_EXTRA_AT, _MTIME_EXTRA_AT = 128, 136
_FAST_LINK = 60
_MOST_DEPTH = 5
_MOST_DIRECTORY = 256 * 1024 * 1024


@dataclass(frozen=True)
class Inode(OfMode):
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
    attribute_block: int
    block: bytes
    body: bytes


@dataclass(frozen=True)
class Entry:
    """A file, directory or link found while walking; ``path`` is absolute within the file system."""

    path: str
    inode: Inode


def parsed(number: int, raw: bytes) -> Inode:
    """An inode from its bytes."""
    (
        mode, uid, size, _a, _c, mtime, _d, gid, links, sectors, flags, _v, block, generation, around, size_high, _f, _b,
        around_high, uid_high, gid_high,
    ) = _INODE.unpack_from(raw)  # fmt: skip
    if len(raw) >= _MTIME_EXTRA_AT + 4 and struct.unpack_from("<H", raw, _EXTRA_AT)[0] >= 12:
        mtime += (raw[_MTIME_EXTRA_AT] & 3) << 32
    # A disk may hold a million inodes: only inline data needs the whole one later.
    body = raw if flags & INLINE_DATA_FL else b""
    return Inode(
        number,
        mode,
        uid | uid_high << 16,
        gid | gid_high << 16,
        size | size_high << 32,
        links,
        flags,
        mtime,
        generation,
        sectors,
        around | around_high << 32,
        block,
        body,
    )


class Ext4(Superblock):
    """A read-only view of an ext2/3/4 file system on a block source.

    Raises `Damaged` when there is none, or one that uses a feature we do not read.
    """

    def __init__(self, source: BlockSource) -> None:
        super().__init__(source)
        self._table_cache: dict[int, bytes] = {}

    def numbered_tables(self) -> Iterator[tuple[int, tuple[int, bytes, bytes]]]:
        """The same, each with the number of its group."""
        groups = {group.inode_table * self.block_size: index for index, group in enumerate(self.groups)}
        for table in self.inode_tables():
            yield groups[table[0]], table

    def inode_tables(self) -> Iterator[tuple[int, bytes, bytes]]:
        """For each group: byte offset of its inode table, its bytes up to the last inode ever used, its bitmap."""
        for index, group in enumerate(self.groups):
            if not group.flags & INODE_UNINIT:
                live = (self.inodes_per_group - group.inodes_unused) * self.inode_size
                yield group.inode_table * self.block_size, self._table(index)[:live], self.blocks(group.inode_bitmap, 1)

    # Files

    def inode(self, number: int) -> Inode:
        """Read one inode.  Raises `Damaged` for a number that cannot be."""
        return parsed(number, self.inode_bytes(number))

    def inode_bytes(self, number: int) -> bytes:
        """An inode as the disk holds it."""
        group, slot = self.slot_of(number)
        return self._table(group)[slot * self.inode_size : (slot + 1) * self.inode_size]

    def slot_of(self, number: int) -> tuple[int, int]:
        """The group of an inode, and its place in it.  Raises `Damaged` for a number that cannot be."""
        group, slot = divmod(number - 1, self.inodes_per_group)
        if not 0 < number <= self.inode_count or group >= self.group_count:
            raise Damaged(f"Inode {number} is outside the file system.")
        return group, slot

    def inode_place(self, number: int) -> int:
        """The byte at which an inode lies."""
        group, slot = self.slot_of(number)
        return self.groups[group].inode_table * self.block_size + slot * self.inode_size

    def _table(self, group: int) -> bytes:
        cached = self._table_cache.get(group)
        if cached is None:
            cached = self.blocks(self.groups[group].inode_table, self.table_blocks)
            if len(self._table_cache) >= 16:  # bounded: a table is at most a few MiB
                self._table_cache.pop(next(iter(self._table_cache)))
            self._table_cache[group] = cached
        return cached

    def extents(self, inode: Inode) -> Iterator[tuple[int, int, int, bool]]:
        """``(logical block, physical block, count, written)`` runs of a file, in order."""
        return self._mapped(inode, set())

    def map_blocks(self, inode: Inode) -> set[int]:
        """The blocks that hold a file's map: nodes of its extent tree, or its indirect blocks."""
        seen: set[int] = set()
        for _ in self._mapped(inode, seen):
            pass
        return seen

    def _mapped(self, inode: Inode, seen: set[int]) -> Iterator[tuple[int, int, int, bool]]:
        has_blocks = inode.is_file or inode.is_dir or (inode.is_link and not self.in_its_inode(inode))
        if not has_blocks or inode.flags & INLINE_DATA_FL:
            return iter(())
        if inode.flags & EXTENTS_FL:
            return self.extent_node(inode.block, seen=seen)
        return self._block_map(inode, seen)

    def in_its_inode(self, link: Inode) -> bool:
        """Whether a symbolic link's target lies in its inode; a block of its attributes is none of it."""
        own = 0 if link.attribute_block == 0 else self.block_size // 512
        return link.size < _FAST_LINK and not link.flags & (EXTENTS_FL | INLINE_DATA_FL) and link.sectors <= own

    def extent_node(
        self, node: bytes, depth: int | None = None, seen: set[int] | None = None
    ) -> Iterator[tuple[int, int, int, bool]]:
        """The extents below a node of a tree, of the depth that its parent says.  ``seen`` are the blocks on the way."""
        seen = set() if seen is None else seen
        magic, entries, most, level = struct.unpack_from("<HHHH", node, 0)
        sound = magic == 0xF30A and entries <= most and 12 + entries * 12 <= len(node)
        if not sound or level > _MOST_DEPTH or depth not in (None, level):
            raise Damaged("An extent tree is broken.")
        for i in range(entries):
            if level == 0:
                logical, count, high, low = struct.unpack_from("<IHHI", node, 12 + 12 * i)
                written = count <= 32768
                count = count if written else count - 32768
                start = low | high << 32
                self.blocks_valid(start, count)
                yield logical, start, count, written
            else:
                _, low, high = struct.unpack_from("<IIH", node, 12 + 12 * i)
                child = self._once(low | high << 32, seen)
                yield from self.extent_node(child, level - 1, seen)

    def _once(self, block: int, seen: set[int]) -> bytes:
        """A block of a file's map.  Raises `Damaged` for one that was met before: maps have no circles."""
        if block in seen:
            raise Damaged(f"Block {block} is in the map of a file twice.")
        seen.add(block)
        return self.blocks(block, 1)

    def _block_map(self, inode: Inode, seen: set[int]) -> Iterator[tuple[int, int, int, bool]]:
        pointers = struct.unpack("<15I", inode.block)
        total = -(-inode.size // self.block_size)
        logical = 0
        for pointer in pointers[:12]:
            if logical >= total:
                return
            if pointer:
                self.blocks_valid(pointer, 1)
                yield logical, pointer, 1, True
            logical += 1
        for level, pointer in enumerate(pointers[12:], 1):
            yield from self._indirect(pointer, level, logical, total, seen)
            logical += (self.block_size // 4) ** level
            if logical >= total:
                return

    def mapped_block(self, inode: Inode, logical: int) -> int | None:
        """The block in which one block of a file with pointers lies, None for a hole."""
        if logical < 12:
            pointer = int(struct.unpack_from("<I", inode.block, 4 * logical)[0])
        else:
            per_block, logical, level = self.block_size // 4, logical - 12, 1
            while level < 3 and logical >= per_block**level:
                logical, level = logical - per_block**level, level + 1
            pointer = int(struct.unpack_from("<I", inode.block, 4 * (11 + level))[0])
            for depth in range(level - 1, -1, -1):
                if not pointer:
                    break
                slot = logical // per_block**depth % per_block
                pointer = int(struct.unpack_from("<I", self.blocks(pointer, 1), 4 * slot)[0])
        return pointer if self.first_block <= pointer < self.block_count and pointer else None

    def _indirect(
        self, pointer: int, level: int, logical: int, total: int, seen: set[int]
    ) -> Iterator[tuple[int, int, int, bool]]:
        if not pointer or logical >= total:
            return
        span = (self.block_size // 4) ** (level - 1)
        for (child,) in struct.iter_unpack("<I", self._once(pointer, seen)):
            if logical >= total:
                return
            if child and level == 1:
                self.blocks_valid(child, 1)
                yield logical, child, 1, True
            elif child:
                yield from self._indirect(child, level - 1, logical, total, seen)
            logical += span

    def read(self, inode: Inode, *, most: int | None = None) -> bytes:
        """A file's bytes, at most the first ``most``.  Holes and unwritten extents read as zeros."""
        length = inode.size if most is None else min(inode.size, most)
        if inode.is_link and self.in_its_inode(inode):
            return inode.block[:length]
        if inode.flags & INLINE_DATA_FL:
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

    @staticmethod
    def _inline(inode: Inode) -> bytes:
        return inode.block + b"".join(one.value for one in in_inode(inode.body) if one.is_inline_data)

    def attributes(self, inode: Inode) -> dict[str, bytes]:
        """A file's extended attributes by their full names, with the values as the disk holds them."""
        raw = self.inode_bytes(inode.number)
        found = in_inode(raw)
        if block := block_of(raw):
            found += in_block(self.blocks(block, 1))
        return {one.full_name: self._value(one) for one in found if not one.is_inline_data}

    def _value(self, one: Attribute) -> bytes:
        return self.read(self.inode(one.inode), most=one.size) if one.inode else one.value

    def entries(self, inode: Inode) -> Iterator[tuple[str, int]]:
        """``(name, inode number)`` of a directory, but for ``.`` and ``..``."""
        if inode.flags & ENCRYPT_FL:
            return
        if inode.size > _MOST_DIRECTORY:
            raise Damaged(f"Directory inode {inode.number} is impossibly large.")
        data = self.read(inode)
        # Inline directories begin with the parent's inode number instead of "." and "..".
        starts = [4] if inode.flags & INLINE_DATA_FL else list(range(0, len(data), self.block_size))
        for start in starts:
            end = len(data) if inode.flags & INLINE_DATA_FL else min(start + self.block_size, len(data))
            at = start
            while at + 8 <= end:
                number, length, name_length = struct.unpack_from("<IHB", data, at)
                length = length or end - at
                if length < 8 or at + length > end or 8 + name_length > length:
                    if inode.flags & INLINE_DATA_FL:
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
