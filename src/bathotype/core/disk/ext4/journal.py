"""The journal of ext3 and ext4, as the kernel replays it, without changing the disk: a view of the file system in which
what waits in the journal has been written.

Follows the kernel's documentation (``Documentation/filesystems/ext4/journal.rst``) and its order of passes: scan, revoke,
replay; every kind of checksum; revoked blocks; escaped blocks.  Fast commits and journals on other devices cannot be
replayed here; the error says so.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from bathotype.core.disk.crc import raw_crc32c
from bathotype.core.disk.ext4.filesystem import JOURNAL_INODE, Ext4
from bathotype.core.disk.ext4.superblock import METADATA_CSUM
from bathotype.core.disk.overlay import Overlay
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Damaged

_MAGIC = 0xC03B3998
_DESCRIPTOR, _COMMIT, _SUPER_V1, _SUPER_V2, _REVOKE = 1, 2, 3, 4, 5
_ESCAPED, _SAME_UUID, _LAST = 1, 2, 8
_COMPAT_CHECKSUM = 1
_REVOKES, _64BIT, _ASYNC_COMMIT, _CSUM_V2, _CSUM_V3, _FAST_COMMIT = 1, 2, 4, 8, 16, 32
_KNOWN = _REVOKES | _64BIT | _ASYNC_COMMIT | _CSUM_V2 | _CSUM_V3 | _FAST_COMMIT
_FC_HEAD = 9
#: Of a journal: 8 GiB in blocks of 4 KiB.  It bounds memory to some hundred MiB.
_MOST_BLOCKS = 1 << 21
#: A byte with its bits in reverse: by it zlib, which takes the lowest bit first, computes the kernel's `crc32_be`.
_REVERSED = bytes(int(f"{byte:08b}"[::-1], 2) for byte in range(256))


class CannotReplay(Damaged):
    """What waits in a journal cannot be replayed here; the message says why."""

    code = "journal-waits"


@dataclass(frozen=True)
class _Tag:
    target: int
    flags: int
    checksum: int


def replayed(fs: Ext4) -> BlockSource:
    """The file system's blocks as they are once its journal has been replayed; the source itself where nothing waits.

    Raises `CannotReplay` where something waits that cannot be replayed here, and `Damaged` where the journal is broken.
    """
    if not fs.needs_recovery:
        return fs.source
    return _Replay(fs).view()


class _Replay:
    def __init__(self, fs: Ext4) -> None:
        self.fs, self.size = fs, fs.block_size
        if fs.journal_inode != JOURNAL_INODE:
            raise CannotReplay("The journal is on another device.")
        self._place = self._places()
        head = self._read(0)
        magic, kind = struct.unpack_from(">II", head, 0)
        if magic != _MAGIC or kind not in (_SUPER_V1, _SUPER_V2):
            raise CannotReplay("The journal has no superblock.")
        block_size, length, self.first, self.sequence, self.start = struct.unpack_from(">IIIII", head, 12)
        self.compat, self.incompat = struct.unpack_from(">II", head, 36) if kind == _SUPER_V2 else (0, 0)
        if block_size != self.size or not self.first < length <= len(self._place):
            raise CannotReplay("The journal's superblock contradicts the file system.")
        if self.incompat & ~_KNOWN:
            raise CannotReplay(f"The journal has features that are not known here ({self.incompat & ~_KNOWN:#x}).")
        self.head = head
        self.checked = bool(self.incompat & (_CSUM_V2 | _CSUM_V3))
        self.seed = raw_crc32c(0xFFFFFFFF, head[48:64])
        if self.checked and not self._sound(head[:1024], 252):
            raise CannotReplay("The checksum of the journal's superblock is wrong.")
        fast = 0
        if self.incompat & _FAST_COMMIT:
            fast = struct.unpack_from(">I", head, 84)[0] or 256
        self.last = length - fast
        if self.last <= self.first or not (self.start == 0 or self.first <= self.start < self.last):
            raise CannotReplay("The journal's superblock contradicts itself.")

    # Blocks of the journal

    def _places(self) -> npt.NDArray[np.int64]:
        """The block of the file system in which each block of the journal lies."""
        inode = self.fs.inode(JOURNAL_INODE)
        count = inode.size // self.size
        if count > _MOST_BLOCKS or count * self.size > self.fs.source.size:
            raise CannotReplay(f"The journal has {count} blocks, which is more than can be looked at.")
        places = np.zeros(count, np.int64)
        for logical, start, length, _ in self.fs.extents(inode):
            if logical + length <= count:
                places[logical : logical + length] = np.arange(start, start + length)
        return places

    def _read(self, block: int) -> bytes:
        place = int(self._place[block]) if block < len(self._place) else 0
        if not place:
            raise CannotReplay("The journal has holes.")
        return self.fs.source.read(place * self.size, self.size)

    def _after(self, block: int, count: int = 1) -> int:
        return int(self.first + (block - self.first + count) % (self.last - self.first))

    def _sound(self, block: bytes, at: int) -> bool:
        """Whether a block's checksum, at a place, is right."""
        told = struct.unpack_from(">I", block, at)[0]
        return bool(raw_crc32c(self.seed if at != 252 else 0xFFFFFFFF, block[:at] + bytes(4) + block[at + 4 :]) == told)

    # Passes

    def view(self) -> BlockSource:
        ends, revoked = self._scan()
        moved: dict[int, tuple[int, bool]] = {}
        for sequence, block, tags in self._transactions(ends):
            at = block
            for tag in tags:
                at = self._after(at)
                if revoked.get(tag.target, -1) >= sequence:
                    continue
                if not 0 <= tag.target < self.fs.block_count:
                    raise CannotReplay(f"The journal names block {tag.target}, outside the file system.")
                if self.checked and not self._tag_sound(tag, sequence, at):
                    raise CannotReplay(f"The journal's copy of block {tag.target} is damaged.")
                moved[tag.target] = (int(self._place[at]), bool(tag.flags & _ESCAPED))
        targets = sorted(moved)
        overlay = Overlay(
            self.fs.source,
            self.size,
            np.array(targets, np.int64),
            np.array([moved[t][0] for t in targets], np.int64),
            frozenset(t for t in targets if moved[t][1]),
            struct.pack(">I", _MAGIC),
        )
        return self._settled(overlay, ends)

    def _scan(self) -> tuple[int, dict[int, int]]:
        """The number of the first transaction that is not whole, and until which one each revoked block is."""
        if self.start == 0:
            return self.sequence, {}
        revoked: dict[int, int] = {}
        found: dict[int, int] = {}
        at, sequence, summed = self.start, self.sequence, 0xFFFFFFFF
        for _ in range(self.last - self.first):
            block = self._read(at)
            magic, kind, number = struct.unpack_from(">III", block, 0)
            if magic != _MAGIC or number != sequence:
                break
            if kind == _DESCRIPTOR:
                if self.checked and not self._sound(block, self.size - 4):
                    break
                count = len(self._tags(block))
                if self.compat & _COMPAT_CHECKSUM and not self.checked:
                    summed = self._summed(summed, block, at, count)
                at = self._after(at, count + 1)
            elif kind == _COMMIT:
                if not self._committed(block, summed):
                    break
                for target, number in found.items():
                    revoked[target] = max(revoked.get(target, -1), number)
                found, summed = {}, 0xFFFFFFFF
                sequence = (sequence + 1) & 0xFFFFFFFF
                at = self._after(at)
            elif kind == _REVOKE:
                if self.checked and not self._sound(block, self.size - 4):
                    break
                found |= dict.fromkeys(self._revocations(block), sequence)
                at = self._after(at)
            else:
                break
        self._no_fast_commit(sequence)
        return sequence, revoked

    def _transactions(self, ends: int) -> Iterator[tuple[int, int, list[_Tag]]]:
        """``(sequence, block of the descriptor, tags)`` of all that is replayed, in order."""
        at, sequence = self.start, self.sequence
        while sequence != ends:
            block = self._read(at)
            kind = struct.unpack_from(">I", block, 4)[0]
            if kind == _DESCRIPTOR:
                tags = self._tags(block)
                yield sequence, at, tags
                at = self._after(at, len(tags) + 1)
            else:
                sequence = (sequence + 1) & 0xFFFFFFFF if kind == _COMMIT else sequence
                at = self._after(at)

    # What blocks say

    def _tags(self, block: bytes) -> list[_Tag]:
        wide = bool(self.incompat & _64BIT)
        length = 16 if self.incompat & _CSUM_V3 else 8 + 2 * bool(self.incompat & _CSUM_V2) + 4 * wide
        tags, at, end = [], 12, self.size - 4 * self.checked
        while at + length <= end:
            if self.incompat & _CSUM_V3:
                low, flags, high, checksum = struct.unpack_from(">IIII", block, at)
            else:
                low, checksum, flags = struct.unpack_from(">IHH", block, at)
                high = struct.unpack_from(">I", block, at + 8)[0] if wide else 0
            tags.append(_Tag(low | (high << 32 if wide else 0), flags, checksum))
            at += length + (0 if flags & _SAME_UUID else 16)
            if flags & _LAST:
                break
        return tags

    def _revocations(self, block: bytes) -> list[int]:
        used = min(struct.unpack_from(">I", block, 12)[0], self.size - 4 * self.checked)
        width = 8 if self.incompat & _64BIT else 4
        count = max(0, used - 16) // width
        return list(struct.unpack_from(f">{count}{'Q' if width == 8 else 'I'}", block, 16))

    def _tag_sound(self, tag: _Tag, sequence: int, at: int) -> bool:
        data = self._read(at)
        checksum = raw_crc32c(raw_crc32c(self.seed, struct.pack(">I", sequence)), data)
        return checksum == tag.checksum if self.incompat & _CSUM_V3 else checksum & 0xFFFF == tag.checksum

    def _committed(self, block: bytes, summed: int) -> bool:
        if self.checked:
            return self._sound(block, 16)
        if self.compat & _COMPAT_CHECKSUM:
            kind, length, told = block[12], block[13], struct.unpack_from(">I", block, 16)[0]
            if (kind, length) == (1, 4):
                return bool(told == summed)
            return not kind and not length and not told  # written without one
        return True

    def _summed(self, before: int, block: bytes, at: int, count: int) -> int:
        for number in range(count + 1):
            data = block if number == 0 else self._read(self._after(at, number))
            before = _crc32_be(before, data)
        return before

    def _no_fast_commit(self, sequence: int) -> None:
        """Raise where a fast commit would be replayed after the transaction that is whole."""
        if not self.incompat & _FAST_COMMIT:
            return
        # The block behind the last one that commits use stays free.
        tag, length, _, number = struct.unpack_from("<HHII", self._read(self.last + 1), 0)
        if tag == _FC_HEAD and length >= 8 and number == sequence:
            raise CannotReplay("Fast commits wait in the journal.")

    # The end

    def _settled(self, view: Overlay, ends: int) -> Overlay:
        """With superblocks that say that nothing waits, and with the free counts that the groups give."""
        block = bytearray(view.read(1024, 1024))
        struct.pack_into("<I", block, 96, struct.unpack_from("<I", block, 96)[0] & ~0x4)
        after = Ext4(view.with_pieces({1024: _summed_up(block)}))
        blocks, inodes = after.free_counts()
        if blocks > after.block_count or inodes > after.inode_count:
            raise CannotReplay("The journal leaves more free blocks or inodes than there are.")
        struct.pack_into("<I", block, 12, blocks & 0xFFFFFFFF)
        if after.wide:
            struct.pack_into("<I", block, 344, blocks >> 32)
        struct.pack_into("<I", block, 16, inodes)
        journal = bytearray(self.head[:1024])
        struct.pack_into(">II", journal, 24, (ends + 1) & 0xFFFFFFFF, 0)
        if self.checked:
            struct.pack_into(">I", journal, 252, 0)
            struct.pack_into(">I", journal, 252, raw_crc32c(0xFFFFFFFF, bytes(journal)))
        return view.with_pieces({1024: _summed_up(block), int(self._place[0]) * self.size: bytes(journal)})


def _summed_up(superblock: bytearray) -> bytes:
    """A superblock with its checksum, where it has one."""
    if struct.unpack_from("<I", superblock, 100)[0] & METADATA_CSUM:
        struct.pack_into("<I", superblock, 1020, raw_crc32c(0xFFFFFFFF, bytes(superblock[:1020])))
    return bytes(superblock)


def _crc32_be(seed: int, data: bytes) -> int:
    """CRC-32 with the highest bit first and without inversions, as the kernel has it."""
    start = int(f"{seed:032b}"[::-1], 2)
    reflected = zlib.crc32(data.translate(_REVERSED), start ^ 0xFFFFFFFF) ^ 0xFFFFFFFF
    return int(f"{reflected:032b}"[::-1], 2)
