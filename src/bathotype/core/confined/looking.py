"""Looking at a disk: its layout, the bytes that a capture takes, and the journals that wait."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from bathotype.core.confined.task import Bench, PackedRanges, Task
from bathotype.core.contents.platform import Platform, read_platform
from bathotype.core.disk.holding import Holding, holding
from bathotype.core.disk.layout import Layout, Replay, after, read_layout, used_ranges, waiting
from bathotype.core.disk.overlay import Overlay
from bathotype.core.disk.source import BlockSource
from bathotype.core.disk.stretch import Stretch
from bathotype.core.errors import Damaged
from bathotype.core.generalize.prepared import marker_line
from bathotype.core.generalize.profile import Marker

_WHOLE_BLOCKS = range(9, 17)  # as powers of two


@dataclass(frozen=True)
class ReplayData:
    """A `Replay` without the disk: hexadecimal numbers of blocks, and bytes as hexadecimal text by their place."""

    pieces: tuple[tuple[int, int], ...]
    block: int
    targets: str
    places: str
    escaped: tuple[int, ...]
    magic: str
    given: tuple[tuple[int, str], ...]

    @classmethod
    def of(cls, replay: Replay) -> ReplayData:
        """What a replay changes."""
        view = replay.view
        return cls(
            replay.stretch.pieces,
            view.block,
            view.targets.astype("<i8").tobytes().hex(),
            view.places.astype("<i8").tobytes().hex(),
            tuple(sorted(view.escaped)),
            view.magic.hex(),
            tuple((at, data.hex()) for at, data in view.pieces.items()),
        )

    def on(self, disk: BlockSource) -> Replay:
        """The same on a disk.  Raises `Damaged` where it does not fit on it."""
        try:
            return self._on(disk)
        except ValueError as error:
            raise Damaged(f"A journal's replay does not fit the disk: {error}.") from error

    def _on(self, disk: BlockSource) -> Replay:
        if not self.pieces or any(
            start < 0 or length <= 0 or start + length > disk.size for start, length in self.pieces
        ):
            raise ValueError("its volume is not on it")
        if self.block not in [1 << power for power in _WHOLE_BLOCKS]:
            raise ValueError("its blocks have no usual size")
        stretch = Stretch(self.pieces)
        blocks = stretch.length // self.block
        targets, places = (
            np.frombuffer(bytes.fromhex(text), "<i8").astype(np.int64) for text in (self.targets, self.places)
        )
        if len(targets) != len(places) or not bool((np.diff(targets) > 0).all()):
            raise ValueError("its blocks are not in order")
        for numbers in (targets, places):
            if len(numbers) and not 0 <= int(numbers.min()) <= int(numbers.max()) < blocks:
                raise ValueError("its blocks are beyond the volume")
        given = {at: bytes.fromhex(text) for at, text in self.given}
        if any(at < 0 or at + len(data) > stretch.length for at, data in given.items()):
            raise ValueError("its bytes are beyond the volume")
        magic = bytes.fromhex(self.magic)
        if len(magic) > self.block:
            raise ValueError("its mark is larger than a block")
        view = Overlay(stretch.within(disk), self.block, targets, places, frozenset(self.escaped), magic, given)
        return Replay(stretch, view)


@dataclass(frozen=True)
class LookQuestion:
    """``whole_blocks`` asks for the ranges of a copy too (see `core.disk.ext4.used`)."""

    whole_blocks: bool = False


@dataclass(frozen=True)
class Look:
    """What is on a disk.

    ``has_root`` says that an operating system can be read, ``used`` what a capture takes; with whole blocks where that was
    asked.  All of it is said of the disk with its journals replayed.
    """

    layout: Layout
    has_root: bool
    used: PackedRanges
    whole_blocks: PackedRanges | None
    replays: tuple[ReplayData, ...]

    def settled(self, disk: BlockSource) -> BlockSource:
        """The disk with its journals replayed; itself where none waits."""
        return after(disk, [replay.on(disk) for replay in self.replays])


def look_at(disk: BlockSource, *, whole_blocks: bool) -> tuple[Look, BlockSource]:
    """What is on a disk, and the disk as it is then read."""
    replays = waiting(disk)
    view = after(disk, replays)
    layout = read_layout(view)
    look = Look(
        layout,
        layout.root(view) is not None,
        used_ranges(view, layout),
        used_ranges(view, layout, whole_blocks=True) if whole_blocks else None,
        tuple(map(ReplayData.of, replays)),
    )
    return look, view


def _look(bench: Bench, question: LookQuestion) -> Look:
    return look_at(bench.sources[0], whole_blocks=question.whole_blocks)[0]


def _needs(bench: Bench, _: None) -> Platform:
    disk = bench.sources[0]
    view = after(disk, waiting(disk))
    return read_platform(view, read_layout(view))


def _holds(bench: Bench, _: None) -> tuple[Holding, ...]:
    disk = bench.sources[0]
    view = after(disk, waiting(disk))
    return holding(view, read_layout(view))


@dataclass(frozen=True)
class MarkerQuestion:
    """What a preparation tool leaves."""

    marker: Marker


@dataclass(frozen=True)
class MarkerAnswer:
    """The line that shows that it has run; None where there is none."""

    line: str | None


def _marker(bench: Bench, question: MarkerQuestion) -> MarkerAnswer:
    disk = bench.sources[0]
    view = after(disk, waiting(disk))
    return MarkerAnswer(marker_line(view, read_layout(view), question.marker))


#: Whether a system's own preparation tool has run on a disk.
MARKER = Task("looking.marker", MarkerQuestion, MarkerAnswer, _marker)
#: What each disk holds, in a few words.
HOLDS = Task("looking.holds", type(None), tuple[Holding, ...], _holds)
#: What a disk needs of a machine.
NEEDS = Task("looking.needs", type(None), Platform, _needs)
LOOK = Task("looking.look", LookQuestion, Look, _look)
TASKS = {"look": LOOK, "needs": NEEDS, "holds": HOLDS, "marker": MARKER}
