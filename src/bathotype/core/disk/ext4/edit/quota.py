"""Quotas: what users, groups and projects use, counted again and written to the file system's own files for it.

The files are of the format that Linux calls "vfsv1" (``quota-tools``, and ``fs/quota/quota_tree.c`` of the kernel): blocks of
1 KiB, of which some are a tree of identities and some hold 14 records each.
"""

from __future__ import annotations

import struct
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np

from bathotype.core.disk.ext4.attributes import block_of, in_block, in_inode
from bathotype.core.disk.ext4.edit import contents
from bathotype.core.disk.ext4.edit.maps import Maps
from bathotype.core.disk.ext4.filesystem import EA_INODE_FL, ROOT_INODE, Ext4
from bathotype.core.disk.ext4.superblock import EA_INODE, QUOTA
from bathotype.core.errors import Damaged

_BLOCK, _DEPTH, _FAN_OUT = 1024, 4, 256
_RECORD = struct.Struct("<II8Q")
_LEAF_HEAD, _A_LEAF = 16, (1024 - 16) // 72
#: Magic, version, and times of grace; then the numbers of blocks in all, of a free one, and of one with room.
_HEAD, _ROOT = 20, 1
_MAGICS = (0xD9C01F11, 0xD9C01927, 0xD9C03F14)
#: Where the superblock names the files of users, groups and projects.
_PLACES = (576, 580, 620)
_MOST_BYTES = 256 * 1024 * 1024
_HUGE_FILE_FL = 0x40000


@dataclass
class Usage:
    """What one identity may use and does: limits of inodes and blocks, then times of grace."""

    inodes: int = 0
    space: int = 0
    limits: list[int] = field(default_factory=lambda: [0, 0, 0, 0])
    grace: list[int] = field(default_factory=lambda: [0, 0])


def recount(maps: Maps) -> None:
    """Write what is used now to the quota files, where the file system has them.  Limits stay as they are."""
    fs = maps.fs
    numbers = [fs.u32(at) for at in _PLACES] if fs.ro_compat & QUOTA else []
    if not any(numbers):
        return
    counted = count(Ext4(maps.draft), set(numbers))
    for kind, number in enumerate(numbers):
        if number:
            node = maps.inodes.get(number)
            before = fs.read(node.as_read, most=_MOST_BYTES)
            head, known = read_file(before, _MAGICS[kind])
            for identity, used in counted[kind].items():
                one = known.setdefault(identity, Usage())
                one.inodes, one.space = used.inodes, used.space
            for identity in set(known) - set(counted[kind]):
                known[identity].inodes = known[identity].space = 0
            contents.replace(maps, node, written_file(head, known))


def count(fs: Ext4, quota_files: set[int]) -> list[dict[int, Usage]]:
    """What each user, group and project uses."""
    found: list[dict[int, Usage]] = [defaultdict(Usage), defaultdict(Usage), defaultdict(Usage)]
    first = max(11, fs.u32(84) if fs.u32(76) else 11)
    for index, (_, table, _) in fs.numbered_tables():
        base = index * fs.inodes_per_group
        rows = np.frombuffer(table, np.uint8).reshape(-1, fs.inode_size)
        live = np.flatnonzero((rows[:, 26] | rows[:, 27]) != 0)
        for slot in live.tolist():
            number = base + slot + 1
            if (number < first and number != ROOT_INODE) or number in quota_files:
                continue
            raw = rows[slot].tobytes()
            _add(fs, raw, found)
    return [dict(kind) for kind in found]


def _add(fs: Ext4, raw: bytes, found: list[dict[int, Usage]]) -> None:
    flags = struct.unpack_from("<I", raw, 32)[0]
    if flags & EA_INODE_FL:
        return  # those who refer to it pay for it
    unit = fs.block_size if flags & _HUGE_FILE_FL else 512
    space = (struct.unpack_from("<I", raw, 28)[0] | struct.unpack_from("<H", raw, 116)[0] << 32) * unit
    low, high = struct.unpack_from("<H", raw, 2)[0], struct.unpack_from("<H", raw, 120)[0]
    group_low, group_high = struct.unpack_from("<H", raw, 24)[0], struct.unpack_from("<H", raw, 122)[0]
    wide = len(raw) > 128 and struct.unpack_from("<H", raw, 128)[0] >= 32
    project = struct.unpack_from("<I", raw, 156)[0] if wide else 0
    inodes = 1
    if fs.incompat & EA_INODE:
        held = in_inode(raw)
        if block := block_of(raw):
            held += in_block(fs.blocks(block, 1))
        inodes += sum(1 for one in held if one.inode)
    for kind, identity in enumerate((low | high << 16, group_low | group_high << 16, project)):
        found[kind][identity].inodes += inodes
        found[kind][identity].space += space


