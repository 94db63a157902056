"""Blanking what removed files left in the file systems of a copy, where their files were removed from inside."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

from bathotype.core.disk import btrfsremains, fatedit
from bathotype.core.disk.fat import Fat
from bathotype.core.disk.layout import read_layout
from bathotype.core.disk.source import BlockSource, FileSource, Window
from bathotype.core.guest.offline import OfflineEditor, replay_journal

_BLANKING: dict[str, Callable[[Window], Iterator[tuple[int, bytes]]]] = {
    "btrfs": btrfsremains.blanking,
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


def blank_remains(image: Path, scratch: Path) -> None:
    """Go through every volume of a raw copy.  Raises `Damaged` where an ext4 one is not clean afterwards."""
    target = FileSource(image, writable=True)
    try:
        for volume in read_layout(target).volumes:
            if volume.filesystem == "ext4":
                replay_journal(image, volume.start, volume.length)
                OfflineEditor(image, volume.start, volume.length, scratch).apply()
            elif volume.filesystem in _BLANKING:
                window = Window(target, volume.start, volume.length)
                for at, data in _BLANKING[volume.filesystem](window):
                    target.write(volume.start + at, data)
        target.flush()
    finally:
        target.close()
