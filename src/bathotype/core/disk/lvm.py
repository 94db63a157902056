"""Logical volumes of Linux's volume manager on one disk: where each lies, from the group's own description.

The label, the headers and the text of the metadata are those of LVM2 (``lib/format_text`` of its sources): a label in one of
the first four sectors, areas with a ring of metadata texts, of which the newest is named in a header.
"""

from __future__ import annotations

import re
import struct
import zlib
from dataclasses import dataclass
from typing import Any

from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource
from bathotype.core.disk.stretch import Stretch
from bathotype.core.errors import Damaged

_SECTOR, _SECTORS = 512, 4
_MDA_MAGIC = b" LVM2 x[5A%r0N*>"
_MOST_TEXT, _MOST_DEPTH, _MOST_SEGMENTS = 16 * 1024 * 1024, 8, 1 << 16
_TOKEN = re.compile(r'\s+|#[^\n]*|("(?:[^"\\]|\\.)*")|([A-Za-z0-9_.+-]+)|([={}\[\],])')
_SEED = 0xF597A6CF  # with which the volume manager begins its CRC-32


@dataclass(frozen=True)
class LogicalVolume:
    """A volume that people see, in pieces of the disk; ``name`` is ``group/volume``."""

    name: str
    stretch: Stretch

    @property
    def devices(self) -> tuple[str, str]:
        """The names under which a system mounts it."""
        group, _, own = self.name.partition("/")
        return f"/dev/{group}/{own}", f"/dev/mapper/{group.replace('-', '--')}-{own.replace('-', '--')}"


@dataclass(frozen=True)
class VolumeGroup:
    """What lies on one physical volume; ``rest`` is what belongs to none of ``volumes`` and is not free, ``others`` are the
    names of volumes of other kinds in it."""

    volumes: tuple[LogicalVolume, ...]
    rest: Ranges
    others: tuple[str, ...] = ()


def read_group(source: BlockSource, start: int, length: int) -> VolumeGroup:
    """The group whose physical volume is a stretch of a disk.

    Raises `Damaged` where it is broken, lies on several disks, or is not described on this one.
    """
    identity, areas = _label(source, start, length)
    texts = [text for at, size in areas if (text := _text(source, start + at, size, start + length))]
    if not texts:
        raise Damaged("The volume group is not described on this disk.")
    sections = {name: value for name, value in _parsed(texts[0]).items() if isinstance(value, dict)}
    if len(sections) != 1:
        raise Damaged("The description of the volume group is broken.")
    ((name, group),) = sections.items()
    try:
        return _group(name, group, identity, start, length)
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise Damaged("The description of the volume group is broken.") from error


def _group(name: str, group: dict[str, Any], identity: str, start: int, length: int) -> VolumeGroup:
    disks = group["physical_volumes"]
    if len(disks) != 1:
        raise Damaged(f"The volume group {name} lies on {len(disks)} disks.")
    ((disk, about),) = disks.items()
    if about["id"].replace("-", "") != identity:
        raise Damaged(f"The volume group {name} lies on another disk.")
    extent = group["extent_size"] * _SECTOR
    first, count = about["pe_start"] * _SECTOR, about["pe_count"]
    if extent <= 0 or first < _SECTOR or count < 0 or first + count * extent > length:
        raise Damaged(f"The volume group {name} reaches beyond its disk.")
    volumes: list[LogicalVolume] = []
    known: list[tuple[int, int]] = []
    taken: list[tuple[int, int]] = []
    others: list[str] = []
    for own, volume in group.get("logical_volumes", {}).items():
        areas = _areas(volume, disk, count)
        places = [(start + first + at * extent, n * extent) for at, n in areas]
        taken += places
        if not _plain(volume) or "VISIBLE" not in volume["status"] or not places:
            others.append(own)
        else:
            known += places
            volumes.append(LogicalVolume(f"{name}/{own}", Stretch(tuple(places))))
    spans = [(at, at + size) for at, size in taken]
    if sum(size for _, size in taken) != Ranges.of(spans).total:
        raise Damaged(f"Volumes of the group {name} overlap.")
    extents = Ranges.of([(start + first, start + first + count * extent)])
    end = start + length
    free = extents.minus(Ranges.of(spans), end)
    rest = Ranges.of([(start, end)]).minus(free, end).minus(Ranges.of((at, at + size) for at, size in known), end)
    return VolumeGroup(tuple(volumes), rest, tuple(others))


def _segments(volume: dict[str, Any]) -> list[dict[str, Any]]:
    count = volume["segment_count"]
    if not 0 < count <= _MOST_SEGMENTS:
        raise Damaged("A logical volume has an impossible number of segments.")
    return sorted((volume[f"segment{n}"] for n in range(1, count + 1)), key=lambda s: int(s["start_extent"]))


def _plain(volume: dict[str, Any]) -> bool:
    """Whether it is one piece of the disk after another, and nothing else."""
    at = 0
    for segment in _segments(volume):
        if segment["type"] != "striped" or segment["stripe_count"] != 1 or segment["start_extent"] != at:
            return False
        at += segment["extent_count"]
    return True


