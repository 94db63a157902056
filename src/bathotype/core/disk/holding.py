"""What each disk of a machine holds, in enough words for people to recognise it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime

from bathotype.core.disk.ext4.readalone import CLUSTERED
from bathotype.core.disk.ext4.superblock import Superblock
from bathotype.core.disk.layout import Layout, Volume, used_ranges
from bathotype.core.disk.several import begins
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Damaged
from bathotype.core.units import iec

#: Fields of the superblock of ext2, ext3 and ext4 (Linux, Documentation/filesystems/ext4/super.rst).
_WRITTEN_AT, _MOUNTED_AT, _MOUNTED_LENGTH = 0x30, 0x88, 64


@dataclass(frozen=True)
class HeldVolume:
    """One volume: its file system and label; where it was mounted last and when it was written last, where that is
    recorded."""

    filesystem: str
    label: str
    mounted: str = ""
    written: str = ""

    @property
    def text(self) -> str:
        """``ext4 "readings", mounted at /srv, last written 2026-10-01``."""
        name = f' "{self.label}"' if self.label else ""
        mounted = f", mounted at {self.mounted}" if self.mounted else ""
        written = f", last written {self.written}" if self.written else ""
        return f"{self.filesystem}{name}{mounted}{written}"


@dataclass(frozen=True)
class Holding:
    """All volumes of a disk, and the bytes in use."""

    volumes: tuple[HeldVolume, ...]
    used_bytes: int

    @property
    def text(self) -> str:
        """All of it in one phrase."""
        told = "; ".join(volume.text for volume in self.volumes) or "nothing that is known"
        return f"{told}; {iec(self.used_bytes)} in use"


def holding(source: BlockSource, layout: Layout) -> tuple[Holding, ...]:
    """Look at each disk of a source."""
    used = used_ranges(source, layout)
    found = []
    for number, (begin, size) in enumerate(zip(begins(layout.disks), layout.disks, strict=True)):
        volumes = [held for v in layout.volumes if v.disk == number and (held := _held(source, v)) is not None]
        found.append(Holding(tuple(volumes), sum(end - start for start, end in used.within(begin, begin + size))))
    return tuple(found)


def _held(source: BlockSource, volume: Volume) -> HeldVolume | None:
    mounted = written = ""
    if volume.filesystem in ("ext4", CLUSTERED):
        try:
            block = Superblock(volume.within(source))
        except Damaged:
            return None
        mounted = _plain(block.raw[_MOUNTED_AT : _MOUNTED_AT + _MOUNTED_LENGTH].decode("utf-8", "replace"))
        seconds = block.u32(_WRITTEN_AT)
        written = datetime.fromtimestamp(seconds, UTC).strftime("%Y-%m-%d") if seconds else ""
    return HeldVolume(volume.filesystem, _plain(volume.label or volume.part_label), mounted, written)


def _plain(text: str) -> str:
    """A name up to its end, without what a terminal would obey: whoever made the disk has written it, and some tools
    leave what was there before behind the end."""
    return "".join(c if c.isprintable() else "\N{REPLACEMENT CHARACTER}" for c in text.partition("\0")[0])
