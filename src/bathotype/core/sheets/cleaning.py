"""Kinds of clean-up of a guest's disk: what is run for each, and how it is seen that nothing is left.

Folders are those of the Filesystem Hierarchy Standard 3.0 and of the package managers.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from bathotype.core.sheets.packages import Argv, Manager

Cleanup = Literal["downloads", "lists", "unneeded", "logs", "temporary"]
#: Done where a step names none: what is unneeded is somebody's judgement, and is asked for.
USUAL: tuple[Cleanup, ...] = ("downloads", "lists", "logs", "temporary")


@dataclass(frozen=True)
class Cleaning:
    """One kind of clean-up: programs, and files that are removed.

    ``folders`` are searched for files that pass ``tests`` (arguments of find(1)); afterwards there are none.
    """

    commands: tuple[Argv, ...] = ()
    folders: tuple[str, ...] = ()
    tests: Argv = ()

    def remove(self, folders: list[str]) -> Argv:
        """Remove the files of these folders."""
        return ("find", *folders, "-xdev", "-mindepth", "1", *self.tests, "-delete")

    def left(self, folders: list[str]) -> Argv:
        """Print one that is left."""
        return ("find", *folders, "-xdev", "-mindepth", "1", *self.tests, "-print", "-quit")


_ROTATED = ("*.gz", "*.xz", "*.old", "*.[0-9]", "*@*.journal", "*@*.journal~")
_LOGS = Cleaning(
    folders=("/var/log",),
    tests=("-type", "f", "(", *[word for name in _ROTATED for word in ("-o", "-name", name)][1:], ")"),
)
# Folders that systemd gives to services are left: these services run.
_TEMPORARY = Cleaning(folders=("/tmp", "/var/tmp"), tests=("-not", "-path", "*/systemd-private-*"))


def cleaning_of(kind: Cleanup, manager: Manager) -> Cleaning:
    """What is done for a kind in a machine with a package manager."""
    if kind == "downloads":
        return Cleaning(manager.clean, manager.downloads, ("-type", "f", "-name", manager.package_files))
    if kind == "lists":
        return Cleaning(folders=manager.lists, tests=("-type", "f"))
    if kind == "unneeded":
        return Cleaning(manager.remove_unneeded)
    return _LOGS if kind == "logs" else _TEMPORARY
