"""Chunks: fixed 64 KiB pieces aligned to the disk, named by their BLAKE3 digest, compressed with zstd.

The formats are documented in docs/store-format.md.
"""

from __future__ import annotations

import threading

import zstandard
from blake3 import blake3

CHUNK = 64 * 1024
DIGEST = 32
LEVEL = 1

_local = threading.local()


def digest(data: bytes | memoryview) -> bytes:
    """BLAKE3-256 of the bytes."""
    return blake3(data).digest()


def compress(data: bytes | memoryview) -> bytes:
    """One zstd frame (RFC 8878).  Compressors are kept per thread, since building one costs more than a chunk."""
    compressor = getattr(_local, "compressor", None)
    if compressor is None:
        compressor = _local.compressor = zstandard.ZstdCompressor(level=LEVEL)
    return bytes(compressor.compress(data))


def decompress(frame: bytes | memoryview) -> bytes:
    """The bytes of one chunk.  Raises ``zstandard.ZstdError`` for a broken frame."""
    decompressor = getattr(_local, "decompressor", None)
    if decompressor is None:
        decompressor = _local.decompressor = zstandard.ZstdDecompressor()
    return bytes(decompressor.decompress(frame, max_output_size=CHUNK))
