"""The kernel and e2fsck as judges of file systems: images are mounted on loop devices, where that may be done."""

from __future__ import annotations

import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


class Unmountable(Exception):
    """This system mounts no such image."""


@contextmanager
def mounted(image: Path, folder: Path, options: str) -> Iterator[Path]:
    """An image, mounted; afterwards nothing holds it any more.

    Raises `Unmountable` where the kernel does not want it.
    """
    folder.mkdir(exist_ok=True)
    done = subprocess.run(
        ["mount", "-o", f"loop,{options}".rstrip(","), image, folder], capture_output=True, text=True, check=False
    )
    if done.returncode:
        raise Unmountable(done.stderr.strip())
    try:
        yield folder
    finally:
        subprocess.run(["umount", folder], check=True)
        _let_go(image)


def _let_go(image: Path, *, seconds: float = 60.0) -> None:
    """Wait until no loop device has the image.

    A process that has just been given mounts of its own (a confined reader beside us) holds a copy of ours for a moment:
    the file system lives on until that is gone, and is written to once more at its end.
    """
    deadline = time.monotonic() + seconds
    while True:
        held = subprocess.run(["losetup", "-j", image], capture_output=True, text=True, check=True).stdout
        if not held:
            return
        if time.monotonic() > deadline:
            raise AssertionError(f"a loop device is still there: {held}")
        time.sleep(0.01)


def clean(image: Path) -> None:
    """Judge a file system by e2fsck, which changes nothing."""
    done = subprocess.run(["e2fsck", "-fn", image], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout
