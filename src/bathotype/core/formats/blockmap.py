"""A disk that a file holds in blocks of one size, each somewhere in the file or nowhere."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import ByteSource, check_read
from bathotype.core.errors import Damaged

Places = npt.NDArray[np.int64]


class BlockMap:
    """``places`` are the offsets of the blocks in the file, -1 for one that is zero.  Raises `Damaged` for a block that lies
    beyond the file's end."""

    def __init__(self, file: ByteSource, size: int, block: int, places: Places, name: str) -> None:
        self._file, self._size, self._block, self._places = file, size, block, places
        last = np.minimum(block, size - np.arange(len(places), dtype=np.int64) * block)
        if ((places >= 0) & (places + last > file.size)).any():
            raise Damaged(
                f"A block of the {name} is outside the file.", advice="Fetch the file again: it is cut short."
            )

    @property
    def size(self) -> int:
        return self._size

    def read(self, offset: int, length: int) -> bytes:
        check_read(self._size, offset, length)
        out, end = bytearray(), offset + length
        while offset < end:
            number, inside = divmod(offset, self._block)
            most = min(self._block - inside, end - offset)
            place = int(self._places[number])
            out += bytes(most) if place < 0 else self._file.read(place + inside, most)
            offset += most
        return bytes(out)

    def allocated(self) -> Ranges:
        starts = np.flatnonzero(self._places >= 0).astype(np.int64) * self._block
        return Ranges.of_arrays(starts, np.minimum(starts + self._block, self._size))
