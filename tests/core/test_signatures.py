"""What a stretch of a disk holds, beside what blkid and wipefs see in the same bytes."""

from __future__ import annotations

import bz2
import gzip
import lzma
import subprocess
from itertools import permutations
from pathlib import Path

import pytest
import zstandard

from bathotype.core.disk.signatures import HEAD, Signs, other_file, signs_of, swap_end

MIB = 1024 * 1024
MAKERS = {
    "ext4": "mkfs.ext4 -q -F",
    "ext2": "mkfs.ext2 -q -F",
    "xfs": "mkfs.xfs -q -f",
    "btrfs": "mkfs.btrfs -q -f",
    "fat32": "mkfs.vfat -F 32",
    "fat16": "mkfs.vfat -F 16",
    "ntfs": "mkntfs -q -F -Q",
    "swap": "mkswap -q",
}
#: Names of blkid that are of one family here.
FAMILY = {"ext2": "ext4", "vfat": "fat"}


def made(file: Path, *makers: str) -> bytes:
    """A file in which one tool after another has made what it makes; its beginning."""
    with file.open("wb") as disk:
        disk.truncate(320 * MIB)
    for maker in makers:
        subprocess.run([*MAKERS[maker].split(), str(file)], check=True, capture_output=True)
    with file.open("rb") as disk:
        return disk.read(HEAD)


def asked(*command: str) -> list[str]:
    """What a tool prints, in words."""
    done = subprocess.run(command, capture_output=True, text=True, check=True)
    return [FAMILY.get(word, word) for word in done.stdout.split()]


@pytest.mark.parametrize("maker", MAKERS)
def test_what_a_tool_makes_is_what_blkid_says(maker: str, tmp_path: Path) -> None:
    file = tmp_path / "disk"
    assert [signs_of(made(file, maker), 320 * MIB).first] == asked(
        "blkid", "-p", "-s", "TYPE", "-o", "value", str(file)
    )


@pytest.mark.parametrize(("first", "second"), list(permutations(("btrfs", "fat16", "swap", "xfs"), 2)))
def test_what_one_leaves_below_another_is_named_as_wipefs_does(first: str, second: str, tmp_path: Path) -> None:
    file = tmp_path / "disk"
    seen = signs_of(made(file, first, second), 320 * MIB)
    assert {seen.first, *seen.also} == set(asked("wipefs", "--noheadings", "--output", "TYPE", str(file))) - {"dos"}


def test_nothing_zeros_and_noise_have_names_of_their_own(tmp_path: Path) -> None:
    assert signs_of(bytes(HEAD), MIB) == Signs("empty") == signs_of(b"", 0)
    assert signs_of(bytes(HEAD - 1) + b"x", MIB) == Signs("unknown")
    head = made(tmp_path / "disk", "swap")
    assert swap_end(head, 320 * MIB) == 320 * MIB
    assert swap_end(head, 319 * MIB) == 0, "one that ends beyond its stretch is none"
    assert signs_of(head, 319 * MIB).first == "unknown"
    for name, pack in (
        ("gzip", gzip.compress),
        ("xz", lzma.compress),
        ("bzip2", bz2.compress),
        ("zstd", zstandard.compress),
    ):
        assert other_file(pack(head)) == f"packed with {name}"
    assert other_file(head) == ""
