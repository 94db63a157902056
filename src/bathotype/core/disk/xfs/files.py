"""The files of an XFS file system: its folders, what is in its files, their attributes, and where links lead.

Follows the on-disk format in the kernel's "XFS Algorithms & Data Structures", third edition; versions 4 and 5.
"""

from __future__ import annotations

import itertools
import struct
from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import dataclass
from typing import NamedTuple

from bathotype.core.disk.diskfile import DiskFile, Unreadable
from bathotype.core.disk.source import BlockSource
from bathotype.core.disk.xfs.blocks import Xfs, summed
from bathotype.core.errors import Damaged

_LOCAL, _EXTENTS, _TREE = 1, 2, 3
_REALTIME, _BIG_TIME, _BIG_COUNTS = 0x1, 0x8, 0x10
#: How a map's block begins: its magic, and how many bytes its head has.
_MAP_HEADS = {b"BMAP": 24, b"BMA3": 72}
_MOST_MAP, _MOST_LEVELS = 1 << 21, 9
#: A folder's names lie before this byte of it.
_NAMES_END = 32 << 30
_MOST_FOLDER, _MOST_LINK, _MOST_ATTRIBUTES = 1 << 30, 65536, 16 << 20
_FOLDER_HEADS = {b"XD2B": 16, b"XD2D": 16, b"XDB3": 64, b"XDD3": 64}
_WITH_INDEX = (b"XD2B", b"XDB3")
_ATTRIBUTE_HEADS = {0xFBEE: 32, 0x3BEE: 80}
_IN_LEAF, _OF_ROOT, _OF_SECURITY, _NOT_SHOWN = 0x01, 0x02, 0x04, 0x08 | 0x80
_PIECE, _MOST_PIECES, _MOST_KNOWN = 65536, 256, 4096


class _Run(NamedTuple):
    """Blocks of a file: the first one's number in it and in the file system, how many, whether they were written to."""

    logical: int
    start: int
    length: int
    written: bool


@dataclass(frozen=True)
class _Inode:
    """An inode as the disk holds it: what all see of it, and its two forks."""

    file: DiskFile
    form: int
    fork: bytes
    extents: int
    attribute_form: int
    attributes: bytes
    attribute_extents: int
    flags: int


