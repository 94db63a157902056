"""Disks: ranges, partition tables, ext4 and NBD, against sfdisk, dumpe2fs, debugfs, e2fsck and qemu-nbd."""

from __future__ import annotations

import re
import subprocess
import time
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bathotype.core.disk.ext4.filesystem import Ext4
from bathotype.core.disk.ext4.used import used
from bathotype.core.disk.layout import read_layout, used_ranges
from bathotype.core.disk.nbd import NbdDisk
from bathotype.core.disk.partition import read_partition_table
from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import FileSource, Masked, Window, open_file
from bathotype.core.errors import Damaged, Unavailable
from bathotype.core.guest.files import GuestDisk
from tests.support import sparse_copy

SIZE = 4096
pairs = st.lists(st.tuples(st.integers(0, SIZE), st.integers(0, SIZE)).map(lambda p: (min(p), max(p))), max_size=12)


def bits(ranges: Ranges) -> set[int]:
    return {i for a, b in ranges for i in range(a, b)}


@given(pairs, pairs, st.integers(1, 700))
def test_ranges_are_sets(left: list[tuple[int, int]], right: list[tuple[int, int]], width: int) -> None:
    a, b = Ranges.of(left), Ranges.of(right)
    mine, theirs = bits(a), bits(b)
    assert bits(a.union(b)) == mine | theirs
    assert bits(a.minus(b, SIZE)) == mine - theirs
    assert bits(a.intersect(b, SIZE)) == mine & theirs
    assert bits(a.complement(SIZE)) == set(range(SIZE)) - mine
    assert a.total == len(mine)
    assert all(x[1] < y[0] for x, y in zip(list(a), list(a)[1:], strict=False)), "disjoint, sorted, not touching"
    assert a.windows(width).tolist() == sorted({i // width for i in mine})
    assert {i for x, y in a.within(100, 900) for i in range(x, y)} == {i for i in mine if 100 <= i < 900}


@given(st.binary(min_size=600, max_size=600), pairs, st.integers(0, 599), st.integers(0, 600))
def test_a_mask_shows_zeros(data: bytes, visible: list[tuple[int, int]], start: int, length: int) -> None:
    class Memory:
        size = 600

        def read(self, offset: int, length: int) -> bytes:
            return data[offset : offset + length]

        def allocated(self) -> Ranges:
            return Ranges.of([(0, 600)])

    shown = bits(Ranges.of(visible))
    length = min(length, 600 - start)
    masked = Masked(Memory(), Ranges.of(visible)).read(start, length)
    assert masked == bytes(data[i] if i in shown else 0 for i in range(start, start + length))


@pytest.mark.parametrize(
    "script",
    [
        "label: gpt\nsize=8MiB,type=C12A7328-F81F-11D2-BA4B-00A0C93EC93B,name=efi\nsize=16MiB,name=root\n",
        "label: dos\nsize=8MiB,type=83\nsize=8MiB,type=5\nsize=2MiB,type=82\nsize=2MiB,type=83\n",
    ],
)
def test_partition_tables_are_read_as_sfdisk_reads_them(tmp_path: Path, script: str) -> None:
    image = tmp_path / "disk.raw"
    with image.open("wb") as file:
        file.truncate(64 * 1024 * 1024)
    subprocess.run(["/usr/sbin/sfdisk", "-q", str(image)], input=script, text=True, check=True)
    dump = subprocess.run(["/usr/sbin/sfdisk", "-d", str(image)], capture_output=True, text=True, check=True).stdout
    told = [
        (int(a), int(b)) for a, b, kind in re.findall(r"start=\s*(\d+), size=\s*(\d+), type=(\w+)", dump) if kind != "5"
    ]
    with open_file(image) as source:
        table = read_partition_table(source)
        assert [(p.start // 512, p.length // 512) for p in table.partitions] == sorted(told)
    if table.scheme == "gpt":
        with image.open("r+b") as file:
            file.seek(512 + 60)
            file.write(b"\xff")
        with open_file(image) as source:
            again = read_partition_table(source)
        assert again.partitions == table.partitions and "checksum" in again.notes[0], "the backup serves"


@given(st.binary(max_size=3000), st.integers(0, 4))
def test_hostile_disks_give_errors_not_harm(tmp_path_factory: pytest.TempPathFactory, noise: bytes, kind: int) -> None:
    """Random bytes with the right magic numbers: an error or an answer, never a crash or a hang."""
    head = bytearray(65536 * 3)
    head[: len(noise)] = noise
    head[510:512] = b"\x55\xaa"
    if kind == 1:
        head[450], head[512:520] = 0xEE, b"EFI PART"
    if kind >= 2:
        head[510:512] = b"\0\0"
        head[1024 + 56 : 1024 + 58] = b"\x53\xef"
        head[1024 + 24 : 1024 + 28] = bytes([kind - 2, 0, 0, 0])
    image = tmp_path_factory.mktemp("hostile") / "disk"
    image.write_bytes(head)
    with open_file(image) as source:
        try:
            used_ranges(source, read_layout(source))
            disk = GuestDisk.open(source)
            list(disk.walk())
        except Exception as error:
            assert type(error).__module__.startswith("bathotype"), repr(error)


def test_damaged_metadata_never_escapes(demo_disk: Path, tmp_path: Path) -> None:
    """Overwrite pieces of a real file system's metadata: every outcome is an answer or `Damaged`."""
    image = tmp_path / "disk.raw"
    sparse_copy(demo_disk, image)
    with open_file(image) as source:
        root = GuestDisk.open(source).root
    for block in [*range(40), *range(41, 800, 23)]:
        with image.open("r+b") as file:
            file.seek(root.start + block * 4096 + 16)
            kept = file.read(200)
            file.seek(root.start + block * 4096 + 16)
            file.write(bytes((block * 37 + i * 101) % 256 for i in range(200)))
        with open_file(image) as source:
            try:
                fs = Ext4(Window(source, root.start, root.length))
                used(fs)
                for entry in fs.walk():
                    if entry.inode.is_file:
                        fs.read(entry.inode, most=65536)
            except Damaged:
                pass
        with image.open("r+b") as file:
            file.seek(root.start + block * 4096 + 16)
            file.write(kept)


@pytest.mark.parametrize(
    "options",
    [
        ["-b", "4096"],
        ["-b", "1024"],
        ["-b", "4096", "-O", "^64bit,^metadata_csum"],
        ["-t", "ext2", "-b", "1024"],
        ["-t", "ext3", "-b", "4096"],
        ["-O", "inline_data", "-I", "256"],
    ],
)
def test_ext4_files_and_used_blocks_agree_with_e2fsprogs(tmp_path: Path, options: list[str]) -> None:
    tree = tmp_path / "tree"
    (tree / "etc").mkdir(parents=True)
    (tree / "many").mkdir()
    (tree / "etc" / "small").write_text("tiny")
    (tree / "etc" / "large").write_bytes(bytes(range(256)) * 6000)
    with (tree / "etc" / "sparse").open("wb") as file:
        file.seek(3_000_000)
        file.write(b"end")
    (tree / "etc" / "link").symlink_to("small")
    (tree / "etc" / "long").symlink_to("x" * 200)
    for number in range(400):
        (tree / "many" / f"file-with-a-rather-long-name-{number:04d}").write_text(str(number))
    image = tmp_path / "fs"
    kind = [] if "-t" in options else ["-t", "ext4"]
    subprocess.run(["/usr/sbin/mke2fs", "-q", *kind, *options, "-d", str(tree), str(image), "40M"], check=True)
    with open_file(image) as source:
        fs = Ext4(source)
        for path in (p for p in tree.rglob("*") if p.is_file() and not p.is_symlink()):
            inode = fs.lookup("/" + str(path.relative_to(tree)))
            assert inode is not None and fs.read(inode) == path.read_bytes(), path
        for name in ("link", "long"):
            inode = fs.lookup(f"/etc/{name}")
            assert inode is not None and fs.read(inode).decode() == str((tree / "etc" / name).readlink())
        assert sum(1 for _ in fs.walk()) == sum(1 for _ in tree.rglob("*")) + 2  # the root and lost+found
        visible = used(fs)
        # What is left out must be free, an inode never used, or the empty journal: zero it and let e2fsck judge.
        copy = tmp_path / "copy"
        copy.write_bytes(Masked(source, visible).read(0, source.size))
    done = subprocess.run(["/usr/sbin/e2fsck", "-fn", str(copy)], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout
    told = subprocess.run(["/usr/sbin/dumpe2fs", "-h", str(image)], capture_output=True, text=True, check=True).stdout
    free, block = (int(re.search(rf"{n}:\s+(\d+)", told)[1]) for n in ("Free blocks", "Block size"))  # type: ignore[index]
    assert visible.total <= 40 * 1024 * 1024 - free * block


def test_nbd_reads_writes_and_sees_holes(tmp_path: Path) -> None:
    image = tmp_path / "disk.raw"
    with image.open("wb") as file:
        file.truncate(32 * 1024 * 1024)
        file.seek(5 * 1024 * 1024)
        file.write(b"bathotype" * 1000)
    socket = tmp_path / "nbd.sock"
    process = subprocess.Popen(
        ["qemu-nbd", "-f", "raw", "-k", str(socket), "-x", "one disk", "--persistent", str(image)]
    )
    try:
        while not socket.exists():
            time.sleep(0.01)
        uri = f"nbd+unix:///one%20disk?socket={socket}"
        with NbdDisk(uri) as disk:
            assert disk.size == 32 * 1024 * 1024 and disk.writable
            assert disk.read(5 * 1024 * 1024, 9000) == b"bathotype" * 1000
            assert disk.allocated().total < 1024 * 1024
            big = bytes(range(256)) * 40_000
            disk.write(12_345_678, big)
            disk.write_zeros(5 * 1024 * 1024, 4096)
            disk.flush()
            assert disk.read(12_345_678, len(big)) == big
            with pytest.raises(Damaged):
                disk.read(disk.size - 10, 11)
        with open_file(image) as source:
            assert source.read(12_345_678, len(big)) == big and not any(source.read(5 * 1024 * 1024, 4096))
        with pytest.raises(Unavailable, match="no export"):
            NbdDisk(f"nbd+unix:///other?socket={socket}")
        with NbdDisk(uri) as disk:
            process.kill()
            process.wait()
            with pytest.raises(Unavailable):
                disk.read(0, 4096)
    finally:
        process.kill()


def test_a_file_source_reports_its_holes(demo_disk: Path) -> None:
    source = FileSource(demo_disk)
    try:
        layout = read_layout(source)
        assert [v.filesystem for v in layout.volumes] == ["boot-code", "swap", "ext4"]
        assert source.allocated().total < 0.2 * source.size
        assert used_ranges(source, layout).total < source.allocated().total, "a deleted file's blocks are not taken"
    finally:
        source.close()
