"""Blanking what removed files left in the file systems of a copy, where their files were removed from inside."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from bathotype.core.disk import fatedit
from bathotype.core.disk.btrfs import remains as btrfsremains
from bathotype.core.disk.ext4 import remains as ext4remains
from bathotype.core.disk.ext4.filesystem import Ext4
from bathotype.core.disk.fat import Fat
from bathotype.core.disk.layout import read_layout
from bathotype.core.disk.source import BlockSource, FileSource
from bathotype.core.guest.offline import Tool, check, replay, settle

_BLANKING: dict[str, Callable[[BlockSource], Iterator[tuple[int, bytes]]]] = {
    "btrfs": btrfsremains.blanking,
    "ext4": lambda window: ext4remains.blanking(Ext4(window)),
    "fat": lambda window: fatedit.blanking(Fat(window)),
}


_PIECE = 4 * 1024 * 1024


def still_holds(disk: BlockSource, needle: bytes) -> bool:
    """Whether the bytes of a disk hold something anywhere, in files or not."""
    tail = b""
    for start, end in disk.allocated():
        for at in range(start, end, _PIECE):
            data = disk.read(at, min(_PIECE, end - at))
            if needle in tail + data:
                return True
            tail = data[-len(needle) :]
    return False


def blank_remains(image: FileSource, *, judge: Tool = check, by_tool: Tool = replay) -> None:
    """Go through every volume of a raw copy.  Raises `Damaged` where an ext4 one is not clean afterwards."""
    for volume in read_layout(image).volumes:
        if volume.filesystem == "ext4":
            settle(image, volume.stretch, by_tool=by_tool)
        if volume.filesystem in _BLANKING:
            for at, data in list(_BLANKING[volume.filesystem](volume.within(image))):
                volume.stretch.write(image, at, data)
        if volume.filesystem == "ext4":
            judge(image, volume.stretch)
    image.flush()
