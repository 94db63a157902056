"""Unpacking LZNT1, in which NTFS packs files.

Follows the published description ([MS-XCA], "LZNT1 Algorithm Details").
"""

from __future__ import annotations

import struct

from bathotype.core.errors import Damaged

_CHUNK = 4096
_PACKED, _LENGTH = 0x8000, 0x0FFF


def unpacked(data: bytes, length: int) -> bytes:
    """The first bytes of what was packed, filled with zeros to that length.  Raises `Damaged`."""
    out, at = bytearray(), 0
    while at + 2 <= len(data) and len(out) < length:
        head = struct.unpack_from("<H", data, at)[0]
        if not head:
            break
        end = at + 3 + (head & _LENGTH)
        if end > len(data):
            raise Damaged("A packed file of the NTFS file system is broken.")
        chunk = data[at + 2 : end]
        found = _chunk(chunk) if head & _PACKED else chunk
        out += found.ljust(_CHUNK, b"\0") if end + 2 <= len(data) and len(out) + _CHUNK <= length else found
        at = end
    return bytes(out[:length]).ljust(length, b"\0")


def _chunk(data: bytes) -> bytes:
    out, at = bytearray(), 0
    while at < len(data):
        flags, at = data[at], at + 1
        for bit in range(8):
            if at >= len(data):
                break
            if not flags >> bit & 1:
                out.append(data[at])
                at += 1
                continue
            if at + 2 > len(data) or not out:
                raise Damaged("A packed file of the NTFS file system is broken.")
            pair, at = data[at] | data[at + 1] << 8, at + 2
            # The further a chunk is unpacked, the more bits say how far back to look.
            wide = max(4, (len(out) - 1).bit_length())
            count, back = (pair & (0xFFFF >> wide)) + 3, (pair >> (16 - wide)) + 1
            if back > len(out) or len(out) + count > _CHUNK:
                raise Damaged("A packed file of the NTFS file system is broken.")
            if back >= count:
                out += out[len(out) - back : len(out) - back + count]
            else:
                out += (out[-back:] * (count // back + 1))[:count]
    return bytes(out)
