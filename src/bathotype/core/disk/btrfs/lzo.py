"""Unpacking LZO1X, as btrfs stores it.

Follows the description of the stream in the Linux kernel's documentation (``Documentation/staging/lzo.rst``), and btrfs's
own framing (``fs/btrfs/lzo.c``): a length of all, then for each page a length and a stream.
"""

from __future__ import annotations

import struct

from bathotype.core.errors import Damaged

_PAGE = 4096
_BROKEN = "A packed extent of the btrfs file system is broken."


def unpacked_extent(data: bytes, length: int, *, one_piece: bool) -> bytes:
    """The bytes of an extent, at most ``length``; ``one_piece`` is one that lies in its tree.  Raises `Damaged`."""
    if len(data) < 8:
        raise Damaged(_BROKEN)
    total, at, out = struct.unpack_from("<I", data)[0], 4, bytearray()
    while at + 4 <= min(total, len(data)) and len(out) < length:
        size = struct.unpack_from("<I", data, at)[0]
        piece = data[at + 4 : at + 4 + size]
        if len(piece) != size or not size:
            raise Damaged(_BROKEN)
        out += unpacked(piece, length - len(out) if one_piece else min(_PAGE, length - len(out)))
        at += 4 + size
        if at % _PAGE > _PAGE - 4:  # a length does not lie across two pages
            at += _PAGE - at % _PAGE
    return bytes(out)


class _Stream:
    """What is read of a packed stream."""

    def __init__(self, data: bytes) -> None:
        self._data, self._at = data, 0

    def byte(self) -> int:
        """The next byte."""
        if self._at >= len(self._data):
            raise Damaged(_BROKEN)
        self._at += 1
        return self._data[self._at - 1]

    def pair(self) -> int:
        """The next two bytes as a number."""
        return self.byte() | self.byte() << 8

    def bytes(self, count: int) -> bytes:
        """So many bytes as they are."""
        found = self._data[self._at : self._at + count]
        if len(found) != count:
            raise Damaged(_BROKEN)
        self._at += count
        return found

    def longer(self, least: int) -> int:
        """A length that did not fit its instruction."""
        zeros = 0
        while not (last := self.byte()):
            zeros += 1
        return least + 255 * zeros + last


def unpacked(data: bytes, most: int) -> bytes:
    """The bytes of one stream.  Raises `Damaged`, also where they are more than ``most``."""
    stream, out = _Stream(data), bytearray()
    #: How many bytes were copied as they are by the instruction before; 4 stands for more than three.
    before = 0
    first = data[0] if data else 0
    if first > 17:
        stream.byte()
        out += stream.bytes(first - 17)
        before = min(4, first - 17)
    while True:
        told = stream.byte()
        if told < 16 and not before:
            count = told + 3 if told else stream.longer(18)
            out += stream.bytes(count)
            before = 4
            if len(out) > most:
                raise Damaged(_BROKEN)
            continue
        if told < 16:
            after = told & 3
            back = (told >> 2) + (stream.byte() << 2) + 1
            count = 2
            if before == 4:
                back, count = back + 2048, 3
        elif told >= 64:
            after, count = told & 3, (told >> 5) + 1
            back = (told >> 2 & 7) + (stream.byte() << 3) + 1
        elif told >= 32:
            count = (told & 31) + 2 if told & 31 else stream.longer(33)
            pair = stream.pair()
            after, back = pair & 3, (pair >> 2) + 1
        else:
            count = (told & 7) + 2 if told & 7 else stream.longer(9)
            pair = stream.pair()
            after, back = pair & 3, (pair >> 2) + ((told & 8) << 11)
            if not back:
                return bytes(out)
            back += 16384
        if back > len(out) or len(out) + count > most:
            raise Damaged(_BROKEN)
        if back >= count:
            out += out[len(out) - back : len(out) - back + count]
        else:
            out += (out[-back:] * (count // back + 1))[:count]
        out += stream.bytes(after)
        before = after
        if len(out) > most:
            raise Damaged(_BROKEN)