class XfsFiles:
    """Every file of an XFS file system.  Raises `Damaged` when there is none, or one that is not understood."""

    def __init__(self, source: BlockSource) -> None:
        self._fs = fs = Xfs(source)
        head = source.read(0, 512)
        self._root = struct.unpack_from(">Q", head, 56)[0]
        self._inode_size, self._per_block = struct.unpack_from(">HH", head, 104)
        self._per_block_log, self._folder_log = head[123], head[192]
        sane = (
            self._inode_size in (256, 512, 1024, 2048)
            and self._per_block * self._inode_size == fs.block_size
            and 1 << self._per_block_log == self._per_block
            and self._folder_log <= 7
            and fs.block_size << self._folder_log <= 65536
        )
        if not sane:
            raise Damaged("The XFS superblock contradicts itself.")
        later, incompatible = struct.unpack_from(">I", head, 200)[0], struct.unpack_from(">I", head, 216)[0]
        #: Whether each name in a folder says of what kind its file is.
        self._with_kinds = bool(incompatible & 1 if fs.version == 5 else later & 0x200)
        self._pieces: dict[int, bytes] = {}
        self._known: dict[int, _Inode] = {}

    # Files

    def walk(self) -> Iterator[tuple[str, DiskFile]]:
        """``(absolute path, file)`` of everything, parents before children."""
        pending = [("/", self._inode(self._root))]
        seen: set[int] = set()
        while pending:
            path, inode = pending.pop()
            yield path, inode.file
            if not inode.file.is_dir or inode.file.number in seen:
                continue
            seen.add(inode.file.number)
            prefix = path.rstrip("/")
            names = sorted(self._names(inode), reverse=True)
            pending += [(f"{prefix}/{name}", self._inode(number)) for name, number in names]

    def find(self, path: str) -> DiskFile | None:
        """The file at an absolute path, following no links; None where there is none.  Raises `Damaged`."""
        inode = self._inode(self._root)
        for part in path.split("/"):
            if part:
                number = dict(self._names(inode)).get(part) if inode.file.is_dir else None
                if number is None:
                    return None
                inode = self._inode(number)
        return inode.file

    def names(self, folder: DiskFile) -> Iterator[str]:
        """The names in a folder.  Raises `Damaged`."""
        return (name for name, _ in self._names(self._inode(folder.number)))

    def read(self, file: DiskFile, *, most: int | None = None) -> bytes:
        """A file's bytes, or where a link leads; at most the first ``most``.  Raises `Damaged`."""
        inode = self._inode(file.number)
        length = file.size if most is None else min(file.size, most)
        if file.is_link:
            return self._target(inode)[:length]
        if inode.flags & _REALTIME:
            raise Unreadable("It lies on the file system's second device.")
        if length > self._fs.source.size:
            raise Damaged(f"Inode {file.number} of the XFS file system claims more bytes than there are.")
        return self._bytes(self._map(inode), 0, length)

    def attributes(self, file: DiskFile) -> dict[str, bytes]:
        """A file's extended attributes by their full names.  Raises `Damaged`."""
        inode = self._inode(file.number)
        if not inode.attributes:
            return {}
        if inode.attribute_form == _LOCAL:
            return dict(_short_attributes(inode.attributes))
        runs = self._runs(inode.attribute_form, inode.attributes, inode.attribute_extents)
        found: dict[str, bytes] = {}
        size = self._fs.block_size
        if sum(run.length for run in runs) * size > _MOST_ATTRIBUTES:
            raise Damaged(f"Inode {file.number} of the XFS file system has impossibly large attributes.")
        for run in runs:
            for number in range(run.length):
                block = self._fs.source.read((run.start + number) * size, size)
                found |= self._leaf_attributes(block, runs)
        return found

    # Inodes

    def _inode(self, number: int) -> _Inode:
        """An inode; those asked for last are kept, since each is asked for when it is found and when it is read."""
        found = self._known.pop(number, None) or self._parsed(number)
        self._known[number] = found
        if len(self._known) > _MOST_KNOWN:
            self._known.pop(next(iter(self._known)))
        return found

    def _parsed(self, number: int) -> _Inode:
        fs = self._fs
        inside = number & (self._per_block - 1)
        block = number >> self._per_block_log
        at = fs.place_of(block) + inside * self._inode_size
        raw = self._cached(at, self._inode_size)
        magic, mode, version, form = struct.unpack_from(">HHBB", raw, 0)
        if magic != 0x494E or version not in (2, 3) or (version == 3) != (fs.version == 5):
            raise Damaged(f"Inode {number} of the XFS file system is broken.")
        if version == 3:
            summed(raw, 100, f"inode {number}")
        uid, gid = struct.unpack_from(">II", raw, 8)
        size = struct.unpack_from(">Q", raw, 56)[0]
        extents, attribute_extents, fork_at, attribute_form = struct.unpack_from(">IHBB", raw, 76)
        flags = struct.unpack_from(">H", raw, 90)[0]
        later = struct.unpack_from(">Q", raw, 120)[0] if version == 3 else 0
        if later & _BIG_COUNTS:
            extents, attribute_extents = struct.unpack_from(">Q", raw, 24)[0], struct.unpack_from(">I", raw, 76)[0]
        if later & _BIG_TIME:
            mtime = struct.unpack_from(">Q", raw, 40)[0] // 10**9 - (1 << 31)
        else:
            mtime = struct.unpack_from(">i", raw, 40)[0]
        forks = raw[176 if version == 3 else 100 :]
        if fork_at * 8 > len(forks):
            raise Damaged(f"Inode {number} of the XFS file system is broken.")
        fork, attributes = (forks[: fork_at * 8], forks[fork_at * 8 :]) if fork_at else (forks, b"")
        file = DiskFile(number, mode, uid, gid, size, mtime)
        return _Inode(file, form, fork, extents, attribute_form, attributes, attribute_extents, flags)

    def _cached(self, at: int, length: int) -> bytes:
        """A few bytes; those around them, which are asked for next, are kept for a while."""
        start = at - at % _PIECE
        piece = self._pieces.get(start)
        if piece is None:
            piece = self._fs.source.read(start, min(_PIECE, self._fs.source.size - start))
            if len(self._pieces) >= _MOST_PIECES:
                self._pieces.pop(next(iter(self._pieces)))
            self._pieces[start] = piece
        return piece[at - start : at - start + length]

    # Maps

    def _map(self, inode: _Inode) -> list[_Run]:
        if inode.form not in (_EXTENTS, _TREE):
            raise Damaged(f"Inode {inode.file.number} of the XFS file system is broken.")
        return self._runs(inode.form, inode.fork, inode.extents)

    def _runs(self, form: int, fork: bytes, count: int) -> list[_Run]:
        """Where a fork's blocks lie, in the order in which they follow one another in the file."""
        if form == _EXTENTS:
            records = fork[: count * 16]
            if len(records) != count * 16:
                raise Damaged("A map of the XFS file system is broken.")
            found = list(self._records(records))
        elif form == _TREE:
            level, count = struct.unpack_from(">HH", fork, 0)
            pointers = 4 + (len(fork) - 4) // 16 * 8
            found, seen = [], set[int]()
            if not 0 < level < _MOST_LEVELS or pointers + count * 8 > len(fork):
                raise Damaged("A map of the XFS file system is broken.")
            for (child,) in struct.iter_unpack(">Q", fork[pointers : pointers + count * 8]):
                found += self._in_tree(child, level - 1, seen)
        else:
            raise Damaged("A map of the XFS file system is broken.")
        if any(b.logical < a.logical + a.length for a, b in itertools.pairwise(found)):
            raise Damaged("A map of the XFS file system is broken.")
        return found

    def _records(self, data: bytes) -> Iterator[_Run]:
        for high, low in struct.iter_unpack(">QQ", data):
            logical = (high & ~(1 << 63)) >> 9
            block, count = (high & 0x1FF) << 43 | low >> 21, low & 0x1FFFFF
            start = self._fs.block_number(block, count)
            yield _Run(logical, start, count, not high >> 63)

    def _in_tree(self, block: int, level: int, seen: set[int]) -> Iterator[_Run]:
        fs = self._fs
        if block in seen or len(seen) > _MOST_MAP:
            raise Damaged("A map of the XFS file system is broken.")
        seen.add(block)
        data = fs.source.read(fs.block_number(block, 1) * fs.block_size, fs.block_size)
        head = _MAP_HEADS.get(data[:4], 0)
        mine, count = struct.unpack_from(">HH", data, 4)
        if head != (72 if fs.version == 5 else 24) or mine != level or head + count * 16 > len(data):
            raise Damaged("A map of the XFS file system is broken.")
        if fs.version == 5:
            summed(data, 64, "map")
        if level == 0:
            yield from self._records(data[head : head + count * 16])
            return
        pointers = head + (len(data) - head) // 16 * 8
        for (child,) in struct.iter_unpack(">Q", data[pointers : pointers + count * 8]):
            yield from self._in_tree(child, level - 1, seen)

    def _bytes(self, runs: list[_Run], offset: int, length: int) -> bytes:
        """Bytes of a file; holes, and what was never written to, read as zeros."""
        size = self._fs.block_size
        out = bytearray(length)
        first = max(0, bisect_right(runs, offset // size, key=lambda run: run.logical) - 1)
        for run in runs[first:]:
            begin = run.logical * size
            if begin >= offset + length:
                break
            low, high = max(begin, offset), min(begin + run.length * size, offset + length)
            if run.written and low < high:
                data = self._fs.source.read(run.start * size + low - begin, high - low)
                out[low - offset : high - offset] = data
        return bytes(out)

    # Folders

    def _names(self, inode: _Inode) -> Iterator[tuple[str, int]]:
        """``(name, inode number)`` of a folder, but for ``.`` and ``..``."""
        if inode.form == _LOCAL:
            yield from self._short_names(inode)
            return
        if inode.file.size > _MOST_FOLDER:
            raise Damaged(f"Folder {inode.file.number} of the XFS file system is impossibly large.")
        runs, size = self._map(inode), self._fs.block_size << self._folder_log
        done, end = -1, min(inode.file.size, _NAMES_END)  # behind it lie indexes of the names
        for run in runs:
            begin = run.logical * self._fs.block_size
            for at in range(begin - begin % size, min(begin + run.length * self._fs.block_size, end), size):
                if at > done:
                    done = at
                    yield from self._names_in(self._bytes(runs, at, size))

    def _short_names(self, inode: _Inode) -> Iterator[tuple[str, int]]:
        data = inode.fork[: inode.file.size]
        if len(data) < 6:
            raise Damaged(f"Folder {inode.file.number} of the XFS file system is broken.")
        count, wide = data[0], bool(data[1])
        number_size, at = (8 if wide else 4), 2 + (8 if wide else 4)
        for _ in range(count):
            length = data[at] if at < len(data) else 0
            name = data[at + 3 : at + 3 + length]
            place = at + 3 + length + self._with_kinds
            number = data[place : place + number_size]
            if not length or len(number) != number_size:
                raise Damaged(f"Folder {inode.file.number} of the XFS file system is broken.")
            yield name.decode("utf-8", "surrogateescape"), int.from_bytes(number, "big")
            at = place + number_size

    def _names_in(self, data: bytes) -> Iterator[tuple[str, int]]:
        head = _FOLDER_HEADS.get(data[:4], 0)
        if head != (64 if self._fs.version == 5 else 16):
            raise Damaged("A folder of the XFS file system is broken.")
        if self._fs.version == 5:
            summed(data, 4, "folder")
        end = len(data)
        if data[:4] in _WITH_INDEX:
            end -= 8 + 8 * int(struct.unpack_from(">I", data, len(data) - 8)[0])
        at = head
        while at + 12 <= end:
            free, length = struct.unpack_from(">HH", data, at)
            if free == 0xFFFF:
                if length < 8 or length % 8:
                    raise Damaged("A folder of the XFS file system is broken.")
                at += length
                continue
            number, size = struct.unpack_from(">QB", data, at)
            name = data[at + 9 : at + 9 + size]
            if not size or at + 9 + size > end:
                raise Damaged("A folder of the XFS file system is broken.")
            if name not in (b".", b".."):
                yield name.decode("utf-8", "surrogateescape"), number
            at += -(-(11 + size + self._with_kinds) // 8) * 8

    # Links and attributes

    def _target(self, inode: _Inode) -> bytes:
        size = inode.file.size
        if inode.form == _LOCAL:
            return inode.fork[:size]
        if size > _MOST_LINK:
            raise Damaged(f"Link {inode.file.number} of the XFS file system is impossibly long.")
        return self._remote(self._map(inode), 0, size, b"XSLM")

    def _remote(self, runs: list[_Run], first: int, length: int, magic: bytes) -> bytes:
        """A value that lies in blocks of its own; from version 5 on each block has a head."""
        size = self._fs.block_size
        if self._fs.version != 5:
            return self._bytes(runs, first * size, length)
        out = bytearray()
        while len(out) < length:
            block = self._bytes(runs, first * size, size)
            if block[:4] != magic:
                raise Damaged("A value of the XFS file system is broken.")
            summed(block, 12, "value")
            out += block[56 : 56 + min(size - 56, length - len(out))]
            first += 1
        return bytes(out)

    def _leaf_attributes(self, block: bytes, runs: list[_Run]) -> dict[str, bytes]:
        head = _ATTRIBUTE_HEADS.get(int(struct.unpack_from(">H", block, 8)[0]), 0)
        if not head:
            return {}  # a node of the index, or a value
        if self._fs.version == 5:
            summed(block, 12, "leaf of attributes")
        found = {}
        count = struct.unpack_from(">H", block, head - (24 if head == 80 else 20))[0]
        if head + count * 8 > len(block):
            raise Damaged("A leaf of attributes of the XFS file system is broken.")
        for number in range(count):
            at, flags = struct.unpack_from(">HB", block, head + number * 8 + 4)
            if flags & _NOT_SHOWN:
                continue
            if at + (3 if flags & _IN_LEAF else 9) > len(block):
                raise Damaged("A leaf of attributes of the XFS file system is broken.")
            if flags & _IN_LEAF:
                length, size = struct.unpack_from(">HB", block, at)
                name = block[at + 3 : at + 3 + size]
                value = block[at + 3 + size : at + 3 + size + length]
            else:
                first, length, size = struct.unpack_from(">IIB", block, at)
                name = block[at + 9 : at + 9 + size]
                if length > _MOST_LINK:
                    raise Damaged("A leaf of attributes of the XFS file system is broken.")
                value = self._remote(runs, first, length, b"XARM")
            found[_full_name(name, flags)] = value
        return found


def _short_attributes(fork: bytes) -> Iterator[tuple[str, bytes]]:
    count, at = fork[2], 4
    for _ in range(count):
        if at + 3 > len(fork):
            raise Damaged("Attributes of an inode of the XFS file system are broken.")
        size, length, flags = fork[at], fork[at + 1], fork[at + 2]
        if not flags & _NOT_SHOWN:
            name = fork[at + 3 : at + 3 + size]
            yield _full_name(name, flags), fork[at + 3 + size : at + 3 + size + length]
        at += 3 + size + length


def _full_name(name: bytes, flags: int) -> str:
    space = "trusted" if flags & _OF_ROOT else "security" if flags & _OF_SECURITY else "user"
    return f"{space}.{name.decode('utf-8', 'surrogateescape')}"
