"""Disk files: making, copying without their holes, and what partitions they have."""

from __future__ import annotations

import contextlib
import json
import os
import subprocess
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path


def create_raw(path: Path, size: int) -> None:
    """An empty sparse file."""
    with path.open("xb") as file:
        file.truncate(size)


def copy_raw(source: Path, target: Path) -> None:
    """A copy that is whole or not there; holes stay holes."""
    temporary = target.with_suffix(".part")
    with source.open("rb") as reader, temporary.open("wb") as writer:
        size = os.fstat(reader.fileno()).st_size
        writer.truncate(size)
        position = 0
        while position < size:
            try:
                start = os.lseek(reader.fileno(), position, os.SEEK_DATA)
            except OSError:
                break
            position = os.lseek(reader.fileno(), start, os.SEEK_HOLE)
            _copy_range(reader.fileno(), writer.fileno(), start, position)
    temporary.rename(target)


def _copy_range(source: int, target: int, start: int, end: int) -> None:
    while start < end:
        start += os.copy_file_range(source, target, end - start, start, start)


def remove(path: Path) -> None:
    """Delete a disk file; one that is gone is fine."""
    with contextlib.suppress(FileNotFoundError):
        path.unlink()


@dataclass(frozen=True)
class Part:
    """A partition of a disk file, in bytes."""

    number: int
    start: int
    size: int


def partitions(path: Path) -> list[Part]:
    """The partitions as ``sfdisk`` reads them; none where there is no table."""
    done = subprocess.run([tool("sfdisk"), "--json", str(path)], capture_output=True, text=True, check=False)
    if done.returncode:
        return []
    table = json.loads(done.stdout)["partitiontable"]
    unit = int(table.get("sectorsize", 512))
    return [
        Part(number, entry["start"] * unit, entry["size"] * unit)
        for number, entry in enumerate(table.get("partitions", []), 1)
    ]


def is_ext4(path: Path, start: int) -> bool:
    """Whether a file system of that family begins there: its magic is at byte 56 of its superblock."""
    with path.open("rb") as file:
        file.seek(start + 1024 + 56)
        return file.read(2) == b"\x53\xef"


@lru_cache
def tool(name: str) -> str:
    """A system tool that may lie in sbin."""
    for folder in (*os.environ.get("PATH", "").split(":"), "/usr/sbin", "/sbin"):
        if folder and (Path(folder) / name).exists():
            return str(Path(folder) / name)
    raise RuntimeError(f"{name} is not installed")


def create_overlay(path: Path, base: tuple[Path, str] | None, size: int) -> None:
    """A qcow2 file that reads as ``base`` until written, or as zeros; it costs nothing, whatever the size."""
    command = [tool("qemu-img"), "create", "-q", "-f", "qcow2"]
    if base is not None:
        command += ["-b", str(base[0]), "-F", base[1]]
    subprocess.run([*command, str(path), str(size)], check=True, capture_output=True)


def copy_from_export(address: str, target: Path) -> None:
    """A raw copy of what an export reads as; whole or not there.

    Raw, so that what the machine discards becomes a hole of that very size: a qcow2 file gives back whole clusters only.
    """
    temporary = target.with_suffix(".part")
    subprocess.run(
        [tool("qemu-img"), "convert", "-f", "raw", "-O", "raw", address, str(temporary)],
        check=True,
        capture_output=True,
    )
    temporary.rename(target)


def virtual_size(path: Path, form: str) -> int:
    """Bytes of the disk in a file."""
    command = [tool("qemu-img"), "info", "--output=json", "-U", "-f", form, str(path)]
    return int(json.loads(subprocess.run(command, capture_output=True, check=True).stdout)["virtual-size"])
