"""Packs: immutable files of many compressed chunks, named by the digest of the whole file.

Layout (docs/store-format.md): magic, frames back to back, index of (digest, offset, length), index length.
"""

from __future__ import annotations

import struct

from blake3 import blake3

from bathotype.core.errors import Damaged
from bathotype.core.store.chunks import DIGEST

_MAGIC = b"BATHOPK1"
_ROW = struct.Struct("<32sQI")

#: Bytes of a pack besides its frames: magic numbers and count, and one index row a frame.
PACK_OVERHEAD, ROW_SIZE = 2 * len(_MAGIC) + 4, _ROW.size

#: A pack is sealed when it reaches this many bytes.
PACK_TARGET = 16 * 1024 * 1024


class PackBuilder:
    """One pack being filled, in memory: its size is bounded by `PACK_TARGET` and one chunk."""

    def __init__(self) -> None:
        self._data = bytearray(_MAGIC)
        self._rows: list[tuple[bytes, int, int]] = []

    def add(self, digest: bytes, frame: bytes) -> tuple[int, int]:
        """Append a frame; returns its ``(offset, length)``."""
        offset = len(self._data)
        self._data += frame
        self._rows.append((digest, offset, len(frame)))
        return offset, len(frame)

    @property
    def full(self) -> bool:
        """Whether it is time to seal it."""
        return len(self._data) >= PACK_TARGET

    def __len__(self) -> int:
        return len(self._rows)

    def seal(self) -> tuple[str, bytearray]:
        """``(name, bytes)`` of the finished pack; the builder is of no further use."""
        for row in self._rows:
            self._data += _ROW.pack(*row)
        self._data += struct.pack("<I", len(self._rows)) + _MAGIC
        return blake3(self._data).hexdigest(), self._data


def read_pack_index(data: bytes | bytearray) -> list[tuple[bytes, int, int]]:
    """``(digest, offset, length)`` of every frame.  Raises `Damaged` for anything but a whole pack."""
    if len(data) < 20 or data[:8] != _MAGIC or data[-8:] != _MAGIC:
        raise Damaged("This is not a whole pack.")
    count = struct.unpack_from("<I", data, len(data) - 12)[0]
    start = len(data) - 12 - count * _ROW.size
    if start < 8:
        raise Damaged("A pack's index is longer than the pack.")
    rows = [_ROW.unpack_from(data, start + i * _ROW.size) for i in range(count)]
    if any(offset < 8 or offset + length > start or len(name) != DIGEST for name, offset, length in rows):
        raise Damaged("A pack's index points outside the pack.")
    return rows
