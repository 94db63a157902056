"""The files of a disk that is not running, as one tree."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

from bathotype.core.disk.ext4 import Entry, Ext4, Inode
from bathotype.core.disk.layout import Layout, Volume, read_layout
from bathotype.core.disk.source import BlockSource, Window
from bathotype.core.errors import Refused

_MOST_LINKS = 16


@dataclass(frozen=True)
class GuestDisk:
    """A disk with an operating system that we can read: its layout, root volume and root file system."""

    source: BlockSource
    layout: Layout
    root: Volume

    @classmethod
    def open(cls, source: BlockSource) -> GuestDisk:
        """Raises `Refused` where the disk has no root file system that can be read offline."""
        layout = read_layout(source)
        root = layout.root(source)
        if root is None:
            kinds = ", ".join(sorted({v.filesystem for v in layout.volumes})) or "nothing"
            raise Refused(
                f"The disk has no ext4 file system with an operating system on it (found: {kinds}).",
                advice="Capture it as it is (--as-is), which neither reads nor changes its files.",
                code="filesystem-unsupported",
            )
        return cls(source, layout, root)

    @cached_property
    def fs(self) -> Ext4:
        """The root file system."""
        return Ext4(Window(self.source, self.root.start, self.root.length))

    @cached_property
    def entries(self) -> dict[str, Inode]:
        """Every path of the root file system, parents before children."""
        return {entry.path: entry.inode for entry in self.fs.walk()}

    def walk(self) -> Iterator[Entry]:
        """Every file, parents before children."""
        return (Entry(path, inode) for path, inode in self.entries.items())

    def resolve(self, path: str) -> str | None:
        """The real path behind links, within the disk; None where it leads nowhere."""
        for _ in range(_MOST_LINKS):
            parts, at, again = [p for p in path.split("/") if p], "", None
            for position, part in enumerate(parts):
                here = f"{at}/{part}"
                inode = self.entries.get(here)
                if inode is None:
                    return None
                if inode.is_link:
                    target = self.fs.read(inode).decode("utf-8", "surrogateescape")
                    base = target if target.startswith("/") else f"{at}/{target}"
                    again = _normal("/".join([base, *parts[position + 1 :]]))
                    break
                at = here
            if again is None:
                return at or "/"
            path = again
        return None

    def read(self, path: str, *, most: int = 4 * 1024 * 1024) -> bytes | None:
        """The first bytes of a file, links followed; None where there is no such file."""
        real = self.resolve(path)
        inode = self.entries.get(real) if real else None
        return self.fs.read(inode, most=most) if inode is not None and inode.is_file else None

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
