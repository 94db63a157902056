"""The names in one piece of a folder: a block, or a part of the folder's inode.

A piece is a chain of entries, each as long as it says, that fills it to its end.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from typing import NamedTuple

from bathotype.core.errors import Damaged

#: A checksum at a block's end, which is disguised as an entry.
TAIL = 12
_TAIL_HEAD = struct.pack("<IHBB", 0, TAIL, 0, 0xDE)
_HEAD = 8
#: A block of 64 KiB is longer than two bytes can say.
_WHOLE = 65535


class DirectoryEntry(NamedTuple):
    """One entry: where it begins in its piece, how long it is, the inode (0: none) and the name."""

    at: int
    length: int
    inode: int
    name: bytes


def entries_of(data: bytes | bytearray, start: int, end: int) -> Iterator[DirectoryEntry]:
    """The entries from ``start`` to ``end``.  Raises `Damaged` where the chain is broken."""
    at = start
    while at < end:
        if at + _HEAD > end:
            raise Damaged("A folder's entries are broken.")
        inode, length, name_length = struct.unpack_from("<IHB", data, at)
        if length in (0, _WHOLE):
            length = end - at
        if length < _HEAD or length % 4 or at + length > end or _HEAD + name_length > length:
            raise Damaged("A folder's entries are broken.")
        yield DirectoryEntry(at, length, inode, bytes(data[at + _HEAD : at + _HEAD + name_length]))
        at += length


def put(data: bytearray, at: int, length: int, inode: int, name: bytes, kind: int) -> None:
    """Write an entry; the rest of its length is zeros."""
    data[at : at + length] = bytes(length)
    struct.pack_into("<IHBB", data, at, inode, length if length <= _WHOLE else _WHOLE, len(name), kind)
    data[at + _HEAD : at + _HEAD + len(name)] = name


def needed(name: bytes) -> int:
    """Bytes that an entry takes."""
    return (_HEAD + len(name) + 3) & ~3


def take_out(data: bytearray, start: int, end: int, name: bytes) -> bool:
    """Remove a name; nothing of it is left.  False where it is not there."""
    before: DirectoryEntry | None = None
    for entry in entries_of(data, start, end):
        if entry.inode and entry.name == name:
            if before is None:
                put(data, entry.at, entry.length, 0, b"", 0)
            else:
                data[entry.at : entry.at + entry.length] = bytes(entry.length)
                struct.pack_into("<H", data, before.at + 4, min(before.length + entry.length, _WHOLE))
            return True
        before = entry
    return False


def put_in(data: bytearray, start: int, end: int, name: bytes, inode: int, kind: int) -> bool:
    """Add a name where an entry leaves room for it.  False where none does."""
    wanted = needed(name)
    for entry in entries_of(data, start, end):
        own = needed(entry.name) if entry.inode else 0
        if entry.length - own < wanted:
            continue
        if own:
            struct.pack_into("<H", data, entry.at + 4, own)
        put(data, entry.at + own, entry.length - own, inode, name, kind)
        return True
    return False


def filled(size: int, entries: list[tuple[bytes, int, int]], *, tail: bool) -> bytearray:
    """A block with these ``(name, inode, kind)``, the last as long as what is left."""
    data, at = bytearray(size), 0
    end = size - TAIL * tail
    for position, (name, inode, kind) in enumerate(entries):
        length = needed(name) if position + 1 < len(entries) else end - at
        put(data, at, length, inode, name, kind)
        at += length
    if not entries:
        put(data, 0, end, 0, b"", 0)
    if tail:
        data[end : end + _HEAD] = _TAIL_HEAD
    return data


def has_tail(data: bytes | bytearray) -> bool:
    """Whether a block ends with a checksum."""
    return bytes(data[-TAIL : -TAIL + _HEAD]) == _TAIL_HEAD
