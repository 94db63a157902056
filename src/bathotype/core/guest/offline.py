"""An ext4 file system in a private copy of a disk: brought into order before it is changed, and judged afterwards.

The judge is ``e2fsck -fn`` (e2fsprogs), which is not ours and changes nothing; it runs confined.
"""

from __future__ import annotations

import re
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from bathotype.core.confined.sandbox import DISK, run_on
from bathotype.core.disk.ext4.edit.editor import Ext4Editor
from bathotype.core.disk.ext4.filesystem import Ext4
from bathotype.core.disk.ext4.journal import CannotReplay, replayed
from bathotype.core.disk.overlay import Overlay
from bathotype.core.disk.source import FileSource, open_file
from bathotype.core.disk.stretch import Stretch
from bathotype.core.errors import Damaged, Unavailable

_PIECE = 4 * 1024 * 1024
_NO_COMPLAINT = re.compile(r"Pass \d|.*\*{10}|.*\d+/\d+ files \(|\d+ inodes used|Fix\?$")


#: Something that a tool does with the file system on a stretch of an image.
Tool = Callable[[FileSource, Stretch], None]


def check(image: FileSource, stretch: Stretch) -> None:
    """Raise `Damaged` unless `e2fsck -fn` finds the file system on a stretch of an image clean."""
    with _in_one_piece(image.path, stretch) as (target, offset):
        done = run_on(target, ["e2fsck", "-fn", f"{DISK}?offset={offset}"])
    if done.returncode and not done.stdout:
        raise Unavailable(
            f"The file system cannot be checked: {done.stderr.strip()[-300:] or 'the tool was ended'}.",
            advice="bubblewrap must be allowed to make namespaces on the worker.",
        )
    if done.returncode:
        raise Damaged(
            f"The file system is not clean: {'; '.join(_complaints(done.stdout)[:3])}.",
            advice="Run a file system check on the machine, then capture it again.",
        )


@contextmanager
def _in_one_piece(image: Path, stretch: Stretch) -> Iterator[tuple[Path, int]]:
    """The file in which the tool finds a file system, and where; one that lies in pieces is put together beside the
    image."""
    if len(stretch.pieces) == 1:
        yield image, stretch.pieces[0][0]
        return
    with tempfile.NamedTemporaryFile(dir=image.parent, prefix="volume-") as whole, open_file(image) as source:
        volume = stretch.within(source)
        whole.truncate(volume.size)
        for start, end in volume.allocated():
            for at in range(start, end, _PIECE):
                whole.seek(at)
                whole.write(volume.read(at, min(_PIECE, end - at)))
        whole.flush()
        yield Path(whole.name), 0


def replay(image: FileSource, stretch: Stretch) -> None:
    """Let e2fsck replay a journal.  Raises `Damaged`."""
    done = run_on(
        image.path, ["e2fsck", "-fy", "-E", "journal_only", f"{DISK}?offset={stretch.pieces[0][0]}"], writable=True
    )
    if done.returncode > 1:
        raise Damaged(f"The file system's journal cannot be replayed: {done.stdout.strip()[-300:]}")


def settle(image: FileSource, stretch: Stretch, *, by_tool: Tool = replay) -> bool:
    """Bring a copied file system to a consistent state: a journal that waits is replayed, and files that were removed
    while they were open are let go.  True if anything had to be done."""
    window = stretch.within(image)
    waits = Ext4(window).needs_recovery
    if waits:
        _replay(image, stretch, by_tool)
    orphans = Ext4(window).has_orphans  # a journal's last transactions may leave some
    if orphans:
        editor = Ext4Editor(image, stretch)
        editor.let_orphans_go()
        editor.finish()
    return waits or orphans


def _replay(image: FileSource, stretch: Stretch, by_tool: Tool) -> None:
    try:
        view = replayed(Ext4(stretch.within(image)))
    except CannotReplay:
        if len(stretch.pieces) > 1:
            raise
        by_tool(image, stretch)  # of fast commits our reader knows only that they are there
        return
    if isinstance(view, Overlay):
        for at, data in view.changes():
            stretch.write(image, at, data)


def _complaints(text: str) -> list[str]:
    """What e2fsck says besides the names of its passes and its summary."""
    lines = [re.sub(r"\s*(?:Fix\?\s*)?no$", "", line).strip() for line in text.splitlines()]
    return [line for line in lines if line and not _NO_COMPLAINT.match(line)]
