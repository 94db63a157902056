"""A folder of a payload as an archive, which a step unpacks: the same bytes wherever it is packed.

The archive is a tar of POSIX.1-2001 (pax) with the files in the order of their paths, each owned by root, without a time
of its own, and with no right but whether it can be executed.
"""

from __future__ import annotations

import os
import tarfile
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, Protocol

from bathotype.core.errors import Refused
from bathotype.core.sheets.sheet import MOST_PAYLOAD
from bathotype.core.units import iec

_MOST_FILES = 20_000


class Target(Protocol):
    """What an archive is written to."""

    def write(self, data: bytes, /) -> int:
        """Take some bytes."""
        ...


@dataclass(frozen=True)
class Member:
    """A file of a folder, by its path in it."""

    path: str
    size: int
    executable: bool
    open: Callable[[], BinaryIO]


def pack(name: str, members: Iterable[Member], target: Target) -> None:
    """Write the archive of a folder, which ``name`` calls.  Raises `Refused` where it holds nothing, or too much."""
    found = sorted(members, key=lambda member: member.path)
    if not found:
        raise Refused(f"{name} of the payload holds no file.", code="payload-empty")
    if len(found) > _MOST_FILES or sum(member.size for member in found) > MOST_PAYLOAD:
        told = f"{name} of the payload has more than {iec(MOST_PAYLOAD)}, or {_MOST_FILES} files."
        raise Refused(told, code="too-large")
    # A stream is only written to.
    with tarfile.open(None, "w|", target, format=tarfile.PAX_FORMAT) as archive:  # type: ignore[call-overload]
        for member in found:
            about = tarfile.TarInfo(member.path)
            about.size, about.mode = member.size, 0o755 if member.executable else 0o644
            about.uname = about.gname = "root"
            with member.open() as file:
                archive.addfile(about, file)


def members_of(name: str, folder: Path) -> list[Member]:
    """The files of a folder beside a sheet.  Raises `Refused` for a link, a device, or a name that is no text."""
    found = []
    for at, folders, files in os.walk(folder):
        for entry in (*folders, *files):
            path = Path(at) / entry
            where = path.relative_to(folder).as_posix()
            if path.is_symlink() or not (path.is_file() or path.is_dir()):
                raise Refused(
                    f"{name} of the payload holds {where!r}, which is no file.", advice="Put the file itself there."
                )
            if path.is_file():
                check_path(name, where)
                about = path.stat()
                found.append(Member(where, about.st_size, bool(about.st_mode & 0o100), _opener(path)))
    return found


def check_path(name: str, path: str) -> None:
    """Raises `Refused` for a path that an archive cannot have in every system."""
    if not path.isprintable():  # nor is a character in place of bytes that are not UTF-8
        raise Refused(f"{name} of the payload holds {path!r}: give it a name of printable characters.")


def _opener(path: Path) -> Callable[[], BinaryIO]:
    return lambda: path.open("rb")
