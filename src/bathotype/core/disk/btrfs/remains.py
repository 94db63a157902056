"""What removed files leave in a btrfs file system's tree blocks, and the bytes that blank it.

A small file's bytes lie in the tree itself; removing it leaves them in the gap between a leaf's items and its data.
Follows the on-disk format in btrfs's developer documentation.  Tree blocks are found by their header and checksum
wherever they lie, so that no tree has to be walked; one that a later block of its tree replaced becomes zeros.
"""

from __future__ import annotations

import bisect
import itertools
import struct
from collections import defaultdict
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from bathotype.core.disk.btrfs.blocks import SUMS
from bathotype.core.disk.source import BlockSource

_SUPER_AT, _MAGIC = 65536, b"_BHRfS_M"
_METADATA_UUID = 1 << 10
_HEADER, _ITEM, _POINTER = 101, 25, 33
_FIRST_SUBVOLUME, _LAST_SUBVOLUME = 256, 1 << 63
_PIECE = 4 * 1024 * 1024

Summed = Callable[[bytes], bytes]


def blanking(volume: BlockSource) -> Iterator[tuple[int, bytes]]:
    """``(byte offset, bytes)`` to be written so that no gap in a tree block holds anything; nothing at all where the
    file system uses a kind of checksum that is not known."""
    if volume.size < _SUPER_AT + 4096:
        return
    head = volume.read(_SUPER_AT, 4096)
    summed = SUMS.get(struct.unpack_from("<H", head, 196)[0])
    if head[64:72] != _MAGIC or summed is None:
        return
    size = struct.unpack_from("<I", head, 148)[0]
    if size not in (4096, 8192, 16384, 32768, 65536):
        return
    flags = struct.unpack_from("<Q", head, 188)[0]
    owner = head[571:587] if flags & _METADATA_UUID else head[32:48]
    found: list[_Block] = []
    for at, block in _blocks(volume, size, owner):
        parsed = _parsed(at, block, summed)
        if parsed is not None:
            found.append(parsed)
    stale = _stale(found)
    for at, block in _blocks(volume, size, owner):
        blanked = bytes(size) if at in stale else _blanked(block, summed)
        if blanked is not None and blanked != block:
            yield at, blanked


def _blocks(volume: BlockSource, size: int, owner: bytes) -> Iterator[tuple[int, bytes]]:
    """Whatever has the header of one of the file system's tree blocks."""
    for start, end in volume.allocated():
        low = start - start % size
        for at in range(low, end, _PIECE):
            data = volume.read(at, min(_PIECE, volume.size - at, -(-(end - at) // size) * size))
            for inside in range(0, len(data) - size + 1, size):
                if data[inside + 32 : inside + 48] == owner:
                    yield at + inside, data[inside : inside + size]


_Key = tuple[int, int, int]


@dataclass(frozen=True)
class _Block:
    """A sound tree block: its place, its tree and level, when it was written, and the keys that it spans."""

    at: int
    tree: int
    level: int
    generation: int
    first: _Key
    last: _Key


def _is_sound(block: bytes, summed: Summed) -> bool:
    told = summed(block[32:])
    return block[: len(told)] == told


def _parsed(at: int, block: bytes, summed: Summed) -> _Block | None:
    generation, tree, count, level = struct.unpack_from("<QQIB", block, 80)
    width = _POINTER if level else _ITEM
    if not count or _HEADER + count * width > len(block):
        return None
    if not _is_sound(block, summed):
        return None
    first, last = (_key(block, _HEADER + n * width) for n in (0, count - 1))
    return _Block(at, tree, level, generation, first, last) if first <= last else None


def _key(block: bytes, at: int) -> _Key:
    number, kind, offset = struct.unpack_from("<QBQ", block, at)
    return number, kind, offset


def _stale(blocks: list[_Block]) -> set[int]:
    """Blocks that a later one of the same tree and level overlaps.

    Blocks of a tree that are live at one time span keys apart from each other, and a block that was replaced never
    comes back: so an overlap proves the older one dead.  Not where subvolumes may share blocks.
    """
    if any(block.tree >= _FIRST_SUBVOLUME and block.tree < _LAST_SUBVOLUME for block in blocks):
        return set()
    found: set[int] = set()
    groups: dict[tuple[int, int], list[_Block]] = defaultdict(list)
    for block in blocks:
        groups[block.tree, block.level].append(block)
    for group in groups.values():
        newer: list[tuple[_Key, _Key]] = []  # what later generations span, merged
        for _, same in itertools.groupby(sorted(group, key=lambda b: -b.generation), key=lambda b: b.generation):
            together = list(same)
            firsts = [first for first, _ in newer]
            for block in together:
                place = bisect.bisect_right(firsts, block.last) - 1
                if place >= 0 and newer[place][1] >= block.first:
                    found.add(block.at)
            newer = _merged([*newer, *((b.first, b.last) for b in together)])
    return found


def _merged(spans: list[tuple[_Key, _Key]]) -> list[tuple[_Key, _Key]]:
    out: list[tuple[_Key, _Key]] = []
    for first, last in sorted(spans):
        if out and first <= out[-1][1]:
            out[-1] = (out[-1][0], max(out[-1][1], last))
        else:
            out.append((first, last))
    return out


def _blanked(block: bytes, summed: Summed) -> bytes | None:
    """A tree block without anything in its gap, and its checksum made right; None where it is no sound one."""
    if not _is_sound(block, summed):
        return None
    count, level = struct.unpack_from("<IB", block, 96)
    width = _POINTER if level else _ITEM
    low, high = _HEADER + count * width, len(block)
    if low > len(block):
        return None
    if not level and count:
        high = _HEADER + min(struct.unpack_from("<I", block, _HEADER + n * _ITEM + 17)[0] for n in range(count))
    if high < low or high > len(block):
        return None
    out = bytearray(block)
    out[low:high] = bytes(high - low)
    told = summed(bytes(out[32:]))
    out[: len(told)] = told
    return bytes(out)
