"""The layout of a disk, or of all disks of a machine: each partition, the file system in it, and which bytes a capture
must take.

Every byte is either known to be unused or taken: what lies outside every partition, behind the end of a file system, or
in anything that is not understood is captured as it is."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass, replace

from bathotype.core.disk.btrfs.blocks import Btrfs
from bathotype.core.disk.ext4.filesystem import Ext4
from bathotype.core.disk.ext4.journal import replayed
from bathotype.core.disk.ext4.readalone import CLUSTERED, ReadExt4
from bathotype.core.disk.ext4.used import used
from bathotype.core.disk.fat import Fat
from bathotype.core.disk.lvm import LogicalVolume, read_group
from bathotype.core.disk.ntfs.blocks import Ntfs
from bathotype.core.disk.otherfiles import Tree, tree_of_system
from bathotype.core.disk.overlay import Overlay, Spliced
from bathotype.core.disk.partition import Partition, PartitionTable, read_partition_table
from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.several import Sizes, begins, disks_of, role_of, windows_of
from bathotype.core.disk.signatures import HEAD, signs_of, swap_end
from bathotype.core.disk.source import BlockSource, Window
from bathotype.core.disk.stretch import Stretch
from bathotype.core.disk.xfs.blocks import Xfs
from bathotype.core.errors import Damaged
from bathotype.core.units import iec

#: What a swap area keeps: its header page, which holds the UUID and label that fstab names.
SWAP_HEADER = 4096
#: More than the usual alignment: it is worth a word that this much lies outside every partition.
_NOTABLE = 4 * 1024 * 1024


#: File systems that are read, and never changed here.
_READ_ALONE: dict[str, Callable[[BlockSource], Xfs | Btrfs | Ntfs | ReadExt4]] = {
    "xfs": Xfs,
    "btrfs": Btrfs,
    "ntfs": Ntfs,
    CLUSTERED: ReadExt4,
}
_BLOCKS_KNOWN = ("ext4", "fat", "lvm", *_READ_ALONE)


@dataclass(frozen=True)
class Volume:
    """A partition, or a disk without a table, and the file system found in it.

    ``disk`` is the number of its disk, 0 for the boot disk; ``start`` counts from the beginning of the first disk.
    ``whole`` says that it is captured whole although its file system is read, and ``note`` says why; ``legible`` that the
    files can be read all the same.
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
    logical: LogicalVolume | None = None
    disk: int = 0
    legible: bool = False

    @property
    def stretch(self) -> Stretch:
        """Where it lies on the disk."""
        return self.logical.stretch if self.logical else Stretch.of(self.start, self.length)

    @property
    def name(self) -> str:
        """What people call it."""
        if self.logical:
            return f"volume {self.logical.name}"
        if self.disk:
            return (
                f"partition {self.number} of {role_of(self.disk)}" if self.number else f"the disk {role_of(self.disk)}"
            )
        return f"partition {self.number}" if self.number else "the whole disk"

    @property
    def title(self) -> str:
        """The same at the beginning of a sentence; names of volumes stay as they are."""
        return self.name[0].upper() + self.name[1:]

    @property
    def key(self) -> str:
        """The same in a list: a number, with the disk's role where it is not the boot disk, or a logical volume's
        name."""
        if self.logical:
            return self.logical.name
        if self.disk:
            return f"{role_of(self.disk)}/{self.number}" if self.number else role_of(self.disk)
        return str(self.number)

    def within(self, source: BlockSource) -> BlockSource:
        """Its own bytes, of a disk's."""
        return self.stretch.within(source)

    @property
    def understood(self) -> bool:
        """Whether we know which of its blocks are used, and leave the others out."""
        return not self.whole and self.filesystem in (*_BLOCKS_KNOWN, "swap", "empty", "boot-code")

    @property
    def looked_into(self) -> bool:
        """Whether its files can be scanned, or it has none."""
        return self.understood and not (self.filesystem == "lvm" and self.note)

    @property
    def read_alone(self) -> bool:
        """Whether its files can be scanned, and not changed."""
        return self.looked_into and self.filesystem in _READ_ALONE

    @property
    def shown(self) -> bool:
        """Whether files are shown that nobody can change: those, and those of a file system whose log waits."""
        return self.read_alone or self.legible

    @property
    def caution(self) -> str:
        """What somebody should know of how it is captured; empty where there is nothing."""
        if self.read_alone:
            return f"The files of {self.name} ({self.filesystem}) are scanned; offline they cannot be changed."
        if self.looked_into:
            return ""
        if self.filesystem == "lvm" and self.understood:
            return f"{self.title} (lvm): {self.note}"
        scanned = " Its files are scanned as they lie on the disk." if self.legible else ""
        return f"{self.title} ({self.filesystem}) is captured whole, also its free space. {self.note}".strip() + scanned


