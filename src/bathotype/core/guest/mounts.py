"""Volumes and the folders where their files appear: as fstab(5) says, else under names of ours."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from bathotype.core.disk.diskfile import DiskFile, DiskFiles, Unreadable
from bathotype.core.disk.ext4.filesystem import Ext4, Inode
from bathotype.core.disk.fat import Fat, FatFile
from bathotype.core.disk.layout import Volume
from bathotype.core.disk.otherfiles import TOP, Tree, trees
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Damaged

AnyFile = Inode | FatFile | DiskFile
_MOST_FSTAB = 65536
#: Paths in subvolumes besides the system's own: snapshots may hold the whole system a hundred times.
_MOST_PATHS = 2_000_000


class Row(NamedTuple):
    """A row of fstab: what is mounted, where (empty for the root), and how."""

    spec: str
    point: str
    options: tuple[str, ...]


@dataclass(frozen=True)
class Mount:
    """A volume's files and the folder where they appear; ``subvolume`` is the number of theirs."""

    point: str
    volume: Volume
    fs: Ext4 | Fat | DiskFiles
    subvolume: int = 0
    listing: list[tuple[str, DiskFile]] = field(default_factory=list, compare=False, repr=False)

    @classmethod
    def of(cls, point: str, volume: Volume, tree: Tree) -> Mount:
        """Files that are read and not changed.  Raises `Damaged`."""
        return cls(point, volume, tree.files, tree.number, list(tree.files.walk()))

    def inside(self, path: str) -> str:
        """The path within the volume."""
        return path if self.point == "/" else (path[len(self.point) :] or "/")

    def files(self) -> Iterator[tuple[str, AnyFile]]:
        """``(path within the volume, file)`` of everything, parents before children."""
        if isinstance(self.fs, Ext4):
            return ((entry.path, entry.inode) for entry in self.fs.walk())
        return iter(self.fs.walk() if isinstance(self.fs, Fat) else self.listing)

    def read(self, file: AnyFile, most: int | None) -> bytes:
        """A file's bytes, at most the first ``most``.  Raises `Damaged`, and `Unreadable`."""
        if isinstance(self.fs, Ext4):
            assert isinstance(file, Inode)
            return self.fs.read(file, most=most)
        if isinstance(self.fs, Fat):
            assert isinstance(file, FatFile)
            return self.fs.read(file, most=most)
        assert isinstance(file, DiskFile)
        try:
            return self.fs.read(file, most=most)
        except Damaged as error:
            raise Unreadable(error.message) from error

    def attributes(self, file: AnyFile) -> Mapping[str, bytes]:
        """A file's extended attributes.  Raises `Damaged`, and `Unreadable`."""
        if isinstance(file, Inode):
            return self.fs.attributes(file) if isinstance(self.fs, Ext4) else {}
        if not isinstance(file, DiskFile) or isinstance(self.fs, (Ext4, Fat)):
            return {}
        try:
            return self.fs.attributes(file)
        except Damaged as error:
            raise Unreadable(error.message) from error


def plain_files(volume: Volume, window: BlockSource) -> Ext4 | Fat:
    """The files of a volume that can be changed.  Raises `Damaged`."""
    return Ext4(window) if volume.filesystem == "ext4" else Fat(window)


def own_name(volume: Volume, path: str = "/") -> str:
    """Where a volume appears that fstab does not name; ``path`` is that of a subvolume in it."""
    below = "" if path == "/" else f", {path.strip('/')}"
    return f"/({(volume.name + below).replace('/', ' ')})"


def fstab(root: Mount) -> list[Row]:
    """The rows of a system's fstab."""
    text = ""
    if isinstance(root.fs, Fat):
        return []
    if isinstance(root.fs, Ext4):
        inode = root.fs.lookup("/etc/fstab")
        text = root.fs.read(inode, most=_MOST_FSTAB).decode("utf-8", "replace") if inode and inode.is_file else ""
    else:
        file = next((file for path, file in root.listing if path == "/etc/fstab" and file.is_file), None)
        text = root.read(file, _MOST_FSTAB).decode("utf-8", "replace") if file is not None else ""
    rows = [line.split() for line in text.splitlines() if line.strip() and not line.lstrip().startswith("#")]
    return [
        Row(row[0], row[1].rstrip("/"), tuple(row[3].split(",")) if len(row) > 3 else ())
        for row in rows
        if len(row) >= 2 and row[1].startswith("/")
    ]


def placed_trees(
    volume: Volume, window: BlockSource, rows: Sequence[Row], found: Iterable[Mount], root: Mount
) -> Iterator[Mount]:
    """The trees of a volume that is read alone, but for the system's own.  Raises `Damaged`, behind those that can be read.

    A subvolume that fstab does not mount appears where it lies in another that does appear.
    """
    taken = {mount.point for mount in found}
    points: dict[int, str] = {root.subvolume: "/"} if root.volume == volume else {}
    room = _MOST_PATHS
    for tree in trees(volume.filesystem, window):
        if tree.number in points:
            continue  # the system's own
        point = next((row.point for row in rows if row.point and row.point not in taken and _means(row, tree)), "")
        if not point and tree.inside in points and tree.inside != TOP:
            point = f"{points[tree.inside].rstrip('/')}{tree.path_inside}"
        point = point if point and point not in taken else own_name(volume, tree.path)
        points[tree.number] = point
        taken.add(point)
        mount = Mount.of(point, volume, tree)
        room -= len(mount.listing)
        if room < 0:
            raise Damaged(f"Its subvolumes hold more than {_MOST_PATHS} paths; the first of them were scanned.")
        yield mount


def _means(row: Row, tree: Tree) -> bool:
    """Whether a row of fstab that names a tree's volume mounts this tree of it."""
    if not tree.number:
        return True
    named = dict(option.partition("=")[::2] for option in row.options)
    if "subvolid" in named:
        return named["subvolid"] == str(tree.number)
    return f"/{named.get('subvol', '').strip('/')}" == tree.path
