"""The files of a guest as one tree, wherever they come from: an offline disk, or an archive made inside."""

from __future__ import annotations

from abc import ABC, abstractmethod
from bisect import bisect_left
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

from bathotype.core.disk.diskfile import Unreadable
from bathotype.core.disk.ranges import Ranges
from bathotype.core.guest.aliases import Alias, aliases_of
from bathotype.core.guest.node import Node
from bathotype.core.guest.patterns import Names, Pattern

_MOST_LINKS = 16


@dataclass(frozen=True)
class SwapArea:
    """Swap space: its name for people, bytes of content, and the ranges of the disk that a capture hides."""

    name: str
    bytes: int
    hidden: Ranges


class Lack(NamedTuple):
    """A volume of which a tree shows no files, or whose files nobody could change: its name for people, and why.

    One that is scanned and has a reason was not in order when it was read.
    """

    what: str
    scanned: bool
    why: str = ""


class FileTree(ABC):
    """Every path of a guest, and what is in its files."""

    @property
    @abstractmethod
    def entries(self) -> Mapping[str, Node]:
        """Every path, parents before children."""

    @abstractmethod
    def content(self, path: str, *, most: int | None = None) -> bytes:
        """The bytes of exactly this file, or a link's target; at most the first ``most``.

        Raises `Unreadable` where they cannot be read, and nothing else is wrong.
        """

    @cached_property
    def aliases(self) -> list[Alias]:
        """Other names of folders."""
        homes = {}
        for line in self.text("/etc/passwd").split("\n"):
            parts = line.split(":")
            if len(parts) == 7 and parts[5].startswith("/"):
                homes[parts[0]] = _normal(parts[5])
        return aliases_of(self.entries, self.resolve, homes)

    def below(self, folder: str) -> list[str]:
        """Every path below a folder, found without looking at the others."""
        prefix = f"{folder.rstrip('/')}/"
        first = bisect_left(self._in_order, prefix)
        # The character after "/" ends what begins with the prefix.
        return self._in_order[first : bisect_left(self._in_order, f"{prefix[:-1]}0")]

    def matching(self, pattern: Pattern) -> list[str]:
        """Every path that a pattern matches, in the order of `entries`."""
        return [self._paths[place] for place in self._all_names.matching(pattern)]

    @cached_property
    def _paths(self) -> list[str]:
        return list(self.entries)

    @cached_property
    def _all_names(self) -> Names:
        return Names(self._paths)

    @cached_property
    def _in_order(self) -> list[str]:
        return sorted(self.entries)

    def names_of(self, path: str) -> Iterator[str]:
        """The names of a path: its own first, then those that it has because a folder on its way has another name."""
        yield path
        at = path.rfind("/")
        while at > 0:
            for name in self._other_names.get(path[:at], ()):
                yield name + path[at:]
            at = path.rfind("/", 0, at)

    @cached_property
    def _other_names(self) -> dict[str, list[str]]:
        found: dict[str, list[str]] = {}
        for alias in self.aliases:
            found.setdefault(alias.real, []).append(alias.name)
        return found

    def attributes(self, path: str) -> Mapping[str, bytes]:
        """The extended attributes of a path, as far as the tree knows of them."""
        return {}

    def lacks(self) -> list[Lack]:
        """Volumes whose files are not shown, or are shown and were out of a profile's reach."""
        return []

    def swap_areas(self) -> list[SwapArea]:
        """Swap space of the guest, as far as the tree knows of it."""
        return []

    def is_kept(self, path: str) -> bool:
        """Paths that belong to the file system itself."""
        return path in ("/", "/lost+found")

    def resolve(self, path: str) -> str | None:
        """The real path behind links, within the tree; None where it leads nowhere."""
        for _ in range(_MOST_LINKS):
            parts, at, again = [p for p in path.split("/") if p], "", None
            for position, part in enumerate(parts):
                here = f"{at}/{part}"
                node = self.entries.get(here)
                if node is None:
                    return None
                if node.is_link:
                    try:
                        target = self.content(here).decode("utf-8", "surrogateescape")
                    except Unreadable:
                        return None
                    base = target if target.startswith("/") else f"{at}/{target}"
                    again = _normal("/".join([base, *parts[position + 1 :]]))
                    break
                at = here
            if again is None:
                return at or "/"
            path = again
        return None

    def read(self, path: str, *, most: int = 4 * 1024 * 1024) -> bytes | None:
        """The first bytes of a file, links followed; None where there is no such file, or it cannot be read."""
        real = self.resolve(path)
        node = self.entries.get(real) if real else None
        if node is None or not node.is_file:
            return None
        try:
            return self.content(str(real), most=most)
        except Unreadable:
            return None

    def text(self, path: str) -> str:
        """A text file, empty where there is none."""
        return (self.read(path) or b"").decode("utf-8", "replace")


def _normal(path: str) -> str:
    out: list[str] = []
    for part in path.split("/"):
        if part == "..":
            out = out[:-1]
        elif part not in ("", "."):
            out.append(part)
    return "/" + "/".join(out)
