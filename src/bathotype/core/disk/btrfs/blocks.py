"""Which blocks of a btrfs file system are in use: what its extent tree says, where its chunks lie on this one device.

Follows the on-disk format in btrfs's developer documentation.
"""

from __future__ import annotations

import hashlib
import struct
from bisect import bisect_right
from collections.abc import Callable, Iterator
from typing import NamedTuple
from uuid import UUID

from crc32c import crc32c

from bathotype.core.disk.btrfs.xxhash import xxh64
from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Damaged

_SUPER_AT, _SUPER_SIZE, _MAGIC = 65536, 4096, b"_BHRfS_M"
_COPIES = (64 * 1024**2, 256 * 1024**3)
#: No chunk lies before: boot loaders may use it.
_RESERVED = 1024 * 1024
#: Bytes of the head of a tree's block, of what it says of an item, and of what it says of a block below it.
HEADER, ITEM, POINTER = 101, 25, 33
_EXTENT_ROOT, _ROOT_ITEM, _EXTENT, _METADATA, _CHUNK = 2, 132, 168, 169, 228
#: Profiles of chunks on one device: one copy, or two.
_PLAIN, _DOUBLE, _PROFILES = 0, 1 << 5, 0x7F8
#: mixed groups, default subvolume, LZO, zstd, large metadata, extended references, RAID56, skinny metadata, no holes,
#: metadata's own UUID, RAID1C34, subvolumes' own quotas.
_KNOWN_INCOMPAT = 0x1 | 0x2 | 0x4 | 0x8 | 0x10 | 0x20 | 0x40 | 0x80 | 0x100 | 0x200 | 0x400 | 0x800 | 0x4000
_MOST_CHUNKS, _MOST_LEVELS, _MOST_BLOCKS = 1 << 18, 8, 1 << 22

#: Kinds of checksum by their numbers; what is summed begins behind the room for one, at byte 32.
SUMS: dict[int, Callable[[bytes], bytes]] = {
    0: lambda data: struct.pack("<I", crc32c(data)),
    1: lambda data: struct.pack("<Q", xxh64(data)),
    2: lambda data: hashlib.sha256(data).digest(),
    3: lambda data: hashlib.blake2b(data, digest_size=32).digest(),
}


Key = tuple[int, int, int]


class _Chunk(NamedTuple):
    logical: int
    length: int
    places: tuple[int, ...]


