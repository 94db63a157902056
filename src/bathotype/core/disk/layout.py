"""The layout of a disk: each partition, the file system in it, and which bytes a capture must take.

Every byte is either known to be unused or taken: what lies outside every partition, behind the end of a file system, or in
anything that is not understood is captured as it is.
"""

from __future__ import annotations

from dataclasses import dataclass

from bathotype.core.disk.ext4 import Ext4
from bathotype.core.disk.fat import Fat
from bathotype.core.disk.jbd2 import replayed
from bathotype.core.disk.overlay import Spliced
from bathotype.core.disk.partition import Partition, PartitionTable, read_partition_table
from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.signatures import HEAD, signs_of, swap_end
from bathotype.core.disk.source import BlockSource, Window
from bathotype.core.errors import Damaged
from bathotype.core.units import iec

#: What a swap area keeps: its header page, which holds the UUID and label that fstab names.
SWAP_HEADER = 4096
#: More than the usual alignment: it is worth a word that this much lies outside every partition.
_NOTABLE = 4 * 1024 * 1024


@dataclass(frozen=True)
class Volume:
    """A partition, or a disk without a table, and the file system found in it.

    ``whole`` says that it is captured whole although its file system is read, and ``note`` says why.
    """

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
    whole: bool = False

    @property
    def understood(self) -> bool:
        """Whether we know which of its blocks are used, and leave the others out."""
        return not self.whole and self.filesystem in ("ext4", "fat", "swap", "empty", "boot-code")


@dataclass(frozen=True)
class Layout:
    """The partition scheme and the volumes of a disk, in order of place.

    ``notes`` tell what is wrong with the table, ``remarks`` what is captured although nothing is known of it.
    """

    size: int
    scheme: str
    volumes: tuple[Volume, ...]
    notes: tuple[str, ...] = ()
    remarks: tuple[str, ...] = ()

    def root(self, source: BlockSource) -> Volume | None:
        """The volume that holds the operating system: an ext4 one with ``/etc``, the largest if several."""
        found = []
        for volume in self.volumes:
            if volume.filesystem == "ext4":
                etc = Ext4(Window(source, volume.start, volume.length)).lookup("/etc")
                if etc is not None and etc.is_dir:
                    found.append(volume)
        return max(found, key=lambda v: v.length, default=None)


def settled(source: BlockSource) -> BlockSource:
    """The disk as it is once the journals of its file systems have been replayed; the source itself where none waits.

    A journal that cannot be replayed here is left as it is: `read_layout` then says that its volume is captured whole.
    """
    view = source
    try:
        table = read_partition_table(source)
    except Damaged:
        return source  # `read_layout` says what is wrong
    for partition in _volumes_of(source, table):
        window = Window(source, partition.start, partition.length)
        if signs_of(_head(source, partition), partition.length).first != "ext4":
            continue
        try:
            inner = replayed(Ext4(window))
        except Damaged:
            continue
        if inner is not window:
            view = Spliced(view, partition.start, inner)
    return view


def read_layout(source: BlockSource) -> Layout:
    """Look at a disk.  Raises `Damaged` where its partition table cannot be trusted."""
    table = read_partition_table(source)
    volumes = tuple(_volume(source, partition) for partition in _volumes_of(source, table))
    if table.scheme == "none":
        return Layout(source.size, "none", volumes)
    remarks = []
    stale = _file_system_under(source, table)
    if stale:
        volumes = tuple(_taken_whole(v, stale) for v in volumes)
        remarks.append(stale)
    outside = _outside(source.size, volumes).intersect(source.allocated(), source.size).total
    if outside > _NOTABLE:
        remarks.append(f"{iec(outside)} outside every partition are captured as they are.")
    return Layout(source.size, table.scheme, volumes, table.notes, tuple(remarks))


def _volumes_of(source: BlockSource, table: PartitionTable) -> tuple[Partition, ...]:
    return table.partitions if table.scheme != "none" else (Partition(0, 0, source.size, "whole-disk"),)


def _file_system_under(source: BlockSource, table: PartitionTable) -> str:
    """Why a partition table cannot be relied on: a file system begins at the disk's first sector and reaches over it."""
    try:
        over = Ext4(Window(source, 0, source.size)).end
    except Damaged:
        return ""
    if not any(partition.start < over for partition in table.partitions):
        return ""
    return "The disk bears both a partition table and an ext4 file system over it: everything is captured."


def _taken_whole(volume: Volume, why: str) -> Volume:
    return Volume(**{**volume.__dict__, "whole": True, "note": volume.note or why})


def _head(source: BlockSource, partition: Partition) -> bytes:
    return source.read(partition.start, min(partition.length, HEAD))


def _volume(source: BlockSource, partition: Partition) -> Volume:
    signs = signs_of(_head(source, partition), partition.length)
    filesystem, note, whole = signs.first, "", False
    if filesystem == "unknown" and partition.role == "bios-boot":
        filesystem = "boot-code"
    if signs.also:
        names = " and ".join((signs.first, *signs.also))
        whole, note = True, f"It bears the signatures of {names}: which of them is meant cannot be told."
    uuid = label = ""
    if filesystem in ("ext4", "fat"):
        window = Window(source, partition.start, partition.length)
        try:
            fs = Ext4(window) if filesystem == "ext4" else Fat(window)
            uuid, label = fs.uuid, fs.label
            if isinstance(fs, Ext4) and not whole and (why := _waits(fs)):
                whole, note = True, why
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
        whole,
    )


def _waits(fs: Ext4) -> str:
    """Why the blocks in use are not known because of a journal that waits; empty where none does (see `settled`)."""
    if not fs.needs_recovery:
        return ""
    try:
        replayed(fs)
    except Damaged as error:
        return f"Its journal waits to be replayed, which cannot be done here: {error.message}"
    return "Its journal waits to be replayed."


def used_ranges(source: BlockSource, layout: Layout, *, whole_blocks: bool = False) -> Ranges:
    """The bytes that a capture must take: all but free blocks of file systems that we understand, the content of swap
    areas, and what the source itself reports as zeros.  ``whole_blocks`` is for a copy: see `Ext4.used`."""
    parts = [Ranges.of([]) if layout.scheme == "none" else _outside(layout.size, layout.volumes)]
    for volume in layout.volumes:
        parts.append(_used(Window(source, volume.start, volume.length), volume, whole_blocks).shift(volume.start))
    return parts[0].union(*parts[1:]).intersect(source.allocated(), source.size)


def _outside(size: int, volumes: tuple[Volume, ...]) -> Ranges:
    return Ranges.of((v.start, v.start + v.length) for v in volumes).complement(size)


def _used(window: Window, volume: Volume, whole_blocks: bool) -> Ranges:
    everything = Ranges.of([(0, window.size)])
    if not volume.understood:
        return everything
    try:
        if volume.filesystem == "ext4":
            ext4 = Ext4(window)
            used, end = ext4.used(whole_blocks=whole_blocks), ext4.end
        elif volume.filesystem == "fat":
            fat = Fat(window)
            used, end = fat.used(), fat.clusters_end
        elif volume.filesystem == "swap":
            used, end = Ranges.of([(0, SWAP_HEADER)]), swap_end(window.read(0, SWAP_HEADER), window.size)
        else:
            return everything
    except Damaged:  # what cannot be read to its end is not known to be unused
        return everything
    return used.union(Ranges.of([(end, window.size)]))
