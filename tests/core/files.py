"""A guest's files in memory."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import PurePosixPath

from bathotype.core.guest.tree import FileTree, Node


@dataclass(frozen=True)
class Entry:
    """A file of the tree below, or a folder."""

    size: int
    is_file: bool = True
    mode: int = 0o644
    link: bool = False
    uid = gid = mtime = 0

    @property
    def is_link(self) -> bool:
        return self.link

    @property
    def is_dir(self) -> bool:
        return not self.is_file and not self.link


class Files(FileTree):
    """A tree of nothing but these files, and the folders above them."""

    def __init__(self, files: dict[str, bytes]) -> None:
        self._files = files
        folders = {str(folder): Entry(0, False) for path in files for folder in PurePosixPath(path).parents}
        self._entries = dict(sorted(folders.items())) | {path: Entry(len(data)) for path, data in files.items()}

    @property
    def entries(self) -> Mapping[str, Node]:
        return self._entries

    def content(self, path: str, *, most: int | None = None) -> bytes:
        return self._files[path][:most]