class Btrfs:
    """A view of a btrfs file system.  Raises `Damaged` when there is none, or one that is not understood."""

    def __init__(self, source: BlockSource) -> None:
        self.source = source
        if source.size < _RESERVED:
            raise Damaged("No btrfs file system: too small.")
        head = source.read(_SUPER_AT, _SUPER_SIZE)
        if head[64:72] != _MAGIC:
            raise Damaged("No btrfs file system: the superblock's magic is missing.")
        self._sum = SUMS.get(struct.unpack_from("<H", head, 196)[0])
        if self._sum is None:
            raise Damaged("The btrfs file system has a kind of checksum that is not known here.")
        self._check_sum(head, "superblock")
        self.uuid = str(UUID(bytes=head[32:48]))
        self.label = head[299:555].split(b"\0")[0].decode("utf-8", "replace")
        self._root, self._chunk_root, log_root, _, self.end, _, _, devices = struct.unpack_from("<8Q", head, 80)
        self.node_size = struct.unpack_from("<I", head, 148)[0]
        incompatible = struct.unpack_from("<Q", head, 188)[0]
        if incompatible & ~_KNOWN_INCOMPAT:
            raise Damaged(f"The btrfs file system has features that are not known here ({incompatible:#x}).")
        if devices != 1 or self.node_size not in (4096, 8192, 16384, 32768, 65536) or self.end > source.size:
            raise Damaged("The btrfs file system is on several devices, or contradicts itself.")
        if log_root:
            raise Damaged("Its log waits to be replayed.")
        self._device = struct.unpack_from("<Q", head, 201)[0]
        array = head[811 : 811 + min(2048, struct.unpack_from("<I", head, 160)[0])]
        self._chunks = sorted(_chunks_of(array, self._device))
        everything = list(self._read_chunks())
        self._chunks = sorted({*self._chunks, *everything})

    def used(self) -> Ranges:
        """Byte ranges that hold files or metadata.  Raises `Damaged` where a structure is broken."""
        found = [(0, _RESERVED)]
        found += [(at, at + _SUPER_SIZE) for at in _COPIES if at + _SUPER_SIZE <= self.end]
        root = self.root_of(_EXTENT_ROOT)
        if root is None:
            raise Damaged("The btrfs file system has no tree of extents.")
        for key, _ in self._items(root, set()):
            number, kind, offset = key
            if kind in (_EXTENT, _METADATA):
                length = self.node_size if kind == _METADATA else offset
                found += [(place, place + size) for place, size in self._places(number, length)]
        if any(end > self.end for _, end in found):
            raise Damaged("The btrfs file system has extents beyond its end.")
        return Ranges.of(found)

    def _read_chunks(self) -> Iterator[_Chunk]:
        for count, ((_, kind, logical), item) in enumerate(self._items(self._chunk_root, set())):
            if count > _MOST_CHUNKS:
                raise Damaged("The btrfs file system has too many chunks.")
            if kind == _CHUNK:
                yield _chunk(logical, item, self._device)[0]

    # Trees

    def block(self, logical: int, level: int | None = None) -> tuple[bytes, int, int]:
        """A tree's block with this address: its bytes, how many items it has, its level.  Raises `Damaged`."""
        place = next(iter(self._places(logical, self.node_size)))[0]
        block = self.source.read(place, self.node_size)
        self._check_sum(block, "tree block")
        at, _ = struct.unpack_from("<QQ", block, 48)
        count, mine = struct.unpack_from("<IB", block, 96)
        width = POINTER if mine else ITEM
        if at != logical or level not in (None, mine) or mine > _MOST_LEVELS or HEADER + count * width > len(block):
            raise Damaged("A tree of the btrfs file system is broken.")
        return block, count, mine

    def _items(self, logical: int, seen: set[int], level: int | None = None) -> Iterator[tuple[Key, bytes]]:
        """Every item of a tree, in the order of its keys."""
        if logical in seen or len(seen) > _MOST_BLOCKS:
            raise Damaged("A tree of the btrfs file system is broken.")
        seen.add(logical)
        block, count, mine = self.block(logical, level)
        for n in range(count):
            if mine:
                below = struct.unpack_from("<Q", block, HEADER + n * POINTER + 17)[0]
                yield from self._items(below, seen, mine - 1)
            else:
                yield item_at(block, n)

    def read(self, logical: int, length: int) -> bytes:
        """Bytes by their address, from the first copy.  Raises `Damaged`."""
        out = bytearray()
        while len(out) < length:
            place, size = next(iter(self._places(logical + len(out), length - len(out))))
            out += self.source.read(place, size)
        return bytes(out)

    def root_of(self, tree: int) -> int | None:
        """The address of a tree's root, by the tree's number; None where there is none."""
        for (number, kind, _), item in self._items(self._root, set()):
            if number == tree and kind == _ROOT_ITEM and len(item) >= 239:
                return int(struct.unpack_from("<Q", item, 176)[0])
        return None

    def roots(self) -> Iterator[tuple[Key, bytes]]:
        """Every item of the tree of trees."""
        return self._items(self._root, set())

    def _places(self, logical: int, length: int) -> Iterator[tuple[int, int]]:
        """``(byte, length)`` on the device of every copy of a stretch."""
        while length > 0:
            index = bisect_right(self._chunks, (logical, 1 << 64, ())) - 1
            chunk = self._chunks[index] if index >= 0 else None
            if chunk is None or logical >= chunk.logical + chunk.length:
                raise Damaged("The btrfs file system has extents outside its chunks.")
            inside = logical - chunk.logical
            size = min(length, chunk.length - inside)
            yield from ((place + inside, size) for place in chunk.places)
            logical, length = logical + size, length - size

    def _check_sum(self, block: bytes, what: str) -> None:
        assert self._sum is not None
        summed = self._sum(block[32:])
        if block[: len(summed)] != summed:
            raise Damaged(f"The checksum of the {what} of the btrfs file system is wrong.")


def item_at(block: bytes, n: int) -> tuple[Key, bytes]:
    """An item of a leaf.  Raises `Damaged`."""
    number, kind, offset, begin, size = struct.unpack_from("<QBQII", block, HEADER + n * ITEM)
    if HEADER + begin + size > len(block):
        raise Damaged("A tree of the btrfs file system is broken.")
    return (number, kind, offset), block[HEADER + begin : HEADER + begin + size]


def _chunks_of(array: bytes, device: int) -> Iterator[_Chunk]:
    """The chunks that the superblock names: those in which the chunk tree itself lies."""
    at = 0
    while at + 17 + 48 <= len(array):
        _, kind, logical = struct.unpack_from("<QBQ", array, at)
        if kind != _CHUNK:
            raise Damaged("The superblock of the btrfs file system is broken.")
        chunk, size = _chunk(logical, array[at + 17 :], device)
        yield chunk
        at += 17 + size


def _chunk(logical: int, item: bytes, device: int) -> tuple[_Chunk, int]:
    """A chunk from its item, and the item's length."""
    if len(item) < 48:
        raise Damaged("A chunk of the btrfs file system is broken.")
    length, _, _, profile = struct.unpack_from("<4Q", item, 0)
    stripes = struct.unpack_from("<H", item, 44)[0]
    size = 48 + 32 * stripes
    if profile & _PROFILES not in (_PLAIN, _DOUBLE) or not 0 < stripes <= 2 or len(item) < size:
        raise Damaged("The btrfs file system has chunks over several devices.")
    rows = [struct.unpack_from("<QQ", item, 48 + 32 * n) for n in range(stripes)]
    if any(row[0] != device for row in rows):
        raise Damaged("The btrfs file system has chunks on another device.")
    return _Chunk(logical, length, tuple(row[1] for row in rows)), size
