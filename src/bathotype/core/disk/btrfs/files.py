"""The files of a btrfs file system: its subvolumes, their folders, what is in their files, attributes and links.

Follows the on-disk format in btrfs's developer documentation.
"""

from __future__ import annotations

import struct
import zlib
from bisect import bisect_left, bisect_right
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

import zstandard

from bathotype.core.disk.btrfs.blocks import HEADER, ITEM, POINTER, Btrfs, Key, item_at
from bathotype.core.disk.btrfs.lzo import unpacked_extent
from bathotype.core.disk.diskfile import DiskFile, Unreadable
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Damaged

#: The subvolume that holds all others, and the number of a subvolume's top folder in it.
TOP, _FOLDER = 5, 256
_LAST, _HIGHEST = (1 << 64) - 257, (1 << 64) - 1
_TREES_FOLDER, _HASHED_NAME = 6, 84
_INODE, _NAMED_IN, _ATTRIBUTE, _NAME, _EXTENT, _ROOT, _ROOT_REFERENCE = 1, 12, 24, 96, 108, 132, 156
_INLINE, _REGULAR, _PREALLOCATED = 0, 1, 2
_PLAIN, _ZLIB, _LZO, _ZSTD = 0, 1, 2, 3
_MOST_PACKED, _MOST_LINK, _MOST_CACHED, _MOST_DEPTH = 1 << 20, 65536, 256, 64


@dataclass(frozen=True)
class Subvolume:
    """A tree of files of its own: its number, where its root is, the subvolume that holds it, its path there, and from the
    top."""

    number: int
    root: int
    parent: int
    inside: str
    path: str


class BtrfsFiles:
    """Every subvolume of a btrfs file system.  Raises `Damaged` when there is none, or one that is not understood."""

    def __init__(self, source: BlockSource) -> None:
        self._fs = Btrfs(source)
        self._blocks: dict[int, tuple[bytes, list[Key], int]] = {}

    @cached_property
    def subvolumes(self) -> dict[int, Subvolume]:
        """All of them by their numbers, what holds others before what it holds."""
        roots, references = {}, {}
        for (number, kind, offset), item in self._fs.roots():
            if kind == _ROOT and len(item) >= 239:
                roots[number] = int(struct.unpack_from("<Q", item, 176)[0])
            elif kind == _ROOT_REFERENCE and len(item) >= 18:
                folder, _, size = struct.unpack_from("<QQH", item, 0)
                references[offset] = (number, folder, item[18 : 18 + size].decode("utf-8", "surrogateescape"))
        if TOP not in roots:
            raise Damaged("The btrfs file system has no top subvolume.")
        found = {TOP: Subvolume(TOP, roots[TOP], 0, "/", "/")}
        for _ in range(_MOST_DEPTH):  # a round for each level in which subvolumes lie in others
            more = {n: r for n, r in references.items() if n not in found and r[0] in found and n in roots}
            if not more:
                break
            for number, (parent, folder, name) in sorted(more.items()):
                inside = f"{self.of(found[parent]).path_of(folder)}/{name}"
                path = f"{found[parent].path.rstrip('/')}{inside}"
                found[number] = Subvolume(number, roots[number], parent, inside, path)
        return found

    @cached_property
    def default(self) -> int:
        """The number of the subvolume that is mounted where none is named."""
        for (number, kind, _), item in self._fs.roots():
            if (number, kind) == (_TREES_FOLDER, _HASHED_NAME):
                for (target, _, _), name, _ in _named(item):
                    if name == b"default":
                        return target
        return TOP

    def of(self, subvolume: Subvolume) -> SubvolumeFiles:
        """The files of one subvolume."""
        return SubvolumeFiles(self, subvolume)

    # Trees

    def items(self, root: int, low: Key, high: Key) -> Iterator[tuple[Key, bytes]]:
        """The items of a tree from one key to another, both among them."""
        return self._below(root, None, low, high, set())

    def _below(
        self, logical: int, level: int | None, low: Key, high: Key, seen: set[int]
    ) -> Iterator[tuple[Key, bytes]]:
        block, keys, mine = self._block(logical)
        if logical in seen or level not in (None, mine):
            raise Damaged("A tree of the btrfs file system is broken.")
        seen.add(logical)
        if not mine:
            for n in range(bisect_left(keys, low), bisect_right(keys, high)):
                yield item_at(block, n)
            return
        for n in range(max(0, bisect_right(keys, low) - 1), bisect_right(keys, high)):
            below = struct.unpack_from("<Q", block, HEADER + n * POINTER + 17)[0]
            yield from self._below(below, mine - 1, low, high, seen)

    def _block(self, logical: int) -> tuple[bytes, list[Key], int]:
        """A tree's block, its keys, and its level; those asked for last are kept."""
        found = self._blocks.pop(logical, None)
        if found is None:
            block, count, level = self._fs.block(logical)
            width = POINTER if level else ITEM
            keys = [struct.unpack_from("<QBQ", block, HEADER + n * width) for n in range(count)]
            found = block, keys, level
        self._blocks[logical] = found
        if len(self._blocks) > _MOST_CACHED:
            self._blocks.pop(next(iter(self._blocks)))
        return found

    # Data

    def extent(self, item: bytes) -> tuple[int, bytes | tuple[int, int]]:
        """How many bytes of a file an item is about, and what they are: the bytes, or where they lie (address, length;
        address 0 where they are zeros)."""
        if len(item) < 21:
            raise Damaged("An extent of the btrfs file system is broken.")
        unpacked, packing, secret, other, kind = struct.unpack_from("<QBBHB", item, 8)
        if secret or other:
            raise Unreadable("It is encrypted.")
        if kind == _INLINE:
            data = item[21:]
            return unpacked, _unpacked(packing, data, unpacked, inline=True)[:unpacked]
        if kind not in (_REGULAR, _PREALLOCATED) or len(item) < 53:
            raise Damaged("An extent of the btrfs file system is broken.")
        at, stored, begin, length = struct.unpack_from("<4Q", item, 21)
        if not at or kind == _PREALLOCATED:
            return length, (0, length)
        if packing == _PLAIN:
            return length, (at + begin, length)
        if unpacked > _MOST_PACKED or stored > _MOST_PACKED or begin + length > unpacked:
            raise Damaged("An extent of the btrfs file system is broken.")
        data = _unpacked(packing, self._fs.read(at, stored), unpacked, inline=False)
        return length, data[begin : begin + length]

    def plain(self, at: int, length: int) -> bytes:
        """Bytes by their address."""
        return self._fs.read(at, length)

    @property
    def size(self) -> int:
        """Bytes of the device."""
        return self._fs.source.size


