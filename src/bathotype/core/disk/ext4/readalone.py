"""ext4 with bigalloc: a bit of its bitmaps stands for several blocks.  It is read, and not changed here."""

from __future__ import annotations

from collections.abc import Iterator

from bathotype.core.disk.diskfile import DiskFile
from bathotype.core.disk.ext4.filesystem import Ext4, Inode
from bathotype.core.disk.ext4.used import used
from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource

#: What such a file system is called.
CLUSTERED = "ext4-bigalloc"


class Clustered:
    """Blocks in use and files of such a file system.  Raises `Damaged` when there is none that is understood."""

    def __init__(self, source: BlockSource) -> None:
        self._fs = Ext4(source)
        self.uuid, self.label, self.end = self._fs.uuid, self._fs.label, self._fs.end

    def used(self) -> Ranges:
        """Byte ranges that hold files or metadata.  Blocks of a cluster that its file does not use yet are among them."""
        return used(self._fs)

    def walk(self) -> Iterator[tuple[str, DiskFile]]:
        """``(absolute path, file)`` of everything, parents before children."""
        return ((entry.path, _file(entry.inode)) for entry in self._fs.walk())

    def is_folder(self, path: str) -> bool:
        """Whether a path, without links, leads to a folder.  Raises `Damaged`."""
        inode = self._fs.lookup(path)
        return inode is not None and inode.is_dir

    def read(self, file: DiskFile, *, most: int | None = None) -> bytes:
        """A file's bytes, or where a link leads; at most the first ``most``.  Raises `Damaged`."""
        return self._fs.read(self._fs.inode(file.number), most=most)

    def attributes(self, file: DiskFile) -> dict[str, bytes]:
        """A file's extended attributes by their full names.  Raises `Damaged`."""
        return self._fs.attributes(self._fs.inode(file.number))


def _file(inode: Inode) -> DiskFile:
    return DiskFile(inode.number, inode.mode, inode.uid, inode.gid, inode.size, inode.mtime)
