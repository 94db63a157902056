"""Extended attributes of ext2, ext3 and ext4: in the inode behind its fields, and in a block that files may share."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass

from bathotype.core.errors import Damaged

MAGIC = b"\x00\x00\x02\xea"
BLOCK_HEADER = 32
_ENTRY = struct.Struct("<BBHIII")
_NAMES = {
    1: "user.", 2: "system.posix_acl_access", 3: "system.posix_acl_default", 4: "trusted.", 6: "security.",
    7: "system.", 8: "system.richacl",
}  # fmt: skip
_SYSTEM = 7


@dataclass(frozen=True)
class Attribute:
    """One attribute as the disk holds it: its value, or the inode in which that lies."""

    kind: int
    name: bytes
    value: bytes
    inode: int
    size: int
    hash: int

    @property
    def full_name(self) -> str:
        """The name by which the system knows it.  Raises `Damaged` for a kind that is not known."""
        if self.kind not in _NAMES:
            raise Damaged(f"An extended attribute is of a kind that is not known ({self.kind}).")
        return _NAMES[self.kind] + self.name.decode("ascii", "replace")

    @property
    def is_inline_data(self) -> bool:
        """Whether this is no attribute but the rest of the file's own bytes."""
        return (self.kind, self.name) == (_SYSTEM, b"data")


def area_of(inode: bytes) -> int:
    """Where attributes begin in an inode; its end where it has no room for any."""
    if len(inode) <= 128:
        return len(inode)
    at = 128 + int(struct.unpack_from("<H", inode, 128)[0])
    return at if at + 4 <= len(inode) else len(inode)


def in_inode(inode: bytes) -> list[Attribute]:
    """The attributes in an inode's own bytes."""
    at = area_of(inode)
    return list(_entries(inode[at + 4 :], 0)) if inode[at : at + 4] == MAGIC else []


def in_block(block: bytes) -> list[Attribute]:
    """The attributes in a block of their own."""
    if block[:4] != MAGIC:
        raise Damaged("A block of extended attributes is broken.")
    return list(_entries(block, BLOCK_HEADER))


def block_of(inode: bytes) -> int:
    """The number of the block with an inode's attributes; 0 where it has none."""
    return int(struct.unpack_from("<I", inode, 104)[0]) | int(struct.unpack_from("<H", inode, 118)[0]) << 32


def _entries(data: bytes, at: int) -> Iterator[Attribute]:
    while at + _ENTRY.size <= len(data) and data[at : at + 4] != bytes(4):
        length, kind, offset, inode, size, summed = _ENTRY.unpack_from(data, at)
        name = data[at + 16 : at + 16 + length]
        at += (16 + length + 3) & ~3
        if not inode and offset + size > len(data):
            raise Damaged("An extended attribute lies outside its block.")
        yield Attribute(kind, name, b"" if inode else data[offset : offset + size], inode, size, summed)


def laid_out(attributes: list[Attribute], room: int) -> bytes:
    """The area of an inode that holds these attributes; ``room`` bytes with its magic."""
    if not attributes:
        return bytes(room)
    out = bytearray(room)
    out[:4] = MAGIC
    at, end = 4, room
    for one in attributes:
        if not one.inode:
            end -= (one.size + 3) & ~3
            out[end : end + one.size] = one.value
        place = 0 if one.inode or not one.size else end - 4
        _ENTRY.pack_into(out, at, len(one.name), one.kind, place, one.inode, one.size, one.hash)
        out[at + 16 : at + 16 + len(one.name)] = one.name
        at += (16 + len(one.name) + 3) & ~3
    return bytes(out)
