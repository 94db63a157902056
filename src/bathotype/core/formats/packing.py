"""How the blocks of a disk are compressed into a file: lengths that are known first, bytes that are made later."""

from __future__ import annotations

import zlib
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np

from bathotype.core.disk.source import BlockSource
from bathotype.core.formats.laidout import UNIT, Indices, Progress, measure, present
from bathotype.core.store.chunks import CHUNK, compress
from bathotype.core.store.materialise import StoredDisk


class Packing(Protocol):
    """Compressed blocks of 64 KiB, ascending by ``index``; ``encode`` gives the same bytes each time."""

    @property
    def index(self) -> Indices:
        """Numbers of the blocks."""
        ...

    @property
    def lengths(self) -> Indices:
        """Compressed length of each."""
        ...

    def encode(self, block: int, data: bytes | None) -> bytes:
        """The compressed bytes of a block; a packing that does not need its plain bytes takes None."""
        ...

    @property
    def needs_data(self) -> bool:
        """Whether ``encode`` needs the plain bytes."""
        ...


@dataclass(frozen=True)
class Measured:
    """Blocks compressed anew: once to learn the lengths, once more when they are read."""

    index: Indices
    lengths: Indices
    compress: Callable[[bytes], bytes]
    needs_data: bool = True

    @classmethod
    def of(cls, disk: BlockSource, compress: Callable[[bytes], bytes], progress: Progress) -> Measured:
        """Compress every present block of a disk to learn its length."""
        index = present(disk, UNIT)
        lengths = measure(disk, index, UNIT, lambda _, data: compress(data), progress)
        return cls(index, lengths, compress)

    def encode(self, block: int, data: bytes | None) -> bytes:
        assert data is not None
        return self.compress(data)


@dataclass(frozen=True)
class StoredFrames:
    """The frames of a stored version, as they lie in its packs: nothing is compressed again.

    Each is unpacked and checked by digest before it is handed out.
    """

    disk: StoredDisk
    needs_data: bool = False
    _last: dict[int, bytes] = field(default_factory=dict)

    def __post_init__(self) -> None:
        size = self.disk.size
        if size % CHUNK and len(self.index) and int(self.index[-1]) == size // CHUNK:
            # The last chunk of a disk may be short; a block of an image never is.
            last = int(self.index[-1])
            data = self.disk.read(last * CHUNK, size - last * CHUNK)
            self._last[last] = compress(data.ljust(CHUNK, b"\0"))

    @property
    def index(self) -> Indices:
        return self.disk.manifest.index

    @property
    def lengths(self) -> Indices:
        lengths = self.disk.manifest.length.astype(np.int64)
        for frame in self._last.values():
            lengths[-1] = len(frame)
        return lengths

    def encode(self, block: int, data: bytes | None) -> bytes:
        return self._last.get(block) or self.disk.frame(block)


def deflated(data: bytes) -> bytes:
    """A zlib stream (RFC 1950) at the fastest level."""
    return zlib.compress(data, 1)
