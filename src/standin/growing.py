"""What a guest does at its first boot on a disk that is larger than its partitions: the last one and its file system
grow."""

from __future__ import annotations

import os
import re
import subprocess
import tempfile
from pathlib import Path

from standin.disks import partitions, tool

#: Less is not worth it, in bytes.
_LEAST = 8 * 1024 * 1024
_PIECE = 4 * 1024 * 1024


def grow(image: Path, start: int) -> str:
    """Let the ext4 file system that begins there take the rest of a raw disk; returns what happened, empty for nothing.

    Only the last partition can grow.
    """
    parts = partitions(image)
    last = max(parts, key=lambda part: part.start, default=None)
    size = image.stat().st_size
    if last is None or last.start != start or size - (last.start + last.size) < _LEAST:
        return ""
    sfdisk = [tool("sfdisk"), "-q"]
    # A GPT ends with a second table, which still lies where the disk ended before.
    subprocess.run([*sfdisk, "--relocate", "gpt-bak-std", str(image)], check=False, capture_output=True)
    subprocess.run(
        [*sfdisk, "-N", str(last.number), str(image)], input=", +", text=True, check=True, capture_output=True
    )
    grown = next(part for part in partitions(image) if part.number == last.number)
    with tempfile.TemporaryDirectory(dir=image.parent) as folder:
        own = Path(folder) / "root"
        _copy(image, start, own, 0, last.size)
        os.truncate(own, grown.size)
        # Without a resize inode blocks are moved: what lay there before must not stay.
        subprocess.run([tool("fallocate"), "-p", "-o", str(start), "-l", str(last.size), str(image)], check=True)
        subprocess.run([tool("resize2fs"), "-f", str(own)], check=True, capture_output=True)
        _copy(own, 0, image, start, grown.size)
    return f"growpart: partition {last.number} has {grown.size // 2**20} MiB now; resize2fs: so has its file system"


def file_system_bytes(image: Path, start: int) -> tuple[int, int]:
    """What an ext4 file system offers in all, as statfs(2) reports it: without its own tables; and what is used of it."""
    told = subprocess.run(
        [tool("dumpe2fs"), "-h", f"{image}?offset={start}"], capture_output=True, text=True, check=True
    ).stdout
    facts = dict(re.findall(r"(?m)^([\w ]+):\s+(\d+)", told))
    blocks = int(facts["Block count"]) - int(facts.get("Overhead clusters", 0))
    size = int(facts["Block size"])
    return blocks * size, (blocks - int(facts["Free blocks"])) * size


def _copy(source: Path, at: int, target: Path, to: int, length: int) -> None:
    """Copy bytes of a sparse file; where it has holes, nothing is written."""
    target.touch()
    with source.open("rb") as reader, target.open("r+b") as writer:
        position, end = at, at + length
        while position < end:
            try:
                first = os.lseek(reader.fileno(), position, os.SEEK_DATA)
            except OSError:  # nothing but a hole is left
                break
            position = min(os.lseek(reader.fileno(), first, os.SEEK_HOLE), end)
            for piece in range(first, position, _PIECE):
                data = os.pread(reader.fileno(), min(_PIECE, position - piece), piece)
                os.pwrite(writer.fileno(), data, to + piece - at)