class SubvolumeFiles:
    """The files of one subvolume.  A subvolume in it is an empty folder."""

    def __init__(self, fs: BtrfsFiles, subvolume: Subvolume) -> None:
        self._fs, self.subvolume = fs, subvolume
        self._attributes: dict[int, dict[str, bytes]] = {}

    def _items(self, number: int, kind: int, first: int = 0, last: int = _HIGHEST) -> Iterator[tuple[int, bytes]]:
        found = self._fs.items(self.subvolume.root, (number, kind, first), (number, kind, last))
        return ((key[2], item) for key, item in found)

    def path_of(self, folder: int) -> str:
        """The path of a folder by its number; empty for the top."""
        parts: list[str] = []
        while folder != _FOLDER:
            above = next(self._items(folder, _NAMED_IN), None)
            if above is None or len(above[1]) < 10 or len(parts) > _MOST_DEPTH:
                raise Damaged("A folder of the btrfs file system is in no other.")
            folder, item = above
            parts.append(item[10 : 10 + struct.unpack_from("<H", item, 8)[0]].decode("utf-8", "surrogateescape"))
        return "".join(f"/{part}" for part in reversed(parts))

    def find(self, path: str) -> DiskFile | None:
        """The file at an absolute path, following no links; None where there is none.  Raises `Damaged`."""
        at = _FOLDER
        for part in path.split("/"):
            if part:
                at = next((number for name, number in self._children(at) if name == part), 0)
        item = next((item for _, item in self._items(at, _INODE)), b"") if at > 0 else b""
        return _inode(at, item) if len(item) >= 160 else None

    def names(self, folder: DiskFile) -> Iterator[str]:
        """The names in a folder.  Raises `Damaged`."""
        return (name for name, _ in self._children(folder.number))

    def _children(self, folder: int) -> Iterator[tuple[str, int]]:
        return (row for _, item in self._items(folder, _NAME) for row in _children(item))

    def walk(self) -> Iterator[tuple[str, DiskFile]]:
        """``(absolute path, file)`` of everything, parents before children.  Their attributes are kept meanwhile."""
        inodes: dict[int, DiskFile] = {}
        children: dict[int, list[tuple[str, int]]] = {}
        for (number, kind, _), item in self._fs.items(self.subvolume.root, (_FOLDER, 0, 0), (_LAST, 255, _HIGHEST)):
            if kind == _INODE and len(item) >= 160:
                inodes[number] = _inode(number, item)
            elif kind == _NAME:
                children.setdefault(number, []).extend(_children(item))
            elif kind == _ATTRIBUTE:
                held = self._attributes.setdefault(number, {})
                held |= {name.decode("utf-8", "surrogateescape"): value for _, name, value in _named(item)}
        if _FOLDER not in inodes:
            raise Damaged("A subvolume of the btrfs file system has no top folder.")
        pending = [("/", _FOLDER)]
        seen: set[int] = set()
        while pending:
            path, number = pending.pop()
            if number < 0:
                yield path, DiskFile(number, 0o40755, 0, 0, 0, 0)
                continue
            file = inodes.get(number)
            if file is None:
                raise Damaged(f"A folder of the btrfs file system names inode {number}, which is not there.")
            yield path, file
            if file.is_dir and number not in seen:
                seen.add(number)
                prefix = path.rstrip("/")
                pending += [
                    (f"{prefix}/{name}", child) for name, child in sorted(children.get(number, []), reverse=True)
                ]

    def read(self, file: DiskFile, *, most: int | None = None) -> bytes:
        """A file's bytes, or where a link leads; at most the first ``most``.  Raises `Damaged`."""
        length = file.size if most is None else min(file.size, most)
        if file.is_dir or not length:
            return b""
        if length > max(self._fs.size, _MOST_LINK):
            raise Damaged(f"Inode {file.number} of the btrfs file system claims more bytes than there are.")
        out = bytearray(length)
        for at, item in self._items(file.number, _EXTENT, 0, length - 1):
            if at >= length:
                continue
            count, held = self._fs.extent(item)
            count = min(count, length - at)
            if isinstance(held, tuple):
                held = self._fs.plain(held[0], count) if held[0] else bytes(count)
            out[at : at + len(held[:count])] = held[:count]
        return bytes(out)

    def attributes(self, file: DiskFile) -> dict[str, bytes]:
        """A file's extended attributes by their full names, of files that `walk` has shown."""
        return self._attributes.get(file.number, {})


