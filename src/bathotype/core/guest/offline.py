"""Changing files on a disk that is not running, without root: one `debugfs -w` run, then `e2fsck -fn`.

Everything is batched into one command file.  ``debugfs`` (e2fsprogs) reports failures only as text, so any
unexpected line on its error stream fails the whole edit.
"""

from __future__ import annotations

import os
import re
import shutil
import struct
import subprocess
import tempfile
from collections.abc import Mapping
from pathlib import Path
from types import MappingProxyType

from bathotype.core.disk.ext4 import Ext4, Inode
from bathotype.core.disk.ext4remains import blanking
from bathotype.core.disk.source import FileSource, Window, open_file
from bathotype.core.errors import Damaged, OutOfSpace, Refused, Unavailable

_DEADLINE = 600
_MOST_ATTRIBUTE = 1024
_MOST_PATH, _MOST_COMMAND = 4096, 8000  # in bytes
_NO_COMPLAINT = re.compile(r"Pass \d|.*\*{10}|.*\d+/\d+ files \(|\d+ inodes used|Fix\?$")
#: What debugfs leaves to be mended: it does not count down the references of a shared attribute block, does not free one
#: that nobody needs any more, and does not count quotas.  A block that is taken for used though it is not is no loss.
_LEFT_BY_EDITS = re.compile(
    r"Extended attribute block \d+ has reference count \d+, should be \d+\.|Block bitmap differences:(?:\s+-\S+)+"
    r"|Free blocks count wrong .*|Update quota info for quota type \d\?"
    r"|Extended attribute inode \d+ ref count is \d+, should be \d+\.|Inode \d+, i_blocks is \d+, should be \d+\."
)
_LAST_WRITE_AT = 1024 + 48  # s_wtime in the superblock


def editable(path: str) -> bool:
    """Whether a path can be named to debugfs: control characters cannot, nor what is longer than a path may be."""
    length = len(path.encode("utf-8", "surrogateescape"))
    return length <= _MOST_PATH and all(c.isprintable() or c == " " for c in path) and '"' not in path


class OfflineEditor:
    """Collects edits of one ext4 volume in a raw image file and applies them together.

    Paths are real paths in the volume (no links in them).  ``apply`` raises `Damaged` when the result is
    not a clean file system, `OutOfSpace` when the volume is full; the image is then of no further use.
    """

    def __init__(self, image: Path, offset: int, length: int, scratch: Path) -> None:
        self._image, self._offset, self._length, self._scratch = image, offset, length, scratch
        self._commands: list[str] = []
        self._contents: list[bytes] = []

    def remove(self, path: str, *, directory: bool = False) -> None:
        """Remove a file or link, or a directory that is empty by then."""
        self._commands.append(f"{'rmdir' if directory else 'rm'} {_quoted(path)}")

    def write(
        self,
        path: str,
        data: bytes,
        *,
        like: Inode | None = None,
        attributes: Mapping[str, bytes] = MappingProxyType({}),
        mode: int = 0o644,
        uid: int = 0,
        gid: int = 0,
    ) -> None:
        """Create or replace a file; ownership, mode and time are those of ``like`` where given.  ``attributes`` are its
        extended attributes as the disk holds them (`Ext4.attributes`).  Raises `Refused` for one without a plain name, or that is
        larger than the smallest block."""
        if like is not None:
            self.remove(path)
        self._contents.append(data)
        # The local file's name is filled in by `apply`, once there is a folder for it.
        self._commands.append(f"write @{len(self._contents) - 1}@ {_quoted(path)}")
        self._set(path, "mode", f"0{0o100000 | ((like.mode if like else mode) & 0o7777):o}")
        self._set(path, "uid", str(like.uid if like else uid))
        self._set(path, "gid", str(like.gid if like else gid))
        if like is not None:
            self._set(path, "mtime", f"@{like.mtime}")
        for name, value in attributes.items():
            if not re.fullmatch(r"[\w.:-]+", name, re.ASCII) or len(value) > _MOST_ATTRIBUTE:
                raise Refused(
                    f"{path!r} has an extended attribute {name!r} of {len(value)} bytes, which cannot be written offline.",
                    advice="Remove it in the machine, then capture again.",
                    code="path-not-editable",
                )
            self._contents.append(value)
            self._commands.append(f"ea_set -r -f @{len(self._contents) - 1}@ {_quoted(path)} {name}")

    def make_directory(self, path: str, *, mode: int = 0o755, uid: int = 0, gid: int = 0) -> None:
        """Create one directory in an existing one."""
        self._commands.append(f"mkdir {_quoted(path)}")
        self._set(path, "mode", f"0{0o40000 | mode:o}")
        self._set(path, "uid", str(uid))
        self._set(path, "gid", str(gid))

    def _set(self, path: str, field: str, value: str) -> None:
        self._commands.append(f"set_inode_field {_quoted(path)} {field} {value}")

    def apply(self) -> None:
        """Do all of it, check the file system, and blank what removed files left in its structures."""
        if self._commands:
            with tempfile.TemporaryDirectory(dir=self._scratch, prefix="edit-") as folder:
                self._run_debugfs(Path(folder))
        self._blank_remains()
        self.check()

    def _run_debugfs(self, folder: Path) -> None:
        for number, data in enumerate(self._contents):
            (folder / str(number)).write_bytes(data)
        script = folder / "commands"
        lines = [self._with_local(line, folder).encode("utf-8", "surrogateescape") for line in self._commands]
        # debugfs reads its commands in pieces of 8191 bytes: the rest of a longer line would be a command of its own,
        # in the words of whoever named the file.
        if odd := next((line for line in lines if len(line) > _MOST_COMMAND or b"\n" in line or b"\0" in line), None):
            raise Refused(
                f"A path of {len(odd)} bytes cannot be edited offline.",
                advice="Rename or remove it in the machine, then capture again.",
                code="path-not-editable",
            )
        script.write_bytes(b"\n".join([*lines, b""]))
        done = _run([_tool("debugfs"), "-w", "-f", str(script), self._target], environment=self._environment())
        problems = [line for line in done.stderr.splitlines() if line and not line.startswith("debugfs 1.")]
        if any("Could not allocate" in p or "No space" in p or "no space" in p for p in problems):
            raise OutOfSpace(
                "The disk's own file system is too full to be generalized.",
                advice="Free some space in the machine, then capture it again.",
            )
        if problems or done.returncode:
            raise Damaged(f"The disk could not be edited: {'; '.join(problems[:3]) or 'debugfs failed'}.")

    def _environment(self) -> dict[str, str]:
        """The time that is written is the disk's own last one: the same disk gives the same bytes again."""
        with open_file(self._image) as image:
            written_at = struct.unpack("<I", image.read(self._offset + _LAST_WRITE_AT, 4))[0]
        return {"E2FSPROGS_FAKE_TIME": str(written_at or 1)}

    @staticmethod
    def _with_local(line: str, folder: Path) -> str:
        for verb in ("write ", "ea_set -r -f "):
            if line.startswith(f"{verb}@"):
                number, _, rest = line.removeprefix(f"{verb}@").partition("@")
                return f"{verb}{_quoted(str(folder / number))}{rest}"
        return line

    def _blank_remains(self) -> None:
        image = FileSource(self._image, writable=True)
        try:
            fs = Ext4(Window(image, self._offset, self._length))
            for at, data in list(blanking(fs)):
                image.write(self._offset + at, data)
            image.flush()
        finally:
            image.close()

    def check(self) -> None:
        """Raise `Damaged` unless `e2fsck -fn` finds the volume clean."""
        done = _run([_tool("e2fsck"), "-fn", self._target])
        complaints = _complaints(done.stdout)
        if done.returncode and self._commands and all(_LEFT_BY_EDITS.fullmatch(line) for line in complaints):
            # Our edits leave counts behind: of shared attribute blocks, and of quotas.
            _run([_tool("e2fsck"), "-fy", self._target], environment=self._environment())
            done = _run([_tool("e2fsck"), "-fn", self._target])
            complaints = _complaints(done.stdout)
        if done.returncode:
            raise Damaged(
                f"The file system is not clean: {'; '.join(complaints[:3])}.",
                advice="Run a file system check on the machine, then capture it again.",
            )

    @property
    def _target(self) -> str:
        return f"{self._image}?offset={self._offset}"


