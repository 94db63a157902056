"""Conversations with ``debugfs``: many questions in one process, and none twice while the disk stays as it is."""

from __future__ import annotations

import subprocess
import tempfile
import time
from collections.abc import Callable, Sequence
from pathlib import Path

from standin.disks import tool

#: Two writes within one tick of the file system's clock leave the same time of change, in nanoseconds.
_SETTLED = 100_000_000
#: Longer files are read anew each time, in bytes.
_KEPT_FILE = 256 * 1024

_Stamp = tuple[int, int]
_Ask = Callable[[list[str]], dict[str, bytes | None]]


class Debugfs:
    """The file system that begins at ``start`` in a disk file.

    Answers are kept until the disk file is written, by whomever: its time of change shows that.
    """

    def __init__(self, image: Path, start: int) -> None:
        self._image, self._target = image, f"{image}?offset={start}"
        self._kept: tuple[_Stamp, dict[str, bytes | None]] = ((0, 0), {})

    def _stamp(self) -> _Stamp | None:
        """What says that the disk is as it was; None where it was written a moment ago, or is lost."""
        try:
            facts = self._image.stat()
        except FileNotFoundError:
            return None
        return None if time.time_ns() - facts.st_mtime_ns < _SETTLED else (facts.st_mtime_ns, facts.st_size)

    def told(self, commands: Sequence[str]) -> list[str]:
        """What each of some reading commands prints."""
        return [(data or b"").decode("utf-8", "replace") for data in self._answers(commands, self._print)]

    def files(self, paths: Sequence[str]) -> list[bytes | None]:
        """Whole files, None for each that is not there."""
        return self._answers([f'dump "{path}"' for path in paths], self._dump)

    def _answers(self, commands: Sequence[str], ask: _Ask) -> list[bytes | None]:
        stamp = self._stamp()
        kept = self._kept[1] if stamp == self._kept[0] else {}
        # debugfs knows no way to write a name with a line break: to a model nothing is there.
        found: dict[str, bytes | None] = {command: None for command in commands if "\n" in command}
        found |= {command: kept[command] for command in commands if command in kept}
        if missing := [command for command in commands if command not in found]:
            asked = ask(missing)
            found |= asked
            if stamp is not None:
                small = {command: data for command, data in asked.items() if len(data or b"") <= _KEPT_FILE}
                self._kept = stamp, {**kept, **small}
        return [found[command] for command in commands]

    def _print(self, commands: list[str]) -> dict[str, bytes | None]:
        printed, found = self._run(commands).stdout, dict[str, bytes | None]()
        for command in reversed(commands):  # each is repeated before what it prints
            printed, _, answer = printed.rpartition(f"debugfs: {command}\n".encode())
            found[command] = answer
        return found

    def _dump(self, commands: list[str]) -> dict[str, bytes | None]:
        with tempfile.TemporaryDirectory() as folder:
            files = {command: Path(folder) / str(number) for number, command in enumerate(commands)}
            self._run([f"{command} {file}" for command, file in files.items()])
            return {command: file.read_bytes() if file.exists() else None for command, file in files.items()}

    def change(self, commands: list[str]) -> str:
        """Run commands that write; returns what debugfs complains of.  Raises `OSError` where a name has a line break."""
        if any("\n" in command for command in commands):
            raise OSError("names with line breaks are not modelled")
        return self._run(commands, "-w").stderr.decode("utf-8", "replace")

    def _run(self, commands: list[str], *options: str) -> subprocess.CompletedProcess[bytes]:
        with tempfile.NamedTemporaryFile("w", suffix=".debugfs") as script:
            script.write("\n".join(commands) + "\n")
            script.flush()
            command = [tool("debugfs"), *options, "-f", script.name, self._target]
            return subprocess.run(command, capture_output=True, check=False)
