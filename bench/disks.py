"""The disks of the benchmark: real Debian data, what a package update makes of it, and a large sparse one."""

from __future__ import annotations

import os
import random
import socket
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from bathotype.core.disk.layout import read_layout, used_ranges
from bathotype.core.disk.source import FileSource, open_file
from standin.labguest import default_cache, prepare

MIB = 1024 * 1024
DATA_MIB = 1100
SPARSE_GIB = 16
_SPAN = (2048 + 131072) * 512  # the lab disk's boot partition ends here


def real_disk(folder: Path, say: object) -> Path:
    """The lab guest's files, filled up to more than 1 GiB with files of the Debian packages installed here."""
    lab = prepare(default_cache(), "ext4", say)  # type: ignore[arg-type]
    tree = next(default_cache().glob("*-tree"))
    image = folder / "real.raw"
    size = 3 * 1024 * MIB
    with image.open("wb") as file:
        file.truncate(size)
    script = "label: gpt\nfirst-lba: 2048\nsize=64MiB, type=U, name=boot\ntype=L, name=root\n"
    subprocess.run(["/usr/sbin/sfdisk", "-q", str(image)], input=script, text=True, check=True)
    subprocess.run(
        [
            "dd",
            f"if={lab}",
            f"of={image}",
            "bs=1M",
            "skip=1",
            "seek=1",
            "count=64",
            "conv=notrunc,sparse",
            "status=none",
        ],
        check=True,
    )
    command = ["/usr/sbin/mke2fs", "-q", "-F", "-t", "ext4", "-L", "lab-root", "-d", str(tree), "-E", f"offset={_SPAN}"]
    subprocess.run([*command, str(image), f"{(size - _SPAN - MIB) // 1024}k"], check=True, capture_output=True)
    _fill(image, folder)
    return image


def _fill(image: Path, folder: Path) -> None:
    """Add files of packages installed on this machine until there is enough data."""
    with open_file(image) as source:
        missing = DATA_MIB * MIB - used_ranges(source, read_layout(source)).total
    lines, taken, number = ["mkdir /opt/packages"], 0, 0
    for path in sorted(Path("/usr/lib").rglob("*")):
        if taken >= missing:
            break
        if path.is_file() and not path.is_symlink() and 4096 < path.stat().st_size < 64 * MIB and " " not in str(path):
            number += 1
            taken += path.stat().st_size
            lines.append(f"write {path} /opt/packages/{number}")
    script = folder / "fill"
    script.write_text("\n".join(lines) + "\n")
    subprocess.run(
        ["/usr/sbin/debugfs", "-w", "-f", str(script), f"{image}?offset={_SPAN}"], check=True, capture_output=True
    )


def update(image: Path, share: float, folder: Path) -> None:
    """What a package update does: whole files are replaced, here by the same files shifted by a few bytes."""
    chance = random.Random(7)
    with open_file(image) as source:
        from bathotype.core.guest.files import GuestDisk

        disk = GuestDisk.open(source)
        files = [p for p, n in disk.entries.items() if n.is_file and 65536 < n.size < 8 * MIB and p.startswith("/usr")]
        wanted = used_ranges(source, disk.layout).total * share
        lines, taken = [], 0
        for number, path in enumerate(chance.sample(files, len(files))):
            if taken >= wanted:
                break
            data = disk.content(path)
            taken += len(data)
            (folder / f"update{number}").write_bytes(data[13:] + data[:13])
            lines += [f'rm "{path}"', f'write {folder}/update{number} "{path}"']
    script = folder / "update"
    script.write_text("\n".join(lines) + "\n")
    subprocess.run(
        ["/usr/sbin/debugfs", "-w", "-f", str(script), f"{image}?offset={_SPAN}"], check=True, capture_output=True
    )


def sparse_disk(path: Path) -> Path:
    """A disk of 16 GiB with a little data every 64 MiB."""
    chance = random.Random(3)
    with path.open("wb") as file:
        file.truncate(SPARSE_GIB * 1024 * MIB)
        for at in range(MIB, SPARSE_GIB * 1024 * MIB, 64 * MIB):
            file.seek(at)
            file.write(chance.randbytes(65536))
    return path


def data_of(image: Path, target: Path) -> int:
    """The used bytes of a disk one after another: what the references work on."""
    source = FileSource(image)
    used = used_ranges(source, read_layout(source))
    with target.open("wb") as file:
        for start, end in used:
            for at in range(start, end, 4 * MIB):
                file.write(source.read(at, min(4 * MIB, end - at)))
    source.close()
    return used.total


@contextmanager
def served(image: Path, form: str, *options: str) -> Iterator[str]:
    """A disk offered over NBD by qemu-nbd, as a site does."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    command = [
        "qemu-nbd",
        "-f",
        form,
        "--persistent",
        "--shared=8",
        f"--port={port}",
        "--bind=127.0.0.1",
        "--read-only",
    ]
    process = subprocess.Popen([*command, *options, str(image)])
    try:
        for _ in range(500):
            try:
                socket.create_connection(("127.0.0.1", port), 1).close()
                break
            except OSError:
                time.sleep(0.01)
        yield f"nbd://127.0.0.1:{port}/"
    finally:
        process.terminate()
        process.wait(10)


def warm(*files: Path) -> None:
    """Bring files into the page cache, so that nobody pays for the disk."""
    for file in files:
        handle = os.open(file, os.O_RDONLY)
        while os.read(handle, 4 * MIB):
            pass
        os.close(handle)
