"""Changing files of an ext2, ext3 or ext4 file system in a raw image, without mounting it and without root.

Files are reached by their folders' entries and inodes, so a name may hold any byte.  Changes are kept as a draft of blocks
until they are finished; a file system with anything in it that is not known here is refused before that.  The journal must
have been replayed.  Nothing depends on the clock: the same changes to the same bytes give the same bytes.
"""

from __future__ import annotations

import os
import stat
from collections import OrderedDict

from bathotype.core.disk.ext4.edit import contents
from bathotype.core.disk.ext4.edit.draft import Draft
from bathotype.core.disk.ext4.edit.entries import filled
from bathotype.core.disk.ext4.edit.folders import Folder
from bathotype.core.disk.ext4.edit.inodes import InodeDraft, Inodes
from bathotype.core.disk.ext4.edit.maps import Maps
from bathotype.core.disk.ext4.edit.orphans import let_go
from bathotype.core.disk.ext4.edit.quota import recount
from bathotype.core.disk.ext4.edit.release import Release
from bathotype.core.disk.ext4.edit.room import Room
from bathotype.core.disk.ext4.filesystem import EXTENTS_FL, ROOT_INODE, Ext4
from bathotype.core.disk.ext4.remains import blanking
from bathotype.core.disk.ext4.superblock import FILETYPE
from bathotype.core.disk.source import FileSource
from bathotype.core.disk.stretch import Stretch
from bathotype.core.errors import Damaged, NotFound, Refused

_MOST_NAME, _MOST_LINKS = 255, 65000
_FAST_LINK = 60
_KEPT_FOLDERS, _KEPT_PLACES = 256, 8192
#: Read-only features with which files can be changed: sparse_super, large_file, btree_dir, huge_file, gdt_csum, dir_nlink,
#: extra_isize, quota, metadata_csum, project, verity, orphan_present.
_RO_KNOWN = 0x1 | 0x2 | 0x4 | 0x8 | 0x10 | 0x20 | 0x40 | 0x100 | 0x400 | 0x2000 | 0x8000 | 0x10000
_WRITTEN_AT, _DIRDATA = 48, 0x1000
_INHERITED_PROJECT_FL = 0x20000000
_ENTRY_OF_A_FOLDER = 2


