"""Files of file systems that are read and never changed here."""

from __future__ import annotations

import stat
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Protocol

from bathotype.core.errors import Damaged


class Unreadable(Damaged):
    """A file's bytes are there, in a form that is not read here: encrypted, or packed in a way that is not known."""


class OfMode:
    """What the mode of a file says of its kind."""

    __slots__ = ()
    mode: int

    @property
    def is_dir(self) -> bool:
        return stat.S_ISDIR(self.mode)

    @property
    def is_file(self) -> bool:
        return stat.S_ISREG(self.mode)

    @property
    def is_link(self) -> bool:
        return stat.S_ISLNK(self.mode)


@dataclass(frozen=True, slots=True)
class DiskFile(OfMode):
    """A file, folder or link: its number in its file system, ``size`` in bytes, ``mtime`` in seconds since 1970."""

    number: int
    mode: int
    uid: int
    gid: int
    size: int
    mtime: int


class DiskFiles(Protocol):
    """The files of one file system, or of one subvolume of it."""

    def walk(self) -> Iterator[tuple[str, DiskFile]]:
        """``(absolute path, file)`` of everything, parents before children.  Raises `Damaged`."""
        ...

    def find(self, path: str) -> DiskFile | None:
        """The file at an absolute path, following no links; None where there is none.  Raises `Damaged`."""
        ...

    def names(self, folder: DiskFile) -> Iterator[str]:
        """The names in a folder.  Raises `Damaged`."""
        ...

    def read(self, file: DiskFile, *, most: int | None = None) -> bytes:
        """A file's bytes, or where a link leads; at most the first ``most``.

        Raises `Damaged`, and `Unreadable` where only the form of the bytes prevents it.
        """
        ...

    def attributes(self, file: DiskFile) -> Mapping[str, bytes]:
        """A file's extended attributes, or named streams, by their names.  Raises `Damaged`."""
        ...
