"""Changed blocks that are not on the disk yet."""

from __future__ import annotations

from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import FileSource, check_read
from bathotype.core.disk.stretch import Stretch

#: Bytes of changed blocks that are held back.  More are written at once: the copy that is edited is of no use before the end.
_MOST_HELD = 128 * 1024 * 1024


class Draft:
    """A part of a raw image as it will be.  Reads see the changes; the image does before `flush` only where there are many."""

    def __init__(self, image: FileSource, stretch: Stretch, block_size: int) -> None:
        self._image, self._stretch, self._size, self._block = image, stretch, stretch.length, block_size
        self._below = stretch.within(image)
        self._changed: dict[int, bytearray] = {}

    @property
    def size(self) -> int:
        return self._size

    def read(self, offset: int, length: int) -> bytes:
        """As a source of blocks does."""
        check_read(self._size, offset, length)
        first, inside = divmod(offset, self._block)
        if inside + length <= self._block and (held := self._changed.get(first)) is not None:
            return bytes(held[inside : inside + length])
        data = self._below.read(offset, length)
        last = (offset + length - 1) // self._block
        touched = [n for n in range(first, last + 1) if n in self._changed] if self._changed else []
        if not touched:
            return data
        out = bytearray(data)
        for number in touched:
            at = number * self._block
            begin, end = max(at, offset), min(at + self._block, offset + length)
            out[begin - offset : end - offset] = self._changed[number][begin - at : end - at]
        return bytes(out)

    def write(self, offset: int, data: bytes) -> None:
        """Change bytes anywhere."""
        check_read(self._size, offset, len(data))
        done = 0
        while done < len(data):
            number, inside = divmod(offset + done, self._block)
            piece = data[done : done + self._block - inside]
            if len(piece) == self._block:
                self._changed[number] = bytearray(piece)
            else:
                self._held(number)[inside : inside + len(piece)] = piece
            done += len(piece)
        if len(self._changed) * self._block > _MOST_HELD:
            self.flush()

    def _held(self, number: int) -> bytearray:
        held = self._changed.get(number)
        if held is None:
            at = number * self._block
            held = bytearray(self._below.read(at, min(self._block, self._size - at)))
            self._changed[number] = held
        return held

    def flush(self) -> None:
        """Write what was changed to the image, in order of place."""
        for number in sorted(self._changed):
            self._stretch.write(self._image, number * self._block, bytes(self._changed[number]))
        self._changed.clear()

    def allocated(self) -> Ranges:
        size = self._block
        changed = Ranges.of((n * size, min((n + 1) * size, self._size)) for n in sorted(self._changed))
        return self._below.allocated().union(changed)
