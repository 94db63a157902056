"""The files of a modelled guest, on its real disk, through ``debugfs``."""

from __future__ import annotations

import re
import tempfile
from collections.abc import Iterable
from pathlib import Path

from standin.debugfs import Debugfs
from standin.disks import Part, is_ext4, partitions
from standin.growing import file_system_bytes, grow


class GuestFiles:
    """Reading and writing files of the ext4 file system that holds ``/etc`` on a disk file.

    Writes replace whole files, as the models need no more.  Raises `LookupError` where the disk has none.
    """

    def __init__(self, image: Path, parts: list[Part] | None = None) -> None:
        self._image = image
        self._start, self._debugfs = self._find_root([p.start for p in (partitions(image) if parts is None else parts)])

    def grow(self) -> str:
        """Take what room a larger disk has; returns what happened, empty for nothing."""
        return grow(self._image, self._start)

    def room(self) -> tuple[int, int]:
        """How large the file system is, and how much of it is used."""
        return file_system_bytes(self._image, self._start)

    def _find_root(self, starts: list[int]) -> tuple[int, Debugfs]:
        for start in starts or [0]:
            fs = Debugfs(self._image, start)
            if is_ext4(self._image, start) and "Type: directory" in fs.told(['stat "/etc"'])[0]:
                return start, fs
        raise LookupError("no file system that a modelled guest can run on")

    def read(self, path: str) -> bytes | None:
        """A whole file, None where there is none."""
        return self._debugfs.files([path])[0]

    def read_all(self, *paths: str) -> dict[str, bytes]:
        """Whole files, empty where there are none, at one go."""
        return {path: data or b"" for path, data in zip(paths, self._debugfs.files(paths), strict=True)}

    def exists(self, path: str) -> bool:
        """Whether something is at a path."""
        return bool(self._present([path]))

    def _present(self, paths: Iterable[str]) -> set[str]:
        """Those of some paths at which something is."""
        asked = list(dict.fromkeys(paths))
        told = self._debugfs.told([f'stat "{path}"' for path in asked])
        return {path for path, text in zip(asked, told, strict=True) if "Inode:" in text}

    def facts(self, path: str) -> tuple[int, int, int]:
        """Mode with its type, owner and group of what is at a path.  Raises `OSError` where nothing is."""
        [out] = self._debugfs.told([f'stat "{path}"'])
        kind, mode = re.search(r"Type: (\w+)", out), re.search(r"Mode:\s+(\d+)", out)
        owner = re.search(r"User:\s+(\d+)\s+Group:\s+(\d+)", out)
        if kind is None or mode is None or owner is None:
            raise OSError(f"{path}: No such file or directory")
        high = {"regular": 0o100000, "directory": 0o040000, "symlink": 0o120000}.get(kind[1], 0)
        return high | int(mode[1], 8), int(owner[1]), int(owner[2])

    def names(self, folder: str) -> list[str]:
        """The names in a folder."""
        return sorted(name for name, _ in self._listed([folder])[0])

    def below(self, folder: str) -> list[str]:
        """The paths of all files below a folder."""
        found: list[str] = []
        ahead = [folder]
        while ahead:
            further = list[str]()
            for here, listed in zip(ahead, self._listed(ahead), strict=True):
                for name, is_folder in listed:
                    (further if is_folder else found).append(f"{here.rstrip('/')}/{name}")
            ahead = further
        return sorted(found)

    def _listed(self, folders: list[str]) -> list[list[tuple[str, bool]]]:
        """What is in each of some folders: names, and whether each is a folder."""
        found = []
        for out in self._debugfs.told([f'ls -p "{folder}"' for folder in folders]):
            rows = [line.split("/") for line in out.splitlines() if line.startswith("/") and line.count("/") >= 6]
            found.append([(row[5], row[2].startswith("04")) for row in rows if row[5] not in ("", ".", "..")])
        return found

    def change(self, edits: Edits) -> None:
        """Make a batch of changes.  Raises `OSError` where debugfs reports a failure."""
        parents = {path: [str(p) for p in reversed(Path(path).parents)] for path in edits.written}
        there = self._present(name for path, folders in parents.items() for name in (*folders, path))
        with tempfile.TemporaryDirectory() as folder:
            commands: list[str] = []
            for path in edits.removed:
                commands.append(f'rm "{path}"')
            for number, (path, (data, mode, owner)) in enumerate(edits.written.items()):
                local = Path(folder) / str(number)
                local.write_bytes(data)
                for parent in parents[path]:
                    if parent not in there:
                        commands.append(f'mkdir "{parent}"')
                        if owner and parent.startswith("/home/"):
                            commands += [f'sif "{parent}" uid {owner}', f'sif "{parent}" gid {owner}']
                        there.add(parent)
                if path not in edits.removed and path in there:
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
            complaints = self._debugfs.change(commands)
        problems = [line for line in complaints.splitlines() if not line.startswith("debugfs 1.")]
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