@dataclass(frozen=True)
class Layout:
    """The volumes of one disk or several, in order of place, and the partition scheme of the boot disk.

    ``notes`` say what is wrong with a table, ``remarks`` what is captured although nothing is known of it; ``disks`` are
    the sizes of the disks.
    """

    size: int
    scheme: str
    volumes: tuple[Volume, ...]
    notes: tuple[str, ...] = ()
    remarks: tuple[str, ...] = ()
    disks: Sizes = ()

    def root(self, source: BlockSource) -> Volume | None:
        """The volume that holds the operating system, where its files can be changed: an ext4 one with ``/etc``; of
        several the largest, and one on the boot disk before others."""
        found = []
        for volume in self.volumes:
            if volume.filesystem == "ext4":
                etc = Ext4(volume.within(source)).lookup("/etc")
                if etc is not None and etc.is_dir:
                    found.append(volume)
        return max(found, key=lambda v: (v.disk == 0, v.length), default=None)

    def system_read_alone(self, source: BlockSource) -> tuple[Volume, Tree] | None:
        """The same where its files can only be read: the volume, and its tree of files.  What cannot be read holds
        none."""
        found = []
        for volume in self.volumes:
            if volume.shown:
                with suppress(Damaged):
                    if (tree := tree_of_system(volume.filesystem, volume.within(source))) is not None:
                        found.append((volume, tree))
        return max(found, key=lambda pair: (pair[0].disk == 0, pair[0].length), default=None)


@dataclass(frozen=True)
class Replay:
    """What replaying a volume's journal changes: the volume as it is then read, whose base is what is on the disk."""

    stretch: Stretch
    view: Overlay


def waiting(source: BlockSource) -> list[Replay]:
    """The journals that wait to be replayed.

    One that cannot be replayed here is left out: `read_layout` then says that its volume is captured whole.
    """
    found = []
    for begin, window in zip(begins(disks_of(source)), windows_of(source), strict=True):
        try:
            table = read_partition_table(window)
        except Damaged:
            continue  # `read_layout` says what is wrong
        for stretch in _stretches(source, _partitions(window, table, begin)):
            inside = stretch.within(source)
            if signs_of(_head(inside), inside.size).first == "ext4":
                with suppress(Damaged):
                    view = replayed(Ext4(inside))
                    if isinstance(view, Overlay):
                        found.append(Replay(stretch, view))
    return found


def after(source: BlockSource, replays: list[Replay]) -> BlockSource:
    """The disk as it is once journals have been replayed; the source itself where none waits."""
    view = source
    for replay in replays:
        begin = 0
        for start, length in replay.stretch.pieces:
            view = Spliced(view, start, Window(replay.view, begin, length))
            begin += length
    return view


def settled(source: BlockSource) -> BlockSource:
    """The disk with every journal replayed that can be."""
    return after(source, waiting(source))


def _stretches(source: BlockSource, partitions: tuple[Partition, ...]) -> Iterator[Stretch]:
    """Every partition, and every logical volume in one."""
    for partition in partitions:
        stretch = Stretch.of(partition.start, partition.length)
        yield stretch
        if signs_of(_head(stretch.within(source)), partition.length).first == "lvm":
            with suppress(Damaged):
                yield from (v.stretch for v in read_group(source, partition.start, partition.length).volumes)


def read_layout(source: BlockSource) -> Layout:
    """Look at a disk, or at several.  Raises `Damaged` where a partition table cannot be trusted."""
    sizes = disks_of(source)
    found = [
        _read_disk(source, number, begin, window)
        for number, (begin, window) in enumerate(zip(begins(sizes), windows_of(source), strict=True))
    ]
    return Layout(
        source.size,
        found[0].scheme,
        tuple(volume for disk in found for volume in disk.volumes),
        tuple(note for disk in found for note in disk.notes),
        tuple(remark for disk in found for remark in disk.remarks),
        sizes,
    )


def _read_disk(source: BlockSource, number: int, begin: int, window: BlockSource) -> Layout:
    """One disk: ``window`` is it by itself, and begins there in the source."""
    whose = f"{role_of(number)}: " if number else ""
    try:
        table = read_partition_table(window)
    except Damaged as error:
        raise Damaged(f"{whose}{error.message}", advice=error.advice) from error
    partitions = _partitions(window, table, begin)
    volumes = tuple(replace(v, disk=number) for partition in partitions for v in _volumes_in(source, partition))
    if table.scheme == "none":
        return Layout(window.size, "none", volumes)
    remarks = []
    stale = _file_system_under(window, table)
    if stale:
        volumes = tuple(_taken_whole(v, stale) for v in volumes)
        remarks.append(whose + stale)
    end = begin + window.size
    outside = _outside(source.size, volumes).intersect(source.allocated(), source.size).within(begin, end)
    bytes_outside = sum(last - first for first, last in outside)
    if bytes_outside > _NOTABLE:
        remarks.append(f"{whose}{iec(bytes_outside)} outside every partition are captured as they are.")
    return Layout(window.size, table.scheme, volumes, tuple(whose + note for note in table.notes), tuple(remarks))