def _areas(volume: dict[str, Any], disk: str, count: int) -> list[tuple[int, int]]:
    """``(first extent, extents)`` of everything that a volume has on the disk, in its order."""
    found = []
    for segment in _segments(volume):
        stripes = segment.get("stripes") or []
        for name, at in zip(stripes[::2], stripes[1::2], strict=True):
            size = -(-segment["extent_count"] // segment["stripe_count"])
            if name != disk or not at >= 0 or size <= 0 or at + size > count:
                raise Damaged("A logical volume lies outside its disk.")
            found.append((at, size))
    return found


# What is on the disk


def _label(source: BlockSource, start: int, length: int) -> tuple[str, list[tuple[int, int]]]:
    """The physical volume's identity, and ``(offset, size)`` of its areas of metadata."""
    head = source.read(start, min(length, _SECTOR * _SECTORS))
    for at in range(0, len(head) - _SECTOR + 1, _SECTOR):
        sector = head[at : at + _SECTOR]
        if sector[:8] == b"LABELONE" and sector[24:32] == b"LVM2 001":
            break
    else:
        raise Damaged("There is no label of a physical volume.")
    if struct.unpack_from("<I", sector, 16)[0] != _crc(sector[20:]):
        raise Damaged("The checksum of the physical volume's label is wrong.")
    at = struct.unpack_from("<I", sector, 20)[0]
    lists: list[list[tuple[int, int]]] = [[], []]
    place = at + 40
    for areas in lists:
        while place + 16 <= _SECTOR:
            offset, size = struct.unpack_from("<QQ", sector, place)
            place += 16
            if not offset:
                break
            areas.append((offset, size))
    return sector[at : at + 32].decode("ascii", "replace"), lists[1]


def _text(source: BlockSource, at: int, size: int, end: int) -> str:
    """The newest text in an area of metadata; empty where there is none."""
    if at + _SECTOR > end or at + size > end:
        raise Damaged("An area of the volume group's metadata is beyond its disk.")
    head = source.read(at, _SECTOR)
    if head[4:20] != _MDA_MAGIC or struct.unpack_from("<I", head, 0)[0] != _crc(head[4:]):
        raise Damaged("An area of the volume group's metadata is broken.")
    offset, length, checksum, flags = struct.unpack_from("<QQII", head, 40)
    if not offset or not length or flags & 1:
        return ""
    if length > min(_MOST_TEXT, size - _SECTOR) or not _SECTOR <= offset < size:
        raise Damaged("An area of the volume group's metadata is broken.")
    until = min(length, size - offset)
    data = source.read(at + offset, until)
    data += source.read(at + _SECTOR, length - until) if until < length else b""  # it is a ring
    if _crc(data) != checksum:
        raise Damaged("The checksum of the volume group's metadata is wrong.")
    return data.split(b"\0")[0].decode("utf-8", "replace")


def _crc(data: bytes) -> int:
    return zlib.crc32(data, _SEED ^ 0xFFFFFFFF) ^ 0xFFFFFFFF


# The text


def _parsed(text: str) -> dict[str, Any]:
    """The volume manager's format for settings: values, lists of values, and sections of both."""
    tokens, at = [], 0
    while at < len(text):
        match = _TOKEN.match(text, at)
        if match is None:
            raise Damaged("The description of the volume group is broken.")
        if match.lastindex:
            tokens.append(match[0])
        at = match.end()
    result, place = _section(tokens, 0, 0)
    if place != len(tokens):
        raise Damaged("The description of the volume group is broken.")
    return result


def _section(tokens: list[str], at: int, depth: int) -> tuple[dict[str, Any], int]:
    found: dict[str, Any] = {}
    if depth > _MOST_DEPTH:
        raise Damaged("The description of the volume group is too deep.")
    while at + 1 < len(tokens) and tokens[at] != "}":
        name, sign = tokens[at], tokens[at + 1]
        if sign == "{":
            found[name], at = _section(tokens, at + 2, depth + 1)
            if at >= len(tokens):
                raise Damaged("The description of the volume group ends too early.")
            at += 1
        elif sign == "=" and at + 2 < len(tokens):
            found[name], at = _value(tokens, at + 2)
        else:
            raise Damaged("The description of the volume group is broken.")
    return found, at


def _value(tokens: list[str], at: int) -> tuple[Any, int]:
    if tokens[at] != "[":
        return _scalar(tokens[at]), at + 1
    values, at = [], at + 1
    while at < len(tokens) and tokens[at] != "]":
        if tokens[at] != ",":
            values.append(_scalar(tokens[at]))
        at += 1
    return values, at + 1


def _scalar(token: str) -> Any:
    if token.startswith('"'):
        return re.sub(r"\\(.)", r"\1", token[1:-1])
    return int(token) if re.fullmatch(r"-?\d{1,18}", token) else token
