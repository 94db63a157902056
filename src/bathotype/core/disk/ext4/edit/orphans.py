"""Files that were removed while they were open, and files that were being made shorter: what the kernel does at a mount."""

from __future__ import annotations

import struct
from collections.abc import Iterator

from bathotype.core.disk.crc import raw_crc32c
from bathotype.core.disk.ext4.edit.contents import cut
from bathotype.core.disk.ext4.edit.release import Release
from bathotype.core.disk.ext4.edit.room import write_superblock
from bathotype.core.disk.ext4.filesystem import INLINE_DATA_FL
from bathotype.core.disk.ext4.superblock import ORPHAN_PRESENT
from bathotype.core.errors import Damaged

#: Places in the superblock; the state is in the upper half of its four bytes.
_STATE, _RO_COMPAT, _LAST_ORPHAN, _ORPHAN_FILE = 56, 100, 232, 640
_ORPHAN_FS = 4
_TAIL_MAGIC, _TAIL = 0x0B10CA04, 8


def let_go(release: Release) -> int:
    """Bring all of them to their end; returns how many there were."""
    fs = release.maps.fs
    numbers = list(_chained(release))
    in_file = list(_in_orphan_file(release)) if fs.ro_compat & ORPHAN_PRESENT else []
    for number in dict.fromkeys([*numbers, *in_file]):
        _end(release, number)
    if fs.has_orphans:
        state = fs.u32(_STATE) & ~(_ORPHAN_FS << 16)
        fields = {_STATE: state, _LAST_ORPHAN: 0, _RO_COMPAT: fs.ro_compat & ~ORPHAN_PRESENT}
        write_superblock(release.maps.draft, fields)
    return len(numbers) + len(in_file)


def _end(release: Release, number: int) -> None:
    maps = release.maps
    node = maps.inodes.get(number)
    if not maps.room.is_taken(number):
        raise Damaged(f"Inode {number} waits to be let go and is free.")
    node.set32(20, 0)
    if not node.links:
        release.inode(node)
        return
    seen = node.as_read
    if seen.is_file and not seen.flags & INLINE_DATA_FL:
        cut(maps, node, seen.size)
    maps.inodes.put(node)


def _chained(release: Release) -> Iterator[int]:
    """The list that begins in the superblock: each inode names the next where a time of deletion would be."""
    number, seen = release.maps.fs.u32(_LAST_ORPHAN), set()
    while number:
        if number in seen:
            raise Damaged("The list of files that wait to be let go is a circle.")
        seen.add(number)
        yield number
        number = release.maps.inodes.get(number).u32(20)


def _in_orphan_file(release: Release) -> Iterator[int]:
    """The file that newer file systems keep for it; its slots are emptied."""
    maps, fs = release.maps, release.maps.fs
    node = maps.inodes.get(fs.u32(_ORPHAN_FILE))
    for run in maps.runs(node):
        for place in range(run.start, run.start + run.length):
            data = bytearray(maps.draft.read(place * fs.block_size, fs.block_size))
            end = fs.block_size - _TAIL
            if struct.unpack_from("<I", data, end)[0] != _TAIL_MAGIC:
                raise Damaged("The file of files that wait to be let go is broken.")
            slots = [number for (number,) in struct.iter_unpack("<I", data[:end]) if number]
            if not slots:
                continue
            yield from slots
            data[:end] = bytes(end)
            if fs.checksummed:
                seed = raw_crc32c(maps.inodes.seed_of(node), struct.pack("<Q", place))
                struct.pack_into("<I", data, end + 4, raw_crc32c(seed, bytes(data[:end])))
            maps.draft.write(place * fs.block_size, bytes(data))
