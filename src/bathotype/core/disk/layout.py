"""The layout of a disk: each partition, the file system in it, and which bytes a capture must take."""

from __future__ import annotations

from dataclasses import dataclass

from bathotype.core.disk.ext4 import Ext4
from bathotype.core.disk.fat import Fat
from bathotype.core.disk.partition import Partition, read_partition_table
from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource, Window
from bathotype.core.errors import Damaged

#: What a swap area keeps: its header page, which holds the UUID and label that fstab names.
SWAP_HEADER = 4096


@dataclass(frozen=True)
class Volume:
    """A partition, or a disk without a table, and the file system found in it."""

    number: int
    start: int
    length: int
    role: str
    filesystem: str
    note: str = ""
    uuid: str = ""
    label: str = ""
    part_uuid: str = ""
    part_label: str = ""

    @property
    def understood(self) -> bool:
        """Whether we know which of its blocks are used."""
        return self.filesystem in ("ext4", "fat", "swap", "empty", "boot-code")


@dataclass(frozen=True)
class Layout:
    """The partition scheme and the volumes of a disk, in order of place."""

    size: int
    scheme: str
    volumes: tuple[Volume, ...]
    notes: tuple[str, ...] = ()

    def root(self, source: BlockSource) -> Volume | None:
        """The volume that holds the operating system: an ext4 one with ``/etc``, the largest if several."""
        found = []
        for volume in self.volumes:
            if volume.filesystem == "ext4":
                etc = Ext4(Window(source, volume.start, volume.length)).lookup("/etc")
                if etc is not None and etc.is_dir:
                    found.append(volume)
        return max(found, key=lambda v: v.length, default=None)


def read_layout(source: BlockSource) -> Layout:
    """Look at a disk.  Raises `Damaged` where its partition table cannot be trusted."""
    table = read_partition_table(source)
    if table.scheme == "none":
        whole = Partition(0, 0, source.size, "whole-disk")
        return Layout(source.size, "none", (_volume(source, whole),))
    volumes = tuple(_volume(source, partition) for partition in table.partitions)
    return Layout(source.size, table.scheme, volumes, table.notes)


def _volume(source: BlockSource, partition: Partition) -> Volume:
    head = source.read(partition.start, min(partition.length, 128 * 1024))
    filesystem, note = _recognise(head), ""
    if filesystem == "unknown" and partition.role == "bios-boot":
        filesystem = "boot-code"
    uuid = label = ""
    if filesystem in ("ext4", "fat"):
        window = Window(source, partition.start, partition.length)
        try:
            fs = Ext4(window) if filesystem == "ext4" else Fat(window)
            uuid, label = fs.uuid, fs.label
        except Damaged as error:
            filesystem, note = f"{filesystem}-unreadable", error.message
    return Volume(
        partition.number,
        partition.start,
        partition.length,
        partition.role,
        filesystem,
        note,
        uuid,
        label,
        partition.uuid,
        partition.name,
    )


def _recognise(head: bytes) -> str:
    signatures = (
        ("luks", 0, b"LUKS\xba\xbe"),
        ("bitlocker", 3, b"-FVE-FS-"),
        ("ntfs", 3, b"NTFS    "),
        ("xfs", 0, b"XFSB"),
        ("lvm", 512, b"LABELONE"),
        ("swap", 4086, b"SWAPSPACE2"),
        ("ext4", 1024 + 56, b"\x53\xef"),
        ("btrfs", 65536 + 64, b"_BHRfS_M"),
        ("fat", 82, b"FAT32"),
        ("fat", 54, b"FAT1"),
    )
    for name, at, magic in signatures:
        if head[at : at + len(magic)] == magic:
            return name
    return "unknown" if any(head) else "empty"


def used_ranges(source: BlockSource, layout: Layout) -> Ranges:
    """The bytes that a capture must take: used blocks of the file systems we understand, the header of swap
    areas, all of what we do not understand, and the boot code and tables outside every partition.  What lies
    between partitions, and what the source itself reports as zeros, is left out."""
    if layout.scheme == "none":
        outside = Ranges.of([])
    else:
        first = min((v.start for v in layout.volumes), default=source.size)
        tail = 34 * 512 if layout.scheme == "gpt" else 0
        outside = Ranges.of([(0, first), (source.size - tail, source.size)])
        logical = [(v.start - 1024 * 1024, v.start) for v in layout.volumes if layout.scheme == "mbr"]
        outside = outside.union(Ranges.of((max(0, a), b) for a, b in logical))
    parts = [outside]
    for volume in layout.volumes:
        if volume.filesystem == "ext4":
            used = Ext4(Window(source, volume.start, volume.length)).used()
        elif volume.filesystem == "fat":
            used = Fat(Window(source, volume.start, volume.length)).used()
        elif volume.filesystem == "swap":
            used = Ranges.of([(0, SWAP_HEADER)])
        elif volume.filesystem == "empty":
            used = Window(source, volume.start, volume.length).allocated()
        else:
            used = Ranges.of([(0, volume.length)])
        parts.append(used.shift(volume.start))
    return parts[0].union(*parts[1:]).intersect(source.allocated(), source.size)