def _inode(number: int, item: bytes) -> DiskFile:
    size = struct.unpack_from("<Q", item, 16)[0]
    uid, gid, mode = struct.unpack_from("<III", item, 44)
    mtime = struct.unpack_from("<q", item, 136)[0]
    return DiskFile(number, mode & 0xFFFF, uid, gid, size, mtime)


def _children(item: bytes) -> Iterator[tuple[str, int]]:
    """``(name, inode number)`` of what is in a folder; of a subvolume its own number, below 0."""
    for (number, kind, _), name, _ in _named(item):
        yield name.decode("utf-8", "surrogateescape"), number if kind == _INODE else -number


def _named(item: bytes) -> Iterator[tuple[Key, bytes, bytes]]:
    """What an item names: a key, a name, a value; of names with one hash there may be several in it."""
    at = 0
    while at + 30 <= len(item):
        number, kind, offset, _, length, size, _ = struct.unpack_from("<QBQQHHB", item, at)
        end = at + 30 + size + length
        if end > len(item) or not size:
            raise Damaged("A name of the btrfs file system is broken.")
        yield (number, kind, offset), item[at + 30 : at + 30 + size], item[at + 30 + size : end]
        at = end


def _unpacked(packing: int, data: bytes, length: int, *, inline: bool) -> bytes:
    if packing == _PLAIN:
        return data
    if length > _MOST_PACKED:
        raise Damaged("An extent of the btrfs file system is broken.")
    try:
        if packing == _ZLIB:
            found = zlib.decompressobj().decompress(data, length)
        elif packing == _ZSTD:
            with zstandard.ZstdDecompressor().stream_reader(data, read_across_frames=False) as reader:
                found = reader.read(length)
        elif packing == _LZO:
            found = unpacked_extent(data, length, one_piece=inline)
        else:
            raise Unreadable("It is packed in a way that is not known here.")
    except (zlib.error, zstandard.ZstdError) as error:
        raise Damaged(f"An extent of the btrfs file system cannot be unpacked: {error}.") from error
    return found.ljust(length, b"\0")
