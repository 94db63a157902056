"""The copy of a machine's disks in a worker's scratch space: a sparse raw file, with room checked before it is written.

Several disks lie in it one after another (`core.disk.several`); their sizes are in a file beside it.
"""

from __future__ import annotations

import json
import shutil
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Protocol

from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.several import Sizes, disks_of, total_size
from bathotype.core.disk.source import BlockSource, FileSource, Masked, check_read, open_file
from bathotype.core.errors import Damaged, OutOfSpace
from bathotype.core.units import iec
from bathotype.service.operations.context import WorkContext

_PIECE = 4 * 1024 * 1024
_GAP = 64 * 1024  # what lies between is read rather than asked around
_LEFT_FREE = 64 * 1024 * 1024
_TOLD_EVERY = 0.5  # seconds
_BLOCK, _CHECKED = 64 * 1024, 256 * 1024 * 1024


def image_path(context: WorkContext) -> Path:
    """Where an operation keeps its copy."""
    return context.scratch / "disk.raw"


def _sizes_path(context: WorkContext) -> Path:
    return context.scratch / "disks.json"


@contextmanager
def open_copy(context: WorkContext, *, writable: bool = False) -> Iterator[FileSource]:
    """An operation's copy for the time of the block."""
    with open_file(image_path(context), writable=writable, disks=_sizes(context)) as image:
        yield image


def _sizes(context: WorkContext) -> Sizes:
    path = _sizes_path(context)
    return tuple(int(size) for size in json.loads(path.read_text())) if path.exists() else ()


def new_image(context: WorkContext, disks: Sizes, needed: int) -> FileSource:
    """An empty copy of disks of these sizes, of which about ``needed`` bytes will be written.  Raises `OutOfSpace`."""
    _check_room(context, needed)
    path = image_path(context)
    path.unlink(missing_ok=True)
    _sizes_path(context).write_text(json.dumps(disks))
    with path.open("xb") as file:
        file.truncate(total_size(disks))
    return FileSource(path, writable=True, disks=disks)


def drop_image(context: WorkContext) -> None:
    """Give its room back."""
    image_path(context).unlink(missing_ok=True)


def _check_room(context: WorkContext, needed: int) -> None:
    folder = context.settings.scratch_dir
    taken = sum(f.stat().st_blocks * 512 for f in folder.rglob("*") if f.is_file())
    free = shutil.disk_usage(folder).free
    room = min(context.settings.scratch_bytes - taken, free - _LEFT_FREE)
    if needed * 1.05 > room:
        raise OutOfSpace(
            f"The copy needs {iec(needed)} of scratch space and {iec(max(0, room))} is left.",
            advice="Wait for other captures to end, or raise BATHOTYPE_SCRATCH_BYTES, then retry.",
        )


class Writable(Protocol):
    """What ranges are copied to."""

    def write(self, offset: int, data: bytes) -> None:
        """Write all of ``data`` at ``offset``."""
        ...


class GrowingFile:
    """A file that is written piece by piece for the time of the block, with holes for zeros.  Raises `OutOfSpace`."""

    def __init__(self, context: WorkContext, path: Path) -> None:
        self._context, self.size, self._written, self._told = context, 0, 0, time.monotonic()
        path.unlink(missing_ok=True)
        try:
            self._file = path.open("xb", buffering=0)  # a full disk is noticed where it is written
        except OSError as error:
            raise _cannot_write(error) from error

    def __enter__(self) -> GrowingFile:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: object) -> None:
        with self._file:
            if kind is None:
                self._file.truncate(self.size)

    def add(self, at: int, piece: bytes) -> None:
        """Write the next piece."""
        if at != self.size:
            raise Damaged("The pieces of a file do not follow one another.")
        try:
            for begin in range(0, len(piece), _BLOCK):
                block = piece[begin : begin + _BLOCK]
                if block.count(0) != len(block):
                    self._file.seek(at + begin)
                    while block:
                        block = block[self._file.write(block) :]
                    self._written += _BLOCK
        except OSError as error:
            raise _cannot_write(error) from error
        self.size += len(piece)
        if self._written > _CHECKED:
            _check_room(self._context, _CHECKED)
            self._written = 0
        if time.monotonic() - self._told > _TOLD_EVERY:
            self._told = time.monotonic()
            self._context.progress(self.size, self.size)


class PlacedPieces:
    """A new image that is filled with pieces for the time of the block, about ``total`` bytes.  Raises `OutOfSpace`."""

    def __init__(self, context: WorkContext, disks: Sizes, total: int) -> None:
        self._context, self._total, self._done = context, total, 0
        self._image = new_image(context, disks, total)

    def __enter__(self) -> PlacedPieces:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: object) -> None:
        if kind is None:
            self._image.flush()
        self._image.close()

    def add(self, at: int, piece: bytes) -> None:
        """Write a piece where it belongs."""
        check_read(self._image.size, at, len(piece))
        try:
            self._image.write(at, piece)
        except OSError as error:
            raise _cannot_write(error) from error
        self._done += len(piece)
        self._context.progress(min(self._done, self._total), self._total)


def _cannot_write(error: OSError) -> OutOfSpace:
    return OutOfSpace(
        f"The scratch space cannot be written: {error.strerror}.",
        advice="Free space under BATHOTYPE_SCRATCH_DIR, then retry.",
    )


def bring(context: WorkContext, disk: BlockSource, used: Ranges) -> None:
    """Copy the used ranges of a disk to a new image in scratch."""
    target = new_image(context, disks_of(disk), used.total)
    try:
        copy_ranges(context, disk, used, target, 0, used.total)
        target.flush()
    finally:
        target.close()


def copy_ranges(context: WorkContext, disk: BlockSource, used: Ranges, target: Writable, done: int, total: int) -> int:
    """Copy ranges of a disk; returns the bytes done so far, of ``total`` that the step will do."""
    visible = Masked(disk, used)
    try:
        for start, end in used.joined(_GAP):
            for at in range(start, end, _PIECE):
                piece = visible.read(at, min(_PIECE, end - at))
                target.write(at, piece)
                done += len(piece)
                context.progress(min(done, total), total)
    except OSError as error:
        raise _cannot_write(error) from error
    return done
