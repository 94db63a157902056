"""Partition tables: GPT (UEFI specification 2.10, chapter 5) and MBR with logical partitions."""

from __future__ import annotations

import struct
import uuid
import zlib
from dataclasses import dataclass, replace

from bathotype.core.disk.signatures import HEAD, signs_of
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Damaged

SECTOR = 512
#: What a logical sector may have, in bytes.
SECTORS = (512, 4096)
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
#: File systems whose first sector ends as a table's does.
_BOOT_SECTORS = ((3, b"NTFS    "), (3, b"EXFAT   "), (54, b"FAT1"), (82, b"FAT32"))


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
    """``scheme`` is ``gpt``, ``mbr`` or ``none`` (a file system straight on the disk, or nothing);
    ``sector`` is the size of its sectors in bytes."""

    scheme: str
    partitions: tuple[Partition, ...]
    notes: tuple[str, ...] = ()
    sector: int = SECTOR


def read_partition_table(source: BlockSource) -> PartitionTable:
    """Read the table of a disk.  Raises `Damaged` where a table is there but cannot be trusted."""
    if source.size < 4 * SECTOR:
        return PartitionTable("none", ())
    first = source.read(0, SECTOR)
    entries = [first[446 + 16 * i : 462 + 16 * i] for i in range(4)]
    if first[510:512] != b"\x55\xaa" or any(entry[0] not in (0, 0x80) for entry in entries):
        return PartitionTable("none", ())
    if any(entry[4] == 0xEE for entry in entries):
        return _read_gpt(source)
    if any(first[at : at + len(name)] == name for at, name in _BOOT_SECTORS):
        return PartitionTable("none", ())  # a boot sector, not a table
    return _read_mbr(source, entries)


# GPT


def _read_gpt(source: BlockSource) -> PartitionTable:
    """The primary table, else the backup; sectors have 512 bytes or 4096, as the header's place shows."""
    sector = next((size for size in SECTORS if _has_gpt(source, size)), SECTOR)
    problems = []
    for place, name in ((1, "primary"), (source.size // sector - 1, "backup")):
        try:
            partitions = _gpt_at(source, place, sector)
        except Damaged as error:
            problems.append(f"{name} GPT: {error.message}")
            continue
        return PartitionTable("gpt", partitions, tuple(problems), sector)
    raise Damaged(
        "Both copies of the GPT are damaged: " + "; ".join(problems),
        advice="Repair the partition table on the machine (its own partitioning tool can), then try again.",
    )


def _has_gpt(source: BlockSource, sector: int) -> bool:
    places = (sector, (source.size // sector - 1) * sector)
    return any(at + 8 <= source.size and source.read(at, 8) == b"EFI PART" for at in places)


def _gpt_at(source: BlockSource, place: int, sector: int) -> tuple[Partition, ...]:
    header = source.read(place * sector, SECTOR)
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
    if (entries_at * sector) + count * entry_size > source.size:
        raise Damaged("entries lie beyond the disk")
    table = source.read(entries_at * sector, count * entry_size)
    if zlib.crc32(table) != entries_crc:
        raise Damaged("entries checksum differs")
    found = []
    for index in range(count):
        entry = table[index * entry_size : (index + 1) * entry_size]
        if entry[:16] == bytes(16):
            continue
        kind = str(uuid.UUID(bytes_le=entry[:16]))
        first, last = struct.unpack_from("<QQ", entry, 32)
        if last < first or (last + 1) * sector > source.size:
            raise Damaged(f"partition {index + 1} is beyond the end of the disk")
        name = entry[56:128].decode("utf-16-le", "replace").rstrip("\0")
        role = _GPT_ROLES.get(kind, "other")
        unique = str(uuid.UUID(bytes_le=entry[16:32]))
        found.append(Partition(index + 1, first * sector, (last - first + 1) * sector, role, name, unique))
    return tuple(sorted(found, key=lambda p: p.start))


# MBR


def _read_mbr(source: BlockSource, entries: list[bytes]) -> PartitionTable:
    """An MBR does not say how large its sectors are: the size is taken by which more partitions begin with something
    that is known, and that of 512 bytes where both give as many."""
    tried: list[tuple[int, PartitionTable]] = []
    problem: Damaged | None = None
    for sector in SECTORS:
        try:
            table = _mbr_by(source, entries, sector)
        except Damaged as error:
            problem = problem or error
            continue
        tried.append((sum(_is_known(source, p) for p in table.partitions), table))
    if not tried:
        assert problem is not None
        raise problem
    known, best = max(tried, key=lambda one: one[0])
    if problem is not None and best.sector != SECTOR and not known:
        raise problem
    return best


def _is_known(source: BlockSource, partition: Partition) -> bool:
    head = source.read(partition.start, min(partition.length, HEAD))
    return signs_of(head, partition.length).first not in ("unknown", "empty")


def _mbr_by(source: BlockSource, entries: list[bytes], sector: int) -> PartitionTable:
    found: list[Partition] = []
    signature = struct.unpack("<I", source.read(440, 4))[0]
    for index, entry in enumerate(entries):
        kind = entry[4]
        first, count = struct.unpack_from("<II", entry, 8)
        if kind == 0 or count == 0:
            continue
        _check_inside(source, index + 1, first, count, sector)
        if kind in _MBR_EXTENDED:
            found += _logical(source, first, sector)
        else:
            role = _MBR_ROLES.get(kind, "other")
            found.append(Partition(index + 1, first * sector, count * sector, role))
    # What Linux takes for PARTUUID where the table has none: the disk's signature and the number.
    named = [replace(p, uuid=f"{signature:08x}-{p.number:02x}") for p in found]
    ordered = tuple(sorted(named, key=lambda p: p.start))
    return PartitionTable("mbr" if named else "none", ordered, (), sector)


def _logical(source: BlockSource, extended: int, sector: int) -> list[Partition]:
    found: list[Partition] = []
    seen: set[int] = set()
    at = extended
    while at not in seen and len(seen) < _MOST_LOGICAL:
        seen.add(at)
        _check_inside(source, 5 + len(found), at, 1, sector)
        table = source.read(at * sector, SECTOR)
        if table[510:512] != b"\x55\xaa":
            raise Damaged("An extended partition's chain of tables is broken.")
        kind = table[450]
        first, count = struct.unpack_from("<II", table, 454)
        if kind and count:
            number = 5 + len(found)
            _check_inside(source, number, at + first, count, sector)
            role = _MBR_ROLES.get(kind, "other")
            found.append(Partition(number, (at + first) * sector, count * sector, role))
        following, length = struct.unpack_from("<II", table, 470)
        if table[466] not in _MBR_EXTENDED or not length:
            break
        at = extended + following
    return found


def _check_inside(source: BlockSource, number: int, first: int, count: int, sector: int) -> None:
    if (first + count) * sector > source.size:
        raise Damaged(
            f"MBR: partition {number} is beyond the end of the disk.",
            advice="Repair the partition table on the machine, then try again.",
        )
