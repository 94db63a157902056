"""Where blocks are read from: files, windows of another source, and masks that hide unused blocks."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from bathotype.core.disk.ranges import Ranges
from bathotype.core.errors import Damaged


class BlockSource(Protocol):
    """Random access to the bytes of a disk."""

    @property
    def size(self) -> int:
        """Length of the disk in bytes."""
        ...

    def read(self, offset: int, length: int) -> bytes:
        """Exactly ``length`` bytes from ``offset``.  Raises `Damaged` beyond the end."""
        ...

    def allocated(self) -> Ranges:
        """Ranges that may hold anything but zeros, as far as the source knows."""
        ...


def check_read(size: int, offset: int, length: int) -> None:
    """Raise `Damaged` for a read that is not inside a disk of ``size`` bytes."""
    if offset < 0 or length < 0 or offset + length > size:
        raise Damaged(f"Read of {length} bytes at {offset} is beyond the disk.")


def read_into(source: BlockSource, offset: int, view: memoryview) -> None:
    """Fill ``view`` from ``offset``; without a copy where the source can (it has a ``read_into`` of its own)."""
    direct = getattr(source, "read_into", None)
    if direct is not None:
        direct(offset, view)
    else:
        view[:] = source.read(offset, len(view))


#: A file's bytes are read the same way as a disk's; the name says that they are not the disk itself.
ByteSource = BlockSource


class FileSource:
    """A raw disk image in a local file."""

    def __init__(self, path: Path, *, writable: bool = False, disks: tuple[int, ...] = ()) -> None:
        """``disks`` are the sizes of the disks in it, where it holds several (`core.disk.several`)."""
        self.path, self.disks = path, disks
        self._fd = os.open(path, os.O_RDWR if writable else os.O_RDONLY)
        self._size = os.fstat(self._fd).st_size

    @classmethod
    def opened(cls, descriptor: int, disks: tuple[int, ...] = ()) -> FileSource:
        """A file that somebody else has opened, and closes; it has no path."""
        source = cls.__new__(cls)
        source.disks = disks
        source.path, source._fd, source._size = Path(), descriptor, os.fstat(descriptor).st_size
        return source

    @property
    def size(self) -> int:
        return self._size

    @property
    def descriptor(self) -> int:
        """The open file's number in this process."""
        return self._fd

    def read(self, offset: int, length: int) -> bytes:
        data = os.pread(self._fd, length, offset)
        while len(data) < length:
            more = os.pread(self._fd, length - len(data), offset + len(data))
            if not more:
                raise Damaged(f"{self.path.name}: read of {length} bytes at {offset} is beyond the end.")
            data += more
        return data

    def read_into(self, offset: int, view: memoryview) -> None:
        """Fill ``view`` from ``offset``.  Raises `Damaged` beyond the end."""
        while view:
            got = os.preadv(self._fd, [view], offset)
            if not got:
                raise Damaged(f"{self.path.name}: read of {len(view)} bytes at {offset} is beyond the end.")
            view, offset = view[got:], offset + got

    def write(self, offset: int, data: bytes) -> None:
        """Write all of ``data`` at ``offset``."""
        view = memoryview(data)
        while view:
            done = os.pwrite(self._fd, view, offset)
            view, offset = view[done:], offset + done

    def write_pieces(self, offset: int, pieces: Sequence[bytes]) -> None:
        """Write all pieces one after another from ``offset``."""
        if os.pwritev(self._fd, pieces, offset) != sum(map(len, pieces)):  # cut short: by a signal, or a full disk
            for piece in pieces:
                self.write(offset, piece)
                offset += len(piece)

    def flush(self) -> None:
        """Make what was written durable."""
        os.fsync(self._fd)

    def allocated(self) -> Ranges:
        return Ranges.of(self._data_extents())

    def _data_extents(self) -> Iterator[tuple[int, int]]:
        position = 0
        while position < self._size:
            try:
                start = os.lseek(self._fd, position, os.SEEK_DATA)
            except OSError:  # ENXIO: only a hole is left
                return
            position = os.lseek(self._fd, start, os.SEEK_HOLE)
            yield start, position

    def close(self) -> None:
        """Release the file."""
        os.close(self._fd)


@contextmanager
def open_file(path: Path, *, writable: bool = False, disks: tuple[int, ...] = ()) -> Iterator[FileSource]:
    """A `FileSource` that is closed at the end of the block."""
    source = FileSource(path, writable=writable, disks=disks)
    try:
        yield source
    finally:
        source.close()


@dataclass(frozen=True)
class Window:
    """A part of another source, such as one partition of a disk."""

    base: BlockSource
    start: int
    size: int

    def read(self, offset: int, length: int) -> bytes:
        if offset < 0 or offset + length > self.size:
            raise Damaged(f"Read of {length} bytes at {offset} is beyond a window of {self.size} bytes.")
        return self.base.read(self.start + offset, length)

    def allocated(self) -> Ranges:
        inside = self.base.allocated().within(self.start, self.start + self.size)
        return Ranges.of(inside).shift(-self.start)


@dataclass(frozen=True)
class Masked:
    """A source that reads as zeros outside ``visible``: unused blocks never leave the disk."""

    base: BlockSource
    visible: Ranges

    @property
    def size(self) -> int:
        return self.base.size

    @property
    def disks(self) -> tuple[int, ...]:
        """The sizes of the disks, where there are several."""
        return getattr(self.base, "disks", ())

    def read(self, offset: int, length: int) -> bytes:
        parts = self.visible.within(offset, offset + length)
        if not parts:
            return bytes(length)
        if parts == [(offset, offset + length)]:
            return self.base.read(offset, length)
        first, last = parts[0][0], parts[-1][1]
        raw = self.base.read(first, last - first)
        out = bytearray(length)
        for start, end in parts:
            out[start - offset : end - offset] = raw[start - first : end - first]
        return bytes(out)

    def read_into(self, offset: int, view: memoryview) -> None:
        """Fill ``view``; what is not visible becomes zeros.  One read brings all that is visible: where it is a
        network's round trip, that is cheaper than a request for each piece."""
        parts = self.visible.within(offset, offset + len(view))
        if parts:
            read_into(self.base, parts[0][0], view[parts[0][0] - offset : parts[-1][1] - offset])
        position = offset
        for start, end in [*parts, (offset + len(view), 0)]:
            if start > position:
                view[position - offset : start - offset] = bytes(start - position)
            position = end

    def allocated(self) -> Ranges:
        return self.visible
