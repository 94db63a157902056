"""A disk, or an image file, as a file object that libraries read."""

from __future__ import annotations

import io

from bathotype.core.disk.source import BlockSource


def as_file(disk: BlockSource, buffer: int = 1024 * 1024) -> io.BufferedReader:
    """Its bytes from the first to the last; it can be sought in."""
    return io.BufferedReader(_Reader(disk), buffer)  # type: ignore[arg-type]


class _Reader(io.RawIOBase):
    """A disk as a file."""

    def __init__(self, disk: BlockSource) -> None:
        self._disk, self._at = disk, 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = 0) -> int:
        self._at = {0: 0, 1: self._at, 2: self._disk.size}[whence] + offset
        return self._at

    def tell(self) -> int:
        return self._at

    def readinto(self, buffer: bytearray) -> int:  # type: ignore[override]
        length = min(len(buffer), max(0, self._disk.size - self._at))
        buffer[:length] = self._disk.read(self._at, length) if length else b""
        self._at += length
        return length
