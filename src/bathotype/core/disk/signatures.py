"""What a stretch of a disk holds, by its signatures.

The signatures and their order are those of the formats' own documents.  Where there are several, because one was made
over another, nothing shows which of them is meant: what is found first is named, and the rest with it.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

#: How much of the beginning shows every signature.
HEAD = 128 * 1024
_PAGE = 4096

_SIGNATURES: tuple[tuple[str, int, bytes], ...] = (
    ("luks", 0, b"LUKS\xba\xbe"),
    ("bitlocker", 3, b"-FVE-FS-"),
    ("ntfs", 3, b"NTFS    "),
    ("exfat", 3, b"EXFAT   "),
    ("xfs", 0, b"XFSB"),
    *(("lvm", sector * 512, b"LABELONE") for sector in range(4)),
    ("raid", 4096, b"\xfc\x4e\x2b\xa9"),
    ("raid", 0, b"\xfc\x4e\x2b\xa9"),
    ("ext4", 1024 + 56, b"\x53\xef"),
    ("btrfs", 65536 + 64, b"_BHRfS_M"),
    ("fat", 82, b"FAT32   "),
    ("fat", 54, b"FAT1"),
    ("iso9660", 32769, b"CD001"),
    ("squashfs", 0, b"hsqs"),
    ("f2fs", 1024, b"\x10\x20\xf5\xf2"),
)
#: What the beginning of a file shows that is no disk, but holds one or is packed, and what to do about it.
_FILES: tuple[tuple[int, bytes, str], ...] = (
    (0, b"QED\0", "a QED image"),
    (0, b"WithoutFreeSpace", "a Parallels image"),
    (0, b"WithouFreSpacExt", "a Parallels image"),
    (0, b"Bochs Virtual HD Image", "a Bochs image"),
    (0, b"COWD", "a VMDK of the kind COWD"),
    (0, b"\x1f\x8b", "packed with gzip"),
    (0, b"\xfd7zXZ\0", "packed with xz"),
    (0, b"\x28\xb5\x2f\xfd", "packed with zstd"),
    (0, b"BZh", "packed with bzip2"),
    (0, b"\x04\x22\x4d\x18", "packed with lz4"),
    (0, b"PK\x03\x04", "a ZIP archive"),
    (0, b"7z\xbc\xaf\x27\x1c", "a 7z archive"),
)


@dataclass(frozen=True)
class Signs:
    """The name of what is found first, ``unknown`` or ``empty``; and what else bears a signature there."""

    first: str
    also: tuple[str, ...] = ()


def signs_of(head: bytes, length: int) -> Signs:
    """What the first bytes (`HEAD`, or all) of a stretch of ``length`` bytes show."""
    found = [name for name, at, magic in _SIGNATURES if head[at : at + len(magic)] == magic]
    if swap_end(head, length):
        found.append("swap")
    names = list(dict.fromkeys(found))
    if not names:
        return Signs("empty" if head == bytes(len(head)) else "unknown")
    return Signs(names[0], tuple(names[1:]))


def swap_end(head: bytes, length: int) -> int:
    """Where a swap area ends, in bytes; 0 where there is none.  Its header is that of Linux, version 1."""
    if head[_PAGE - 10 : _PAGE] != b"SWAPSPACE2":
        return 0
    version, last = struct.unpack_from("<II", head, 1024)
    end = (last + 1) * _PAGE
    return end if version == 1 and last and end <= length else 0


def other_file(head: bytes) -> str:
    """In words, what a file is that is not a disk by itself; empty where its beginning shows nothing of the kind."""
    return next((about for at, magic, about in _FILES if head[at : at + len(magic)] == magic), "")
