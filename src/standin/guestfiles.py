"""The files of a modelled guest, on its real disk, through ``debugfs``."""

from __future__ import annotations

import re
import subprocess
import tempfile
from pathlib import Path

from standin.disks import partitions, tool
from standin.growing import file_system_bytes, grow


class GuestFiles:
    """Reading and writing files of the ext4 file system that holds ``/etc`` on a disk file.

    Writes replace whole files, as the models need no more.  Raises `LookupError` where the disk has none.
    """

    def __init__(self, image: Path) -> None:
        self._image = image
        self._start = self._find_root()
        self._target = f"{image}?offset={self._start}"

    def grow(self) -> str:
        """Take what room a larger disk has; returns what happened, empty for nothing."""
        return grow(self._image, self._start)

    def room(self) -> tuple[int, int]:
        """How large the file system is, and how much of it is used."""
        return file_system_bytes(self._image, self._start)

    def _find_root(self) -> int:
        for start in [p.start for p in partitions(self._image)] or [0]:
            done = self._debugfs(f"{self._image}?offset={start}", ["stat /etc"])
            if "Type: directory" in done.stdout:
                return start
        raise LookupError("no file system that a modelled guest can run on")

    @staticmethod
    def _debugfs(target: str, commands: list[str], *, write: bool = False) -> subprocess.CompletedProcess[str]:
        with tempfile.NamedTemporaryFile("w", suffix=".debugfs") as script:
            script.write("\n".join(commands) + "\n")
            script.flush()
            options = ["-w"] if write else []
            return subprocess.run(
                [tool("debugfs"), *options, "-f", script.name, target],
                capture_output=True,
                text=True,
                errors="replace",
                check=False,
            )

    def read(self, path: str) -> bytes | None:
        """A whole file, None where there is none."""
        with tempfile.NamedTemporaryFile() as out:
            self._debugfs(self._target, [f'dump "{path}" {out.name}'])
            data = Path(out.name).read_bytes()
        if data:
            return data
        return b"" if self.exists(path) else None

    def exists(self, path: str) -> bool:
        """Whether something is at a path."""
        return "Inode:" in self._debugfs(self._target, [f'stat "{path}"']).stdout

    def facts(self, path: str) -> tuple[int, int, int]:
        """Mode with its type, owner and group of what is at a path.  Raises `OSError` where nothing is."""
        out = self._debugfs(self._target, [f'stat "{path}"']).stdout
        kind, mode = re.search(r"Type: (\w+)", out), re.search(r"Mode:\s+(\d+)", out)
        owner = re.search(r"User:\s+(\d+)\s+Group:\s+(\d+)", out)
        if kind is None or mode is None or owner is None:
            raise OSError(f"{path}: No such file or directory")
        high = {"regular": 0o100000, "directory": 0o040000, "symlink": 0o120000}.get(kind[1], 0)
        return high | int(mode[1], 8), int(owner[1]), int(owner[2])

    def names(self, folder: str) -> list[str]:
        """The names in a folder."""
        out = self._debugfs(self._target, [f'ls -p "{folder}"']).stdout
        found = [line.split("/")[5] for line in out.splitlines() if line.startswith("/") and line.count("/") >= 6]
        return sorted(name for name in found if name not in ("", ".", ".."))

    def below(self, folder: str) -> list[str]:
        """The paths of all files below a folder."""
        found: list[str] = []
        ahead = [folder]
        while ahead:
            here = ahead.pop()
            out = self._debugfs(self._target, [f'ls -p "{here}"']).stdout
            for line in out.splitlines():
                words = line.split("/")
                if line.startswith("/") and len(words) >= 7 and words[5] not in ("", ".", ".."):
                    path = f"{here.rstrip('/')}/{words[5]}"
                    (ahead if words[2].startswith("04") else found).append(path)
        return sorted(found)

    def change(self, edits: Edits) -> None:
        """Make a batch of changes.  Raises `OSError` where debugfs reports a failure."""
        with tempfile.TemporaryDirectory() as folder:
            commands: list[str] = []
            made: set[str] = set()
            for path in edits.removed:
                commands.append(f'rm "{path}"')
            for number, (path, (data, mode, owner)) in enumerate(edits.written.items()):
                local = Path(folder) / str(number)
                local.write_bytes(data)
                for parent in reversed(Path(path).parents):
                    if str(parent) not in made and not self.exists(str(parent)):
                        commands.append(f'mkdir "{parent}"')
                        if owner and str(parent).startswith("/home/"):
                            commands += [f'sif "{parent}" uid {owner}', f'sif "{parent}" gid {owner}']
                    made.add(str(parent))
                if path not in edits.removed and self.exists(path):
                    commands.append(f'rm "{path}"')
                commands.append(f'write {local} "{path}"')
                commands += [
                    f'sif "{path}" mode 0{0o100000 | mode:o}',
                    f'sif "{path}" uid {owner}',
                    f'sif "{path}" gid {owner}',
                ]
            commands += [f'mkdir "{path}"' for path in edits.folders]
            commands += [f'symlink "{path}" "{target}"' for path, target in edits.links.items()]
            for path, facts in edits.facts.items():
                for name, value in facts.items():
                    told = f"0{self.facts(path)[0] & 0o170000 | value:o}" if name == "mode" else value
                    commands.append(f'sif "{path}" {name} {told}')
            done = self._debugfs(self._target, commands, write=True)
        problems = [line for line in done.stderr.splitlines() if not line.startswith("debugfs 1.")]
        problems = [p for p in problems if not ("rm:" in p and "File not found" in p)]
        if problems:
            raise OSError(f"debugfs: {problems[0]}")


class Edits:
    """Files to remove and to write; a later write of one path replaces an earlier one.

    ``links`` are made with their targets, ``facts`` (mode, uid, gid) set on what is there.
    """

    def __init__(self) -> None:
        self.removed: list[str] = []
        self.written: dict[str, tuple[bytes, int, int]] = {}
        self.folders: list[str] = []
        self.links: dict[str, str] = {}
        self.facts: dict[str, dict[str, int]] = {}

    def make_folder(self, path: str) -> None:
        """Make a folder that is not there, below one that is, or that is made before it."""
        self.folders.append(path)

    def write(self, path: str, data: bytes | str, *, mode: int = 0o644, owner: int = 0) -> None:
        """Create or replace a file."""
        raw = data.encode() if isinstance(data, str) else data
        self.written[path] = (raw, mode, owner)

    def remove(self, path: str) -> None:
        """Remove a file; one that is gone is fine."""
        self.removed.append(path)