def _complaints(text: str) -> list[str]:
    """What e2fsck says besides the names of its passes and its summary."""
    lines = [re.sub(r"\s*(?:Fix\?\s*)?no$", "", line).strip() for line in text.splitlines()]
    return [line for line in lines if line and not _NO_COMPLAINT.match(line)]


def replay_journal(image: Path, offset: int, length: int) -> bool:
    """Bring a copied ext4 volume to a consistent state: a journal that waits is replayed, and files that were removed
    while they were open are let go.  True if anything had to be done."""
    with open_file(image) as source:
        fs = Ext4(Window(source, offset, length))
        waits, orphans = fs.needs_recovery, fs.has_orphans
    if waits:
        done = _run([_tool("e2fsck"), "-fy", "-E", "journal_only", f"{image}?offset={offset}"])
        if done.returncode > 1:
            raise Damaged(f"The file system's journal cannot be replayed: {done.stdout.strip()[-300:]}")
    if waits or orphans:  # a journal's last transactions may leave orphans
        done = _run([_tool("e2fsck"), "-p", f"{image}?offset={offset}"])
        if done.returncode > 1:
            raise Damaged(f"The file system cannot be brought to a consistent state: {done.stdout.strip()[-300:]}")
    return waits or orphans


def tools_missing() -> list[str]:
    """Which of the system tools for offline editing are not installed."""
    return [name for name in ("debugfs", "e2fsck") if _find(name) is None]


def _find(name: str) -> str | None:
    return shutil.which(name) or shutil.which(name, path="/usr/sbin:/sbin")


def _tool(name: str) -> str:
    path = _find(name)
    if path is None:
        raise Refused(f"{name} is not installed on the worker.", advice="Install Debian's package e2fsprogs.")
    return path


def _run(argv: list[str], environment: dict[str, str] | None = None) -> subprocess.CompletedProcess[str]:
    try:
        return subprocess.run(
            argv,
            capture_output=True,
            text=True,
            errors="replace",
            timeout=_DEADLINE,
            check=False,
            env={**os.environ, **(environment or {})},
        )
    except subprocess.TimeoutExpired as error:
        raise Unavailable(f"{Path(argv[0]).name} did not end within {_DEADLINE} s.") from error


def _quoted(path: str) -> str:
    return f'"{path}"'
