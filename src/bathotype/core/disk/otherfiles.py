"""The files of file systems that are read and never changed here, as trees: one a file system, or one a subvolume."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from bathotype.core.disk.btrfs.files import TOP, BtrfsFiles
from bathotype.core.disk.diskfile import DiskFiles
from bathotype.core.disk.ext4.readalone import CLUSTERED, ReadExt4
from bathotype.core.disk.ntfs.files import NtfsFiles
from bathotype.core.disk.source import BlockSource
from bathotype.core.disk.xfs.files import XfsFiles

__all__ = ["TOP", "Tree", "tree_of_system", "trees"]

#: What shows that an operating system is there: a folder that each has.
_SYSTEM_FOLDERS = {"xfs": "/etc", "btrfs": "/etc", "ntfs": "/Windows/System32", CLUSTERED: "/etc"}


@dataclass(frozen=True)
class Tree:
    """A tree of files: ``number`` and ``path`` are a subvolume's, ``inside`` is the number of the one that holds it, and
    ``path_inside`` its path there."""

    files: DiskFiles
    number: int = 0
    path: str = "/"
    inside: int | None = None
    path_inside: str = "/"


def trees(filesystem: str, volume: BlockSource) -> list[Tree]:
    """Every tree of a file system.  Raises `Damaged`."""
    if filesystem == "btrfs":
        fs = BtrfsFiles(volume)
        return [
            Tree(fs.of(one), one.number, one.path, one.parent or None, one.inside) for one in fs.subvolumes.values()
        ]
    plain: dict[str, Callable[[BlockSource], DiskFiles]] = {"xfs": XfsFiles, "ntfs": NtfsFiles, CLUSTERED: ReadExt4}
    return [Tree(plain[filesystem](volume))]


def _is_folder(tree: Tree, path: str) -> bool:
    file = tree.files.find(path)
    return file is not None and file.is_dir


def tree_of_system(filesystem: str, volume: BlockSource) -> Tree | None:
    """The tree that holds an operating system; None where there is none.

    Of several subvolumes that do it is the one that is mounted where none is named, then the oldest.  Raises `Damaged`.
    """
    wanted = _SYSTEM_FOLDERS[filesystem]
    if filesystem != "btrfs":
        [tree] = trees(filesystem, volume)
        return tree if _is_folder(tree, wanted) else None
    fs = BtrfsFiles(volume)
    holding = [one for one in trees(filesystem, volume) if _is_folder(one, wanted)]
    return min(holding, key=lambda tree: (tree.number != fs.default, tree.number != TOP, tree.number), default=None)
