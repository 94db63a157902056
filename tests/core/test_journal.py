"""File systems whose journal waits, as a machine leaves them that was copied while it ran: the kernel is the judge."""

from __future__ import annotations

import os
import random
import shutil
import struct
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from bathotype.core.disk.ext4.filesystem import Ext4
from bathotype.core.disk.layout import read_layout, settled, used_ranges
from bathotype.core.disk.source import FileSource, open_file
from bathotype.core.errors import Damaged
from tests import kernel
from tests.kernel import clean
from tests.support import Memory

MIB = 1024 * 1024
#: In a journal such a block is escaped, since it begins as a block of the journal's own does.
ESCAPED = b"\xc0\x3b\x39\x98" * 2000

KINDS = {
    "usual": ("", ""),
    "of 1 KiB blocks": ("-b 1024", ""),
    "without checksums": ("-O ^metadata_csum,^64bit", ""),
    "with 64 bits, without checksums": ("-O ^metadata_csum", ""),
    "with a checksum a transaction": ("-O ^metadata_csum", "journal_checksum"),
    "committed asynchronously": ("", "journal_async_commit,data=writeback"),
    "with data in the journal": ("", "data=journal"),
    "ext3": ("-t ext3", ""),
    "inline": ("-O inline_data", "data=journal"),
    "small": ("-J size=1 -b 1024", "data=journal"),
}


def sh(command: str) -> str:
    done = subprocess.run(["/bin/sh", "-c", command], capture_output=True, text=True, check=False)
    assert done.returncode == 0, f"{command}: {done.stderr}"
    return done.stdout


@contextmanager
def mounted(image: Path, options: str = "") -> Iterator[Path]:
    """By the kernel, on a loop device."""
    try:
        with kernel.mounted(image, image.parent / "mnt", options) as folder:
            yield folder
    except kernel.Unmountable as error:
        pytest.skip(f"this system mounts no images: {error}")


def files(folder: Path) -> dict[str, bytes]:
    return {str(p.relative_to(folder)): p.read_bytes() for p in folder.rglob("*") if p.is_file()}


def crashed(folder: Path, make: str, options: str, seed: int) -> Path:
    """An image that was copied while it was written to; what was synced before must be in it."""
    image, copy = folder / "live.img", folder / "copy.img"
    sh(f"truncate -s 40M {image} && mkfs.ext4 -q {make} {image}")
    chance = random.Random(seed)
    with mounted(image, options) as top:
        for number in range(70):
            path = top / f"f{chance.randrange(24)}"
            if chance.random() < 0.6:
                path.write_bytes(ESCAPED if number % 7 == 0 else chance.randbytes(chance.randrange(1, 90_000)))
            elif path.exists():
                path.unlink()
            tree = top / f"d{chance.randrange(5)}"
            if chance.random() < 0.3:
                if tree.exists():
                    shutil.rmtree(tree)  # its blocks are revoked
                else:
                    tree.mkdir()
                    (tree / "x").write_bytes(ESCAPED)
            if chance.random() < 0.3:
                sh(f"sync -f {top}")
        (top / "last").write_bytes(b"synced\n" * 9000)
        sh(f"sync -f {top} && cp --sparse=always {image} {copy}")
    return copy


@pytest.mark.skipif(os.geteuid() != 0, reason="the kernel mounts for root alone")
@pytest.mark.parametrize("kind", KINDS)
def test_a_journal_is_replayed_as_the_kernel_does(kind: str, tmp_path: Path) -> None:
    make, options = KINDS[kind]
    copy = crashed(tmp_path, make, options, len(kind))
    judge, kept = tmp_path / "judge.img", tmp_path / "kept.img"
    shutil.copy(copy, judge)
    with mounted(judge) as top:
        wanted = files(top)
    assert wanted["last"] == b"synced\n" * 9000
    with open_file(copy) as raw:
        assert Ext4(raw).needs_recovery
        assert read_layout(raw).volumes[0].whole, "without a replay nothing is left out"
        disk = settled(raw)
        [volume] = read_layout(disk).volumes
        assert volume.understood, volume.note
        fs = Ext4(disk)
        assert {e.path.lstrip("/"): fs.read(e.inode) for e in fs.walk() if e.inode.is_file} == wanted
        used = used_ranges(disk, read_layout(disk))
        assert used.total < raw.size / 2
        with kept.open("wb") as file:
            file.truncate(disk.size)
            for start, end in used:
                file.seek(start)
                file.write(disk.read(start, end - start))
    clean(kept)
    with mounted(kept) as top:
        assert files(top) == wanted
        (top / "more").write_bytes(os.urandom(MIB))
    clean(kept)


