"""Partition tables: GPT (UEFI specification 2.10, chapter 5) and MBR with logical partitions."""

from __future__ import annotations

import struct
import uuid
import zlib
from dataclasses import dataclass, replace

from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Damaged

SECTOR = 512
_MOST_ENTRIES = 1024
_MOST_LOGICAL = 128

#: GPT partition types that matter here (UEFI specification; Discoverable Partitions Specification).
_GPT_ROLES = {
    "c12a7328-f81f-11d2-ba4b-00a0c93ec93b": "efi",
    "21686148-6449-6e6f-744e-656564454649": "bios-boot",
    "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f": "swap",
    "0fc63daf-8483-4772-8e79-3d69d8477de4": "linux",
    "4f68bce3-e8cd-4db1-96e7-fbcaf984b709": "linux",
    "e6d6d379-f507-44c2-a23c-238f2a3df928": "lvm",
    "e3c9e316-0b5c-4db8-817d-f92df00215ae": "windows-reserved",
    "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7": "windows-data",
}
_MBR_ROLES = {0x82: "swap", 0x83: "linux", 0xEF: "efi", 0x07: "windows-data", 0x8E: "lvm"}
_MBR_EXTENDED = {0x05, 0x0F, 0x85}


@dataclass(frozen=True)
class Partition:
    """One partition; ``start`` and ``length`` in bytes, ``role`` what its type says it is for."""

    number: int
    start: int
    length: int
    role: str
    name: str = ""
    uuid: str = ""


@dataclass(frozen=True)
class PartitionTable:
    """``scheme`` is ``gpt``, ``mbr`` or ``none`` (a file system straight on the disk, or nothing)."""

    scheme: str
    partitions: tuple[Partition, ...]
    notes: tuple[str, ...] = ()


def read_partition_table(source: BlockSource) -> PartitionTable:
    """Read the table of a disk.  Raises `Damaged` where a table is there but cannot be trusted."""
    if source.size < 4 * SECTOR:
        return PartitionTable("none", ())
    first = source.read(0, SECTOR)
    if first[510:512] != b"\x55\xaa":
        return PartitionTable("none", ())
    entries = [first[446 + 16 * i : 462 + 16 * i] for i in range(4)]
    if any(entry[4] == 0xEE for entry in entries):
        return _read_gpt(source)
    if first[3:11] == b"NTFS    " or first[54:59] == b"FAT16" or first[82:87] == b"FAT32":
        return PartitionTable("none", ())  # a boot sector, not a table
    return _read_mbr(source, entries)


def _read_gpt(source: BlockSource) -> PartitionTable:
    problems = []
    for place, name in ((1, "primary"), (source.size // SECTOR - 1, "backup")):
        try:
            partitions = _gpt_at(source, place)
        except Damaged as error:
            problems.append(f"{name} GPT: {error.message}")
            continue
        return PartitionTable("gpt", partitions, tuple(problems))
    raise Damaged(
        "Both copies of the GPT are damaged: " + "; ".join(problems),
        advice="Repair the partition table on the machine (its own partitioning tool can), then try again.",
    )


def _gpt_at(source: BlockSource, sector: int) -> tuple[Partition, ...]:
    header = source.read(sector * SECTOR, SECTOR)
    if header[:8] != b"EFI PART":
        raise Damaged("no signature")
    header_size, header_crc = struct.unpack_from("<II", header, 12)
    if not 92 <= header_size <= SECTOR:
        raise Damaged(f"header size {header_size}")
    if zlib.crc32(header[:16] + bytes(4) + header[20:header_size]) != header_crc:
        raise Damaged("header checksum differs")
    entries_at, count, entry_size, entries_crc = struct.unpack_from("<QIII", header, 72)
    if entry_size < 128 or entry_size % 8 or entry_size > 4096 or count > _MOST_ENTRIES:
        raise Damaged(f"{count} entries of {entry_size} bytes")
    if (entries_at * SECTOR) + count * entry_size > source.size:
        raise Damaged("entries lie beyond the disk")
    table = source.read(entries_at * SECTOR, count * entry_size)
    if zlib.crc32(table) != entries_crc:
        raise Damaged("entries checksum differs")
    found = []
    for index in range(count):
        entry = table[index * entry_size : (index + 1) * entry_size]
        if entry[:16] == bytes(16):
            continue
        kind = str(uuid.UUID(bytes_le=entry[:16]))
        first, last = struct.unpack_from("<QQ", entry, 32)
        if last < first or (last + 1) * SECTOR > source.size:
            raise Damaged(f"partition {index + 1} is beyond the end of the disk")
        name = entry[56:128].decode("utf-16-le", "replace").rstrip("\0")
        role = _GPT_ROLES.get(kind, "other")
        unique = str(uuid.UUID(bytes_le=entry[16:32]))
        found.append(Partition(index + 1, first * SECTOR, (last - first + 1) * SECTOR, role, name, unique))
    return tuple(sorted(found, key=lambda p: p.start))


def _read_mbr(source: BlockSource, entries: list[bytes]) -> PartitionTable:
    found: list[Partition] = []
    signature = struct.unpack("<I", source.read(440, 4))[0]
    for index, entry in enumerate(entries):
        kind = entry[4]
        first, count = struct.unpack_from("<II", entry, 8)
        if kind == 0 or count == 0:
            continue
        _check_inside(source, index + 1, first, count)
        if kind in _MBR_EXTENDED:
            found += _logical(source, first)
        else:
            role = _MBR_ROLES.get(kind, "other")
            found.append(Partition(index + 1, first * SECTOR, count * SECTOR, role))
    # What Linux takes for PARTUUID where the table has none: the disk's signature and the number.
    named = [replace(p, uuid=f"{signature:08x}-{p.number:02x}") for p in found]
    return PartitionTable("mbr" if named else "none", tuple(sorted(named, key=lambda p: p.start)))


def _logical(source: BlockSource, extended: int) -> list[Partition]:
    found: list[Partition] = []
    seen: set[int] = set()
    at = extended
    while at not in seen and len(seen) < _MOST_LOGICAL:
        seen.add(at)
        _check_inside(source, 5 + len(found), at, 1)
        sector = source.read(at * SECTOR, SECTOR)
        if sector[510:512] != b"\x55\xaa":
            raise Damaged("An extended partition's chain of tables is broken.")
        kind = sector[450]
        first, count = struct.unpack_from("<II", sector, 454)
        if kind and count:
            number = 5 + len(found)
            _check_inside(source, number, at + first, count)
            role = _MBR_ROLES.get(kind, "other")
            found.append(Partition(number, (at + first) * SECTOR, count * SECTOR, role))
        following, length = struct.unpack_from("<II", sector, 470)
        if sector[466] not in _MBR_EXTENDED or not length:
            break
        at = extended + following
    return found


def _check_inside(source: BlockSource, number: int, first: int, count: int) -> None:
    if (first + count) * SECTOR > source.size:
        raise Damaged(
            f"MBR: partition {number} is beyond the end of the disk.",
            advice="Repair the partition table on the machine, then try again.",
        )
