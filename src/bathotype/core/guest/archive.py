"""The files of a guest in a tar archive that was made inside it: POSIX.1-2001 and GNU headers, by `tarfile`."""

from __future__ import annotations

import tarfile
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from bathotype.core.disk.fileobject import as_file
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Damaged
from bathotype.core.guest.node import Node
from bathotype.core.guest.tree import FileTree

_BUFFER = 32 * 1024


@dataclass(frozen=True)
class TarNode:
    """One member; ``place`` is where its bytes lie in the archive."""

    kind: bytes
    mode: int
    uid: int
    gid: int
    size: int
    mtime: int
    place: int
    target: str

    @property
    def is_dir(self) -> bool:
        return self.kind == tarfile.DIRTYPE

    @property
    def is_file(self) -> bool:
        return self.kind in (tarfile.REGTYPE, tarfile.AREGTYPE, tarfile.LNKTYPE)

    @property
    def is_link(self) -> bool:
        return self.kind == tarfile.SYMTYPE


class TarTree(FileTree):
    """Every member of an archive that lies at the start of a disk.  Raises `Damaged`."""

    def __init__(self, disk: BlockSource) -> None:
        self._disk = disk
        self._entries: dict[str, TarNode] = {}
        try:
            reader: Any = as_file(disk, _BUFFER)
            with tarfile.open(fileobj=reader, mode="r:") as archive:
                for member in archive:
                    self._add(member)
        except (tarfile.TarError, EOFError, ValueError) as error:
            raise Damaged(f"The guest's archive cannot be read: {error}.") from error

    def _add(self, member: tarfile.TarInfo) -> None:
        path = "/" + member.name.removeprefix(".").strip("/")
        size, place = member.size, member.offset_data
        if member.islnk():  # a further name of a file that came before
            first = self._entries.get("/" + member.linkname.removeprefix(".").strip("/"))
            size, place = (first.size, first.place) if first else (0, 0)
        self._entries[path] = TarNode(
            member.type, member.mode, member.uid, member.gid, size, int(member.mtime), place, member.linkname
        )

    @property
    def entries(self) -> Mapping[str, Node]:
        return self._entries

    def content(self, path: str, *, most: int | None = None) -> bytes:
        node = self._entries[path]
        if node.is_link:
            return node.target.encode("utf-8", "surrogateescape")
        return self._disk.read(node.place, node.size if most is None else min(node.size, most))
