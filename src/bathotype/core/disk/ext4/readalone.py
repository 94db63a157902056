"""ext4 as a file system that is read and not changed, as those with bigalloc are: a bit of their bitmaps is about several
blocks."""

from __future__ import annotations

from collections.abc import Iterator

from bathotype.core.disk.diskfile import DiskFile
from bathotype.core.disk.ext4.filesystem import Ext4, Inode
from bathotype.core.disk.ext4.used import used
from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource

#: What one with bigalloc is called.
CLUSTERED = "ext4-bigalloc"


class ReadExt4:
    """Blocks in use and files of an ext4 file system.  Raises `Damaged` when there is none that is understood."""

    def __init__(self, source: BlockSource) -> None:
        self._fs = Ext4(source)
        self.uuid, self.label, self.end = self._fs.uuid, self._fs.label, self._fs.end

    def used(self) -> Ranges:
        """Byte ranges that hold files or metadata; with bigalloc also blocks of a cluster that its file does not use
        yet."""
        return used(self._fs)

    def walk(self) -> Iterator[tuple[str, DiskFile]]:
        """``(absolute path, file)`` of everything, parents before children."""
        return ((entry.path, _file(entry.inode)) for entry in self._fs.walk())

    def find(self, path: str) -> DiskFile | None:
        """The file at an absolute path, following no links; None where there is none.  Raises `Damaged`."""
        inode = self._fs.lookup(path)
        return _file(inode) if inode is not None else None

    def names(self, folder: DiskFile) -> Iterator[str]:
        """The names in a folder.  Raises `Damaged`."""
        return (name for name, _ in self._fs.entries(self._fs.inode(folder.number)))

    def read(self, file: DiskFile, *, most: int | None = None) -> bytes:
        """A file's bytes, or where a link leads; at most the first ``most``.  Raises `Damaged`."""
        return self._fs.read(self._fs.inode(file.number), most=most)

    def attributes(self, file: DiskFile) -> dict[str, bytes]:
        """A file's extended attributes by their full names.  Raises `Damaged`."""
        return self._fs.attributes(self._fs.inode(file.number))


def _file(inode: Inode) -> DiskFile:
    return DiskFile(inode.number, inode.mode, inode.uid, inode.gid, inode.size, inode.mtime)