class Ext4Editor:
    """Edits one file system, which lies on a stretch of a raw image.

    Paths are absolute within it and follow no links.  Every verb raises `NotFound` where the path leads nowhere, `Refused`
    for what cannot be done here, `Damaged` for a broken structure and `OutOfSpace`; the image is then of no further use once
    something was written.
    """

    def __init__(self, image: FileSource, stretch: Stretch) -> None:
        self._draft = Draft(image, stretch, Ext4(stretch.within(image)).block_size)
        self._fs = fs = Ext4(self._draft)
        if fs.needs_recovery:
            raise Damaged("The file system's journal waits to be replayed.")
        unknown = fs.ro_compat & ~_RO_KNOWN
        if unknown or fs.incompat & _DIRDATA:
            raise Refused(
                f"The file system has features with which its files cannot be changed here ({unknown:#x}).",
                advice="Capture the machine as it is (--as-is), which changes no files.",
                code="filesystem-unsupported",
            )
        self._inodes = Inodes(fs, self._draft)
        self._room = Room(fs, self._draft)
        self._maps = Maps(fs, self._draft, self._room, self._inodes)
        self._release = Release(self._maps)
        self._folders: OrderedDict[int, Folder] = OrderedDict()
        self._numbers: OrderedDict[tuple[bytes, ...], int] = OrderedDict()
        self._when = fs.u32(_WRITTEN_AT) or 1

    # Verbs

    def remove(self, path: str) -> None:
        """Remove a file, a link, or a folder that is empty."""
        folder, name = self._parent(path)
        number = folder.inode_of(name)
        if number is None:
            raise _nowhere(path)
        node = self._inodes.get(number)
        if node.as_read.is_dir:
            self._remove_folder(path, folder, node)
        elif node.links > 1:
            node.links -= 1
            self._inodes.put(node)
        else:
            self._release.inode(node)
        folder.remove(name)

    def _remove_folder(self, path: str, parent: Folder, node: InodeDraft) -> None:
        if node.number == ROOT_INODE or not self._folder(node.number).is_empty:
            raise Refused(
                f"The folder {path} is not empty.",
                advice="Remove what is in it first.",
                code="path-not-editable",
            )
        self._folders.pop(node.number, None)
        self._numbers.pop(_parts(path), None)
        self._release.inode(node)
        self._count_folder(parent, -1)

    def write(self, path: str, data: bytes, *, mode: int = 0o644, uid: int = 0, gid: int = 0) -> None:
        """Give a file other bytes, or make it.  A file that is there keeps its owner, mode, times and attributes."""
        node = self._find(path)
        if node is None:
            node = self._made(path, stat.S_IFREG | (mode & 0o7777), uid, gid)
        elif not node.as_read.is_file:
            raise Refused(f"{path} is no file.", advice="Name a file.", code="path-not-editable")
        contents.replace(self._maps, node, data)

    def truncate(self, path: str, size: int) -> None:
        """Cut a file off behind ``size`` bytes."""
        node = self._there(path)
        if not node.as_read.is_file or node.is_inline or size >= node.size:
            self.write(path, self._fs.read(node.as_read, most=size))
        else:
            contents.cut(self._maps, node, size)

    def make_directory(self, path: str, *, mode: int = 0o755, uid: int = 0, gid: int = 0) -> None:
        """Make one folder in an existing one."""
        parent, _ = self._parent(path)
        node = self._made(path, stat.S_IFDIR | (mode & 0o7777), uid, gid)
        node.links = 2
        folder = Folder(self._maps, node)
        kind = _ENTRY_OF_A_FOLDER if self._fs.incompat & FILETYPE else 0
        own = [(b".", node.number, kind), (b"..", parent.node.number, kind)]
        folder.append(filled(self._fs.block_size, own, tail=self._fs.checksummed))
        self._count_folder(parent, 1)

    def symlink(self, path: str, target: str, *, uid: int = 0, gid: int = 0) -> None:
        """Make a symbolic link."""
        data = os.fsencode(target)
        if not 0 < len(data) < self._fs.block_size or b"\0" in data:
            raise Refused(
                f"A link cannot lead to {len(data)} bytes.", advice="Make it shorter.", code="path-not-editable"
            )
        node = self._made(path, stat.S_IFLNK | 0o777, uid, gid)
        if len(data) < _FAST_LINK:
            node.flags &= ~EXTENTS_FL
            node.raw[40:100] = data.ljust(60, b"\0")
            node.size = len(data)
            self._inodes.put(node)
        else:
            contents.replace(self._maps, node, data)

    def change_mode(self, path: str, mode: int) -> None:
        """Change who may read, write and run it."""
        node = self._there(path)
        node.set16(0, stat.S_IFMT(node.u16(0)) | (mode & 0o7777))
        self._inodes.put(node)

    def change_owner(self, path: str, uid: int, gid: int) -> None:
        """Give it to another user and group."""
        node = self._there(path)
        node.own(uid, gid)
        self._inodes.put(node)

    def let_orphans_go(self) -> int:
        """Remove what was removed while it was open; returns how many files that were."""
        return let_go(self._release)

    def finish(self) -> None:
        """Write everything to the image, and blank what removed files left in the file system's structures."""
        self._room.finish()
        recount(self._maps)
        self._room.finish()
        for at, data in list(blanking(Ext4(self._draft))):
            self._draft.write(at, data)
        self._draft.flush()

    # Paths

    def _parent(self, path: str) -> tuple[Folder, bytes]:
        """The folder that holds a path, and the path's last name."""
        parts = _parts(path)
        if not parts:
            raise Refused("The root of a file system stays.", advice="Name a path in it.", code="path-not-editable")
        number = self._number_of(parts[:-1])
        if number is None:
            raise _nowhere(path)
        return self._folder(number), parts[-1]

    def _number_of(self, parts: tuple[bytes, ...]) -> int | None:
        """The inode of a folder, begun from the nearest one that is known."""
        known = next((i for i in range(len(parts), 0, -1) if parts[:i] in self._numbers), 0)
        number: int | None = self._numbers[parts[:known]] if known else ROOT_INODE
        for position in range(known, len(parts)):
            number = self._folder(number).inode_of(parts[position]) if number else None
            if number is None:
                return None
            self._numbers[parts[: position + 1]] = number
            if len(self._numbers) > _KEPT_PLACES:
                self._numbers.popitem(last=False)
        return number

    def _folder(self, number: int) -> Folder:
        folder = self._folders.get(number)
        if folder is None:
            node = self._inodes.get(number)
            if not node.as_read.is_dir:
                raise NotFound(f"Inode {number} is no folder.")
            folder = self._folders[number] = Folder(self._maps, node)
            if len(self._folders) > _KEPT_FOLDERS:
                self._folders.popitem(last=False)
        self._folders.move_to_end(number)
        return folder

    def _find(self, path: str) -> InodeDraft | None:
        folder, name = self._parent(path)
        number = folder.inode_of(name)
        return None if number is None else self._inodes.get(number)

    def _there(self, path: str) -> InodeDraft:
        """What is at a path; a folder's inode is the one that the folder changes."""
        if not _parts(path):
            return self._folder(ROOT_INODE).node
        node = self._find(path)
        if node is None:
            raise _nowhere(path)
        return self._folder(node.number).node if node.as_read.is_dir else node

    def _made(self, path: str, mode: int, uid: int, gid: int) -> InodeDraft:
        """A new inode with a name, not written yet."""
        folder, name = self._parent(path)
        if folder.inode_of(name) is not None:
            raise Refused(f"{path} is there already.", advice="Remove it first.", code="path-not-editable")
        near = self._fs.slot_of(folder.node.number)[0]
        number = self._room.take_inode(near, folder=stat.S_ISDIR(mode))
        node = self._inodes.new(number, mode, uid, gid, when=self._when)
        node.links = 1
        if folder.node.flags & _INHERITED_PROJECT_FL and node.u16(128) >= 32:
            node.set32(156, folder.node.u32(156))
            node.flags |= _INHERITED_PROJECT_FL if stat.S_ISDIR(mode) else 0
        self._inodes.put(node)
        folder.add(name, number, mode)
        return node

    def _count_folder(self, parent: Folder, change: int) -> None:
        """Count a folder's folders: each has a link to it.  One link alone says that they are too many to be counted."""
        node = parent.node
        if node.links > 1:
            more = node.links + change
            node.links = more if more < _MOST_LINKS else 1
            self._inodes.put(node)


def _parts(path: str) -> tuple[bytes, ...]:
    parts = tuple(part for part in os.fsencode(path).split(b"/") if part)
    if odd := [part for part in parts if len(part) > _MOST_NAME or part in (b".", b"..") or b"\0" in part]:
        raise Refused(
            f"No file can have the name {os.fsdecode(odd[0][:40])!r}.",
            advice="A name has up to 255 bytes, none of which is zero.",
            code="path-not-editable",
        )
    return parts


def _nowhere(path: str) -> NotFound:
    return NotFound(f"The disk has no {path!r}.")
