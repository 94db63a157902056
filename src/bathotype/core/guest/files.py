"""The files of a disk that is not running, as one tree: every volume where fstab(5) mounts it."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

from bathotype.core.disk.diskfile import DiskFile
from bathotype.core.disk.ext4.filesystem import Ext4, Inode
from bathotype.core.disk.fat import FatFile
from bathotype.core.disk.layout import SWAP_HEADER, Layout, Volume, read_layout
from bathotype.core.disk.otherfiles import Tree, trees
from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.signatures import swap_end
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Damaged, Refused
from bathotype.core.guest.aliases import Alias
from bathotype.core.guest.mounts import Mount, fstab, own_name, placed_trees, plain_files
from bathotype.core.guest.tree import FileTree, Lack, SwapArea

#: Before the paths of files over which another volume is mounted.  The mount's own "/" follows, and no real path has two.
_BELOW = "/(below /"
_LEAST_SWAP = 10 * SWAP_HEADER
#: Names that Linux gives to disks and partitions: letters count the disks of one kind, so do the numbers of NVMe.
_LETTERED = re.compile(r"/dev/(?:[shv]|xv)d([a-z])(\d*)")
_NUMBERED = re.compile(r"/dev/(?:nvme(\d{1,3})n1|mmcblk(\d{1,3}))(?:p(\d+))?")


def _below(point: str) -> str:
    """The name under which the folder appears over which a volume is mounted."""
    return f"{_BELOW}{point})"


def _device(spec: str) -> tuple[int, int] | None:
    """The number of a disk, from 0 on, and of its partition, 0 for the whole disk; None for what is no such device."""
    if found := _LETTERED.fullmatch(spec):
        return ord(found[1]) - ord("a"), int(found[2] or 0)
    if found := _NUMBERED.fullmatch(spec):
        return int(found[1] or found[2]), int(found[3] or 0)
    return None


def _refused(why: str, layout: Layout) -> Refused:
    kinds = ", ".join(sorted({v.filesystem for v in layout.volumes})) or "nothing"
    return Refused(
        f"{why} (found: {kinds}).",
        advice="Capture it as it is (--as-is), which changes none of its files.",
        code="filesystem-unsupported",
    )


def _largest(source: BlockSource, layout: Layout) -> tuple[Volume, Tree | None]:
    """The volume with files of which no system is one: the largest, and one that is no boot partition before others."""
    having = [v for v in layout.volumes if v.filesystem in ("ext4", "fat") or v.shown]
    volume = max(having, key=lambda v: (v.filesystem != "fat", v.length), default=None)
    if volume is None:
        raise Damaged("The disk has no file system whose files can be read.")
    return volume, trees(volume.filesystem, volume.within(source))[0] if volume.shown else None


@dataclass(frozen=True)
class GuestDisk(FileTree):
    """A disk whose files we can read: its layout and root volume."""

    source: BlockSource
    layout: Layout
    root: Volume
    #: The system's files, where they cannot be changed.
    tree: Tree | None = None
    #: Whether volumes are among it whose files cannot be changed.
    everything: bool = False
    holds_system: bool = True

    @classmethod
    def open(cls, source: BlockSource) -> GuestDisk:
        """The files that can be changed.  Raises `Refused` where the disk has no root file system of that kind."""
        layout = read_layout(source)
        root = layout.root(source)
        if root is None:
            raise _refused("The disk has no ext4 file system with an operating system on it", layout)
        return cls(source, layout, root)

    @classmethod
    def seen(cls, source: BlockSource) -> GuestDisk:
        """All files that can be read, also where they cannot be changed.  Raises `Refused` where there are none.

        Where no operating system is among them, the largest volume with files is taken for the root.
        """
        layout = read_layout(source)
        root = layout.root(source)
        if root is not None:
            return cls(source, layout, root, everything=True)
        try:
            found = layout.system_read_alone(source)
            volume, tree = found or _largest(source, layout)
            disk = cls(source, layout, volume, tree, everything=True, holds_system=found is not None)
            _ = disk.mounts
        except Damaged as error:
            raise _refused(error.message.rstrip("."), layout) from error
        return disk

    @property
    def root_is_last(self) -> bool:
        """Whether the root volume is a partition behind which its disk has no other."""
        others = (v for v in self.layout.volumes if v.disk == self.root.disk)
        return self.root.logical is None and all(v.start <= self.root.start for v in others)

    @property
    def mounts(self) -> list[Mount]:
        """The root first, then what fstab mounts, outer before inner; a volume that fstab does not name appears
        under a name of ours."""
        return self._placed[0]

    def lacks(self) -> list[Lack]:
        """Volumes that cannot be read, and those beside the root whose files cannot be changed."""
        shown, unread = {mount.volume.name for mount in self.mounts}, self._placed[1]
        found = []
        for volume in self.layout.volumes:
            what = f"{volume.name} ({volume.filesystem})"
            if volume.legible and volume.name in shown:
                found.append(Lack(what, True, volume.note))
            elif not volume.looked_into or volume.name in unread or (volume.read_alone and volume.name not in shown):
                found.append(Lack(what, False, unread.get(volume.name, "")))
            elif volume.read_alone and volume != self.root:
                found.append(Lack(what, True))
        return found

    @cached_property
    def _placed(self) -> tuple[list[Mount], dict[str, str]]:
        root = self._root()
        found, unread = [root], dict[str, str]()
        rows = fstab(root)
        first = next((d[0] for row in rows if not row.point and (d := _device(row.spec))), 0) - self.root.disk
        for volume in self.layout.volumes:
            named = [row for row in rows if self._names(row.spec, volume, first)]
            if volume.filesystem in ("ext4", "fat") and volume != self.root:
                fs = plain_files(volume, self._window(volume))
                taken = {mount.point for mount in found}  # by another volume that bears the same name
                free = (row.point for row in named if row.point and row.point not in taken)
                found.append(Mount(next(free, own_name(volume)), volume, fs))
            elif self.everything and volume.shown:
                try:
                    for mount in placed_trees(volume, self._window(volume), named, tuple(found), root):
                        found.append(mount)  # one after another: what was read before a fault counts
                except Damaged as error:
                    unread[volume.name] = error.message
        return sorted(found, key=lambda m: (m.point.count("/") if m.point != "/" else 0, m.point)), unread

    def _root(self) -> Mount:
        if self.tree is not None:
            return Mount.of("/", self.root, self.tree)
        return Mount("/", self.root, plain_files(self.root, self._window(self.root)))

    def _window(self, volume: Volume) -> BlockSource:
        return volume.within(self.source)

    @staticmethod
    def _names(spec: str, volume: Volume, first: int) -> bool:
        """Whether fstab means a volume; ``first`` is what the guest counts its boot disk as."""
        kind, equals, value = spec.removeprefix("/dev/disk/by-").partition(
            "/" if spec.startswith("/dev/disk/") else "="
        )
        value = value.strip('"')
        if equals:
            mine = {
                "UUID": volume.uuid,
                "LABEL": volume.label,
                "PARTUUID": volume.part_uuid,
                "PARTLABEL": volume.part_label,
            }
            return bool(value) and mine.get(kind.upper(), "").lower() == value.lower()
        if volume.logical:
            return spec in volume.logical.devices
        return _device(spec) == (volume.disk + first, volume.number)

    def locate(self, path: str) -> tuple[Mount, str]:
        """The volume on which a path lies, and the path within it."""
        mount = self.mount_of(path)
        if path.startswith(_BELOW):
            over = next(m.point for m in self.mounts if path.startswith(f"{_below(m.point)}/"))
            return mount, mount.inside(over + path[len(_below(over)) :])
        return mount, mount.inside(path)

    @cached_property
    def aliases(self) -> list[Alias]:
        below = [Alias(m.point, _below(m.point), always=True) for m in self.mounts if m.point != "/"]
        return [*super().aliases, *below]

    def mount_of(self, path: str) -> Mount:
        """The volume on which a path lies."""
        over = ""
        if path.startswith(_BELOW):
            over = next((m.point for m in self.mounts if path.startswith(f"{_below(m.point)}/")), "")
        path = over or path  # the folder that is mounted over lies in the volume around it
        fitting = [
            m for m in self.mounts
            if m.point != over and (m.point == "/" or path == m.point or path.startswith(m.point + "/"))
        ]  # fmt: skip
        return max(fitting, key=lambda m: len(m.point))

    @cached_property
    def entries(self) -> dict[str, Inode | FatFile | DiskFile]:
        found: dict[str, Inode | FatFile | DiskFile] = {}
        for mount in self.mounts:
            if mount.point != "/":
                # Whether it is mounted is the guest's to say: what lies below is looked at as well, under a name of ours.
                for hidden in [p for p in found if p.startswith(mount.point + "/")]:
                    found[_below(mount.point) + hidden[len(mount.point) :]] = found.pop(hidden)
            prefix = "" if mount.point == "/" else mount.point
            for path, file in mount.files():
                found[(prefix + path).rstrip("/") or "/"] = file
        return found

    def content(self, path: str, *, most: int | None = None) -> bytes:
        return self.locate(path)[0].read(self.entries[path], most)

    def attributes(self, path: str) -> Mapping[str, bytes]:
        return self.locate(path)[0].attributes(self.entries[path])

    def swap_areas(self) -> list[SwapArea]:
        """Swap partitions, and the swap files that fstab names."""
        found = [
            SwapArea(f"({v.name})", v.length - SWAP_HEADER, Ranges.of([]))
            for v in self.layout.volumes
            if v.filesystem == "swap"
        ]
        for path in self._swap_files():
            node, fs = self.entries[path], self.locate(path)[0].fs
            if isinstance(fs, Ext4):
                head = max(SWAP_HEADER, fs.block_size)
                found.append(SwapArea(path, max(0, node.size - SWAP_HEADER), self._beyond(path, head)))
        return found

    def _swap_files(self) -> list[str]:
        """The files that fstab names as swap, by their real paths, and every file that bears the signature of one."""
        named: dict[str, None] = {}
        for line in self.text("/etc/fstab").split("\n"):
            fields = line.split()
            if len(fields) >= 3 and fields[2] == "swap" and fields[0].startswith("/"):
                # fstab(5): blanks are written as octal numbers.
                name = re.sub(r"\\([0-7]{3})", lambda octal: chr(int(octal[1], 8)), fields[0])
                real = self.resolve(name)
                if real is not None and self.entries[real].is_file:
                    named[real] = None
        for path, node in self.entries.items():
            fits = node.is_file and node.size >= _LEAST_SWAP and node.size % SWAP_HEADER == 0
            if fits and swap_end(self.content(path, most=SWAP_HEADER), node.size):
                named[path] = None
        return list(named)

    def _beyond(self, path: str, head: int) -> Ranges:
        """Where a file's bytes behind its first ``head`` lie on the disk."""
        mount, node = self.locate(path)[0], self.entries[path]
        if not isinstance(node, Inode) or not isinstance(mount.fs, Ext4):
            return Ranges.of([])
        size, runs = mount.fs.block_size, []
        for logical, start, count, _ in mount.fs.extents(node):
            skip = min(count, max(0, head // size - logical))
            runs.append(((start + skip) * size, (start + count) * size))
        return mount.volume.stretch.on_disk(Ranges.of(runs))

    def is_kept(self, path: str) -> bool:
        """Roots of volumes and their lost+found belong to the file system, not to its files."""
        inside = self.locate(path)[1]
        return inside in ("/", "/lost+found")
