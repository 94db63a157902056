"""A modelled desktop system on NTFS: its facts and the marker of its preparation tool lie in two files on its real disk.

Nobody models its other files.  The two files have one fixed size, so that the model changes them in place; where they lie
is found by how they begin.
"""

from __future__ import annotations

import io
import json
import os
import random
import secrets
import subprocess
import tempfile
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pycdlib

from standin.disks import Part, create_raw, tool

_BLOCK = 4096
#: In the fourth byte of the file system's boot sector.
_NTFS = b"NTFS    "
_FACTS, _STATE = b"desk facts\n", b"Preparation of this desk\n"
#: Of the tool: how it is called, what its answer file is called, how often it may run.
TOOL, ANSWERS, MOST_RUNS = "prepare.exe", "answers.xml", 5


def make_file_system(path: Path, start: int, size: int, facts: dict[str, Any], rng: random.Random) -> None:
    """An NTFS file system with a desktop system on it, and with what a removed file left in its free space."""
    with tempfile.TemporaryDirectory() as folder:
        volume = Path(folder) / "volume"
        create_raw(volume, size)
        run = {"check": True, "capture_output": True}
        subprocess.run([tool("mkntfs"), "-q", "-F", "-T", "-L", "SYSTEM", str(volume)], **run)  # type: ignore[call-overload]
        for name, data in (
            ("desk-facts.json", _facts_block(facts)),
            ("preparation.txt", _state_block(facts)),
            ("charts.dat", rng.randbytes(3_000_000)),
        ):
            local = Path(folder) / name
            local.write_bytes(data)
            subprocess.run([tool("ntfscp"), str(volume), str(local), f"/{name}"], **run)  # type: ignore[call-overload]
        with volume.open("r+b") as file:
            file.seek(size * 3 // 4)
            file.write(b"removed: the pilot's own letters\n" * 4000)
        _lay(volume, path, start)


def _lay(source: Path, target: Path, to: int) -> None:
    with source.open("rb") as reader, target.open("r+b") as writer:
        position, end = 0, source.stat().st_size
        while position < end:
            try:
                first = os.lseek(reader.fileno(), position, os.SEEK_DATA)
            except OSError:
                return
            position = os.lseek(reader.fileno(), first, os.SEEK_HOLE)
            os.pwrite(writer.fileno(), os.pread(reader.fileno(), position - first, first), to + first)


def _facts_block(facts: dict[str, Any]) -> bytes:
    return (_FACTS + json.dumps(facts).encode()).ljust(_BLOCK, b"\n")


def _state_block(facts: dict[str, Any]) -> bytes:
    runs, at = facts.get("runs", 0), facts.get("prepared_at")
    told = f"state=prepared at={at} tool=desk-prepare-3.1\n" if at else "state=in use\n"
    return (_STATE + f"{told}runs={runs}\n".encode()).ljust(_BLOCK, b"\n")


class Desktop:
    """The desktop system on a disk.  Raises `LookupError` where there is none."""

    def __init__(self, image: Path, parts: list[Part]) -> None:
        self._image = image
        self._facts_at, self._state_at = _places(image, parts)
        with image.open("rb") as file:
            file.seek(self._facts_at)
            self.facts: dict[str, Any] = json.loads(file.read(_BLOCK)[len(_FACTS) :])

    def start(self, seed: bytes | None) -> list[str]:
        """Boot; a prepared system takes its identity from its answer file, or makes up one."""
        if not self.facts.get("prepared_at"):
            return [f"boot: {self.facts['host_name']} is up"]
        answers = _answers(seed) if seed else {}
        self.facts |= {
            "host_name": answers.get("host-name") or f"desk-{secrets.token_hex(3)}",
            "machine_id": secrets.token_hex(16),
            "time_zone": answers.get("time-zone") or "",
            "prepared_at": None,
        }
        self._save()
        found = "answers.xml was read" if answers else "there is no answers.xml: a name was made up"
        return [f"setup: {found}", f"boot: {self.facts['host_name']} is up"]

    def prepare(self, argv: list[str]) -> tuple[int, bytes]:
        """The system's own tool: it removes the identity; the machine is shut down by whoever called it."""
        if argv != ["forget-identity", "power-off"]:
            return 1, b"usage: prepare.exe forget-identity power-off\n"
        if self.facts.get("runs", 0) >= MOST_RUNS:
            return 1, f"This system has been prepared {MOST_RUNS} times, which is the most.\n".encode()
        now = datetime.now(UTC).strftime("%Y-%m-%dT%H:%MZ")
        self.facts |= {"host_name": "", "machine_id": "", "runs": self.facts.get("runs", 0) + 1, "prepared_at": now}
        self._save()
        return 0, b"prepared\n"

    def install(self, argv: list[str]) -> tuple[int, bytes]:
        """The system's installer: remembers what it has installed."""
        if len(argv) != 2 or argv[0] not in ("add", "show"):
            return 1, b"usage: setup.exe add|show NAME\n"
        installed = self.facts.setdefault("installed", [])
        if argv[0] == "show":
            return (0, f"{argv[1]} is installed\n".encode()) if argv[1] in installed else (1, b"it is not installed\n")
        self.facts["installed"] = sorted({*installed, argv[1]})
        self._save()
        return 0, f"{argv[1]} was installed\n".encode()

    def _save(self) -> None:
        with self._image.open("r+b") as file:
            file.seek(self._state_at)
            file.write(_state_block(self.facts))
            file.seek(self._facts_at)
            file.write(_facts_block(self.facts))


def _places(image: Path, parts: list[Part]) -> tuple[int, int]:
    found: dict[bytes, int] = {}
    for part in parts:
        with image.open("rb") as file:
            if os.pread(file.fileno(), len(_NTFS), part.start + 3) != _NTFS:
                continue
            position, end = part.start, part.start + part.size
            while position < end and len(found) < 2:
                try:
                    first = os.lseek(file.fileno(), position, os.SEEK_DATA)
                except OSError:
                    break
                position = min(os.lseek(file.fileno(), first, os.SEEK_HOLE), end)
                for at in range(first - (first - part.start) % _BLOCK, position, _BLOCK):
                    head = os.pread(file.fileno(), 32, at)
                    for mark in (_FACTS, _STATE):
                        if head.startswith(mark):
                            found[mark] = at
    if len(found) < 2:
        raise LookupError("no desktop system")
    return found[_FACTS], found[_STATE]


def _answers(seed: bytes) -> dict[str, str]:
    """The answer file of a seed volume; nothing where there is none, or it is no XML."""
    iso = pycdlib.PyCdlib()
    try:
        iso.open_fp(io.BytesIO(seed))
        out = io.BytesIO()
        iso.get_file_from_iso_fp(out, joliet_path=f"/{ANSWERS}")
        return {child.tag: (child.text or "").strip() for child in ElementTree.fromstring(out.getvalue())}
    except (pycdlib.pycdlibexception.PyCdlibException, ElementTree.ParseError):
        return {}
