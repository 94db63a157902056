"""A file's bytes: replaced as a whole, or cut off."""

from __future__ import annotations

from bathotype.core.disk.ext4.edit.inodes import InodeDraft
from bathotype.core.disk.ext4.edit.maps import Maps
from bathotype.core.disk.ext4.filesystem import ENCRYPT_FL
from bathotype.core.errors import Refused

_VERITY_FL, _LARGE = 0x100000, 1 << 31


def replace(maps: Maps, node: InodeDraft, data: bytes) -> None:
    """Give a file other bytes.  Its inode stays the same, with its attributes and its other names.

    Raises `OutOfSpace`, and `Refused` where other bytes would not be the file's: it is encrypted, or sealed by a hash.
    """
    fs = maps.fs
    if node.flags & (ENCRYPT_FL | _VERITY_FL) or len(data) >= _LARGE:
        raise Refused(
            "A file that is encrypted, sealed by fs-verity, or of 2 GiB and more cannot be written offline.",
            advice="Remove it, or leave it out of the profile's steps.",
            code="path-not-editable",
        )
    if node.is_inline:
        maps.inodes.drop_inline(node)
    else:
        maps.free(node)
    node.size = len(data)
    count = -(-len(data) // fs.block_size)
    if count:
        for run in maps.grow(node, 0, count, fs.slot_of(node.number)[0]):
            piece = data[run.logical * fs.block_size : (run.logical + run.length) * fs.block_size]
            maps.draft.write(run.start * fs.block_size, piece.ljust(run.length * fs.block_size, b"\0"))
    maps.inodes.put(node)


def cut(maps: Maps, node: InodeDraft, size: int) -> None:
    """Let go of what lies behind a size, and of what the last block holds behind it."""
    block = maps.fs.block_size
    if not node.is_inline:
        maps.free(node, keep=-(-size // block))
        last, inside = divmod(size, block)
        for run in maps.runs(node):
            if inside and run.written and run.logical <= last < run.logical + run.length:
                at = (run.start + last - run.logical) * block
                maps.draft.write(at + inside, bytes(block - inside))
    node.size = size
    maps.inodes.put(node)
