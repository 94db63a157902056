"""CRC-32C as ext4 and its journal use it."""

from __future__ import annotations

from crc32c import crc32c


def raw_crc32c(seed: int, data: bytes) -> int:
    """CRC-32C begun with ``seed``, without the final inversion."""
    return crc32c(data, seed ^ 0xFFFFFFFF) ^ 0xFFFFFFFF