def read_file(data: bytes, magic: int) -> tuple[bytes, dict[int, Usage]]:
    """A quota file's head, and its records.  Raises `Damaged` for anything else."""
    if len(data) < 2 * _BLOCK or struct.unpack_from("<II", data, 0) != (magic, 1):
        raise Damaged("A quota file is of a format that is not known here.")
    return data[:_HEAD], dict(_records(data))


def _records(data: bytes) -> Iterator[tuple[int, Usage]]:
    seen: set[int] = set()
    level = [_ROOT]
    for _ in range(_DEPTH):
        below = []
        for block in level:
            if (block + 1) * _BLOCK > len(data):
                raise Damaged("A quota file is broken.")
            below += [n for (n,) in struct.iter_unpack("<I", data[block * _BLOCK : (block + 1) * _BLOCK]) if n]
        level = list(dict.fromkeys(below))
        if len(level) * _BLOCK > len(data) or seen & set(level):
            raise Damaged("A quota file is broken.")
        seen |= set(level)
    for block in level:
        leaf = data[block * _BLOCK : (block + 1) * _BLOCK]
        if len(leaf) < _BLOCK:
            raise Damaged("A quota file is broken.")
        for at in range(_LEAF_HEAD, _LEAF_HEAD + _A_LEAF * _RECORD.size, _RECORD.size):
            if any(leaf[at : at + _RECORD.size]):
                identity, _, ih, isoft, inodes, bh, bsoft, space, bgrace, igrace = _RECORD.unpack_from(leaf, at)
                yield identity, Usage(inodes, space, [ih, isoft, bh, bsoft], [bgrace, igrace])


def written_file(head: bytes, known: dict[int, Usage]) -> bytes:
    """A whole quota file; records without use and limits are left out, but for the first identity."""
    kept = {i: u for i, u in sorted(known.items()) if i == 0 or u.inodes or u.space or any(u.limits)}
    blocks: list[bytearray] = [bytearray(_BLOCK), bytearray(_BLOCK)]

    def new() -> int:
        blocks.append(bytearray(_BLOCK))
        return len(blocks) - 1

    leaf, filled = 0, _A_LEAF
    for identity, usage in kept.items():
        if filled == _A_LEAF:
            leaf, filled = new(), 0
        _put_record(blocks[leaf], filled, identity, usage)
        filled += 1
        struct.pack_into("<H", blocks[leaf], 8, filled)
        block = _ROOT
        for depth in range(_DEPTH):
            slot = (identity >> 8 * (_DEPTH - 1 - depth)) % _FAN_OUT * 4
            below = struct.unpack_from("<I", blocks[block], slot)[0]
            if not below:
                below = leaf if depth == _DEPTH - 1 else new()
                struct.pack_into("<I", blocks[block], slot, below)
            block = below
    free = leaf if leaf and filled < _A_LEAF else 0
    struct.pack_into(f"<{_HEAD}sIII", blocks[0], 0, head, len(blocks), 0, free)
    return b"".join(blocks)


def _put_record(leaf: bytearray, number: int, identity: int, usage: Usage) -> None:
    ih, isoft, bh, bsoft = usage.limits
    bgrace, igrace = usage.grace
    if identity == 0 and not (usage.inodes or usage.space or any(usage.limits) or bgrace or igrace):
        igrace = 1  # else it would look like a record that is free
    packed = _RECORD.pack(identity, 0, ih, isoft, usage.inodes, bh, bsoft, usage.space, bgrace, igrace)
    at = _LEAF_HEAD + number * _RECORD.size
    leaf[at : at + _RECORD.size] = packed
