"""Image files that were packed as a whole: gzip (RFC 1952), xz, bzip2 and Zstandard (RFC 8878), unpacked in a stream."""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import zlib
from collections.abc import Callable, Iterator
from typing import Protocol

import zstandard

from bathotype.core.disk.fileobject import as_file
from bathotype.core.disk.source import ByteSource
from bathotype.core.errors import Damaged, Refused
from bathotype.core.units import iec

_PIECE, _GIVEN = 4 * 1024 * 1024, 4096
#: The largest window that a Zstandard frame may ask for: what its own tool accepts by default.
_MOST_WINDOW = 1 << 27


_File = io.BufferedReader | io.BytesIO


class Readable(Protocol):
    """What is unpacked while it is read."""

    def read(self, size: int, /) -> bytes: ...


class _Zstd:
    """Frames one after another.  Few bytes are given at once: each may become thirty thousand."""

    def __init__(self, file: _File) -> None:
        self._file, self._opened = file, zstandard.ZstdDecompressor(max_window_size=_MOST_WINDOW)
        self._frame, self._left, self._ready = self._opened.decompressobj(), b"", io.BytesIO()
        self._within = True

    def read(self, size: int, /) -> bytes:
        while not (out := self._ready.read(size)):
            given = self._left or self._file.read(_GIVEN)
            self._left = b""
            if not given:
                if self._within:
                    raise EOFError("it ends within a frame")
                return b""
            if self._frame.eof:
                self._frame = self._opened.decompressobj()
            self._ready = io.BytesIO(self._frame.decompress(given))
            self._within = not self._frame.eof
            if self._frame.eof:
                self._left = self._frame.unused_data
        return out


_KINDS: dict[str, tuple[bytes, Callable[[_File], Readable]]] = {
    "gzip": (b"\x1f\x8b\x08", lambda file: gzip.GzipFile(fileobj=file)),
    "xz": (b"\xfd7zXZ\0", lzma.LZMAFile),
    "bzip2": (b"BZh", bz2.BZ2File),
    "zstd": (b"\x28\xb5\x2f\xfd", _Zstd),
}


def packing_of(file: ByteSource) -> str | None:
    """How a file is packed, None where it is not."""
    return packing_shown(file.read(0, min(file.size, 16)))


def packing_shown(head: bytes) -> str | None:
    """How a file with these first bytes is packed, None where it is not."""
    return next((name for name, (magic, _) in _KINDS.items() if head.startswith(magic)), None)


def opened(file: _File, packing: str) -> Readable:
    """A packed file, to be read unpacked.  Reading raises one of `BROKEN` where it is broken or breaks off."""
    return _KINDS[packing][1](file)


#: What the libraries raise for files that are broken.
BROKEN = (OSError, EOFError, ValueError, zlib.error, lzma.LZMAError, zstandard.ZstdError)


def unpacked(file: ByteSource, packing: str, most: int) -> Iterator[bytes]:
    """The bytes of a packed file, piece by piece.

    Raises `Damaged` for one that is broken or breaks off, and `Refused` for one that holds more than ``most`` bytes.
    """
    done = 0
    try:
        reader = opened(as_file(file), packing)
        while piece := reader.read(_PIECE):
            done += len(piece)
            if done > most:
                raise Refused(
                    f"The file holds more than {iec(most)} once it is unpacked.",
                    advice="The site takes no disk of that size.",
                    code="import-refused",
                )
            yield piece
    except BROKEN as error:
        raise Damaged(f"The file is packed with {packing} and cannot be unpacked to its end: {error}.") from error
