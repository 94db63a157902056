"""The disks of one machine as one source: one after another, each beginning at a whole chunk of 64 KiB.

So a version has one table of chunks whatever its number of disks, and its file systems are read, changed and scanned as
one guest's.  A source that holds several disks has an attribute ``disks``, their sizes in bytes, the boot disk's first.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource, Window, check_read, read_into
from bathotype.core.errors import Invalid

#: At what multiples a disk begins, in bytes.
ALIGNED = 64 * 1024
#: How many disks a machine may have.
MOST_DISKS = 16

Sizes = tuple[int, ...]


def begins(sizes: Sequence[int]) -> list[int]:
    """Where each disk begins."""
    found, at = [], 0
    for size in sizes:
        found.append(at)
        at += -(-size // ALIGNED) * ALIGNED
    return found


def total_size(sizes: Sequence[int]) -> int:
    """The bytes of all disks one after another."""
    return begins(sizes)[-1] + sizes[-1]


def disks_of(source: BlockSource) -> Sizes:
    """The sizes of the disks in a source; its own where it is one disk."""
    several: Sizes = getattr(source, "disks", ())
    return several or (source.size,)


def windows_of(source: BlockSource) -> list[Window]:
    """Each disk in a source by itself."""
    sizes = disks_of(source)
    return [Window(source, at, size) for at, size in zip(begins(sizes), sizes, strict=True)]


def role_of(number: int) -> str:
    """What a disk is in its version: ``boot``, ``data-1``, ``data-2`` and so on."""
    return f"data-{number}" if number else "boot"


def number_of(role: str | None) -> int:
    """The number of the disk with a role; the boot disk's where none is named.  Raises `Invalid`."""
    kind, _, number = (role or "boot").partition("-")
    if kind == "boot" and not number:
        return 0
    if kind == "data" and number.isascii() and number.isdigit() and 0 < int(number[:4]) < MOST_DISKS:
        return int(number)
    raise Invalid(f"{role!r} is no role of a disk.", advice="The roles are boot, data-1, data-2 and so on.")


@dataclass(frozen=True)
class Several:
    """Disks read as one.  What lies between two of them reads as zeros."""

    parts: tuple[BlockSource, ...]

    @cached_property
    def disks(self) -> Sizes:
        """Their sizes."""
        return tuple(part.size for part in self.parts)

    @cached_property
    def _begins(self) -> list[int]:
        return begins(self.disks)

    @property
    def size(self) -> int:
        return self._begins[-1] + self.disks[-1]

    def read(self, offset: int, length: int) -> bytes:
        out = bytearray(length)
        self.read_into(offset, memoryview(out))
        return bytes(out)

    def read_into(self, offset: int, view: memoryview) -> None:
        """Fill ``view`` from ``offset``."""
        check_read(self.size, offset, len(view))
        end, filled = offset + len(view), offset
        for begin, part in zip(self._begins, self.parts, strict=True):
            first, last = max(offset, begin), min(end, begin + part.size)
            if first < last:
                view[filled - offset : first - offset] = bytes(first - filled)
                read_into(part, first - begin, view[first - offset : last - offset])
                filled = last
        view[filled - offset :] = bytes(end - filled)

    def allocated(self) -> Ranges:
        first, *others = (p.allocated().shift(at) for at, p in zip(self._begins, self.parts, strict=True))
        return first.union(*others)

    def changed(self) -> Ranges | None:
        """What the boot disk's server reports as changed, and the whole of every disk whose server reports nothing; None
        where the boot disk's reports nothing."""
        told = [getattr(part, "changed", lambda: None)() for part in self.parts]
        if told[0] is None:
            return None
        found = [
            (Ranges.of([(0, part.size)]) if changed is None else changed).shift(at)
            for at, part, changed in zip(self._begins, self.parts, told, strict=True)
        ]
        return found[0].union(*found[1:])
