"""Looking at a disk through the confined child, for those who ask."""

from __future__ import annotations

from bathotype.core.confined.looking import LOOK, Look, LookQuestion
from bathotype.core.confined.reader import ConfinedReader
from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Damaged


def look(reader: ConfinedReader, disk: BlockSource, *, whole_blocks: bool = False) -> Look:
    """Look at a disk in the confined child.  Raises `Damaged` where its partition table cannot be trusted."""
    found = reader.ask(LOOK, LookQuestion(whole_blocks), disk)
    for ranges in (found.used, found.whole_blocks):
        inside(ranges, disk.size)
    return found


def inside(ranges: Ranges | None, size: int) -> None:
    """Raise `Damaged` unless ranges lie in a disk of that size."""
    if ranges is not None and len(ranges) and int(ranges.ends[-1]) > size:
        raise Damaged("What is said to be in use lies beyond the disk.")