@pytest.mark.skipif(os.geteuid() != 0, reason="the kernel mounts for root alone")
def test_what_cannot_be_replayed_is_captured_whole_and_said(tmp_path: Path) -> None:
    copy = crashed(tmp_path, "", "", 1)
    whole = copy.read_bytes()
    with open_file(copy) as source:
        fs = Ext4(source)
        inode = fs.inode(fs.journal_inode)
        journal = next(start for _, start, _, _ in fs.extents(inode)) * fs.block_size
    for at, value, why in (
        (journal + 40, 0x40, "features that are not known"),
        (journal, 0, "no superblock"),
        (journal + 252, 1, "checksum of the journal's superblock"),
    ):
        broken = bytearray(whole)
        struct.pack_into(">I", broken, at, value)
        disk = settled(Memory(bytes(broken)))
        [volume] = read_layout(disk).volumes
        assert volume.whole and why in volume.note
        assert (
            used_ranges(disk, read_layout(disk)).total >= used_ranges(Memory(whole), read_layout(Memory(whole))).total
        )
    # A transaction whose commit is damaged did not happen, nor did those after it.
    broken = bytearray(whole)
    start = struct.unpack_from(">I", whole, journal + 28)[0]
    broken[journal + (start + 1) * 4096 : journal + (start + 2) * 4096] = b"\0" * 4096
    try:
        fs = Ext4(settled(Memory(bytes(broken))))
        assert len(list(fs.walk())) >= 1
    except Damaged as error:
        assert str(error)


def test_a_million_changed_bytes_give_documented_errors_alone() -> None:
    """Where no kernel mounts, a journal that is made up: whatever it holds, it is replayed, or refused with a reason."""
    chance = random.Random(7)
    image = Path("/tmp") / f"journal-{os.getpid()}.img"
    try:
        sh(f"truncate -s 4M {image} && mkfs.ext4 -q -b 1024 -O ^metadata_csum {image}")
        data = bytearray(image.read_bytes())
    finally:
        image.unlink(missing_ok=True)
    struct.pack_into("<I", data, 1024 + 96, struct.unpack_from("<I", data, 1024 + 96)[0] | 4)
    fs = Ext4(Memory(bytes(data)))
    at = next(start for _, start, _, _ in fs.extents(fs.inode(8))) * fs.block_size
    for _ in range(150):
        mine = bytearray(data)
        struct.pack_into(">II", mine, at + 24, 1, 1)
        for block in range(1, 12):
            kind = chance.choice((1, 1, 2, 5, 9))
            struct.pack_into(">III", mine, at + block * 1024, 0xC03B3998, kind, chance.choice((1, 1, 1, 2)))
            mine[at + block * 1024 + 12 : at + block * 1024 + 60] = chance.randbytes(48)
        for _ in range(chance.randrange(4)):
            mine[at + chance.randrange(64)] = chance.randrange(256)
        disk = settled(Memory(bytes(mine)))
        used_ranges(disk, read_layout(disk))


def test_a_disk_whose_journal_is_empty_is_the_disk_itself(tmp_path: Path) -> None:
    image = tmp_path / "a.img"
    sh(f"truncate -s 8M {image} && mkfs.ext4 -q {image}")
    source = FileSource(image)
    assert settled(source) is source
    source.close()