def _partitions(window: BlockSource, table: PartitionTable, begin: int) -> tuple[Partition, ...]:
    """What a table says, counted from the beginning of the first disk; a disk without a table is one partition."""
    if table.scheme == "none":
        return (Partition(0, begin, window.size, "whole-disk"),)
    return tuple(replace(partition, start=begin + partition.start) for partition in table.partitions)


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
    return replace(volume, whole=True, note=volume.note or why)


def _head(window: BlockSource) -> bytes:
    return window.read(0, min(window.size, HEAD))


def _volumes_in(source: BlockSource, partition: Partition) -> Iterator[Volume]:
    """A partition, and the logical volumes in it."""
    volume = _volume(source, partition)
    if volume.filesystem != "lvm" or volume.whole:
        yield volume
        return
    try:
        group = read_group(source, volume.start, volume.length)
    except Damaged as error:
        yield _taken_whole(volume, error.message)
        return
    if group.others:
        names = ", ".join(group.others[:8])
        volume = replace(
            volume, note=f"its volumes of other kinds ({names}) are captured as they are, and not looked into."
        )
    yield volume
    yield from (_volume(source, partition, logical) for logical in group.volumes)


def _volume(source: BlockSource, partition: Partition, logical: LogicalVolume | None = None) -> Volume:
    stretch = logical.stretch if logical else Stretch.of(partition.start, partition.length)
    window = stretch.within(source)
    signs = signs_of(_head(window), window.size)
    filesystem, note, whole, legible = signs.first, "", False, False
    if filesystem == "unknown" and partition.role == "bios-boot":
        filesystem = "boot-code"
    if signs.also:
        names = " and ".join((signs.first, *signs.also))
        whole, note = True, f"It bears the signatures of {names}: nothing shows which of them is meant."
    uuid = label = ""
    if filesystem in ("ext4", "fat"):
        try:
            fs = Ext4(window) if filesystem == "ext4" else Fat(window)
            uuid, label = fs.uuid, fs.label
            if isinstance(fs, Ext4) and not whole and (why := _waits(fs)):
                whole, note = True, why
            if isinstance(fs, Ext4) and fs.cluster > 1:
                filesystem = CLUSTERED
        except Damaged as error:
            filesystem, note = f"{filesystem}-unreadable", error.message
    elif filesystem in _READ_ALONE and not whole:
        try:
            other = _READ_ALONE[filesystem](window)
            uuid, label, legible = other.uuid, other.label, True
            other.used()
            legible = False
        except Damaged as error:
            whole, note = True, error.message
    return Volume(
        partition.number,
        stretch.pieces[0][0],
        stretch.length,
        partition.role,
        filesystem,
        note,
        uuid,
        label,
        "" if logical else partition.uuid,
        "" if logical else partition.name,
        whole,
        logical,
        legible=legible,
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
    areas, and what the source itself reports as zeros.  ``whole_blocks`` is for a copy: see `core.disk.ext4.used`."""
    parts = [_outside(layout.size, layout.volumes)]
    for volume in layout.volumes:
        if volume.filesystem == "lvm" and volume.understood:
            parts.append(read_group(source, volume.start, volume.length).rest)
        else:
            parts.append(volume.stretch.on_disk(_used(volume.within(source), volume, whole_blocks)))
    return parts[0].union(*parts[1:]).intersect(source.allocated(), source.size)


def _outside(size: int, volumes: tuple[Volume, ...]) -> Ranges:
    return Ranges.of((v.start, v.start + v.length) for v in volumes if v.logical is None).complement(size)


def _used(window: BlockSource, volume: Volume, whole_blocks: bool) -> Ranges:
    everything = Ranges.of([(0, window.size)])
    if not volume.understood:
        return everything
    try:
        if volume.filesystem == "ext4":
            ext4 = Ext4(window)
            taken, end = used(ext4, whole_blocks=whole_blocks), ext4.end
        elif volume.filesystem == "fat":
            fat = Fat(window)
            taken, end = fat.used(), fat.clusters_end
        elif volume.filesystem in _READ_ALONE:
            other = _READ_ALONE[volume.filesystem](window)
            taken, end = other.used(), other.end
        elif volume.filesystem == "swap":
            taken, end = Ranges.of([(0, SWAP_HEADER)]), swap_end(window.read(0, SWAP_HEADER), window.size)
        else:
            return everything
    except Damaged:  # what cannot be read to its end is not known to be unused
        return everything
    return taken.union(Ranges.of([(end, window.size)]))
