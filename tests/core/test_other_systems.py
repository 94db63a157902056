"""XFS, btrfs and NTFS: what is said to be unused is zeroed, and the systems' own tools and the kernel judge the rest."""

from __future__ import annotations

import contextlib
import os
import random
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest

from bathotype import demo
from bathotype.core.disk.btrfs.blocks import Btrfs
from bathotype.core.disk.layout import read_layout, used_ranges
from bathotype.core.disk.ntfs.blocks import Ntfs
from bathotype.core.disk.ntfs.files import NtfsFiles
from bathotype.core.disk.overlay import Overlay
from bathotype.core.disk.source import open_file
from bathotype.core.disk.xfs.blocks import Xfs
from bathotype.core.errors import Damaged
from bathotype.core.firstboot.seed import build_seed, unanswered
from bathotype.core.firstboot.settings import first_boot_of
from bathotype.core.generalize.prepared import marker_line
from bathotype.core.generalize.profile import AnswerFile, Marker, load_profile
from tests.core.test_journal import files, mounted, sh

MIB = 1024 * 1024
MARK = b"a former life of this disk "
READERS: dict[str, Callable[..., Xfs | Btrfs | Ntfs]] = {"xfs": Xfs, "btrfs": Btrfs, "ntfs": Ntfs}
needs_kernel = pytest.mark.skipif(os.geteuid() != 0, reason="the kernel mounts for root alone")


def marked(image: Path, size: int) -> None:
    """A disk in which something else was before, in each eighth MiB."""
    with image.open("wb") as file:
        file.truncate(size)
        for at in range(0, size, 8 * MIB):
            file.seek(at)
            file.write((MARK * (MIB // len(MARK) + 1))[:MIB])


@pytest.fixture(name="folder")
def emptied(tmp_path: Path) -> Iterator[Path]:
    """A folder whose images go when a test is over: they are large."""
    yield tmp_path
    for image in tmp_path.glob("*.*"):
        image.unlink()


def fill(top: Path) -> None:
    """Files of many sizes, of which some are removed again."""
    chance = random.Random(5)
    for number in range(400):
        path = top / f"d{number % 7}" / f"f{number}"
        path.parent.mkdir(exist_ok=True)
        path.write_bytes(chance.randbytes(chance.choice([0, 10, 3000, 20_000, 200_000])))
    os.sync()
    for number in range(0, 400, 3):
        (top / f"d{number % 7}" / f"f{number}").unlink()


def taken(image: Path) -> Path:
    """What a capture takes of an image, the rest zeros."""
    copy = image.with_suffix(".taken")
    with open_file(image) as source, copy.open("wb") as file:
        layout = read_layout(source)
        assert layout.volumes[0].understood, layout.volumes[0].note
        file.truncate(source.size)
        for start, end in used_ranges(source, layout):
            file.seek(start)
            file.write(source.read(start, end - start))
    return copy


MAKES = {
    "xfs": "mkfs.xfs -q -f {}",
    "xfs, 1 KiB blocks": "mkfs.xfs -q -f -b size=1024 {}",
    "xfs, version 4": "mkfs.xfs -q -f -m crc=0 {}",
    "xfs, many groups": "mkfs.xfs -q -f -d agcount=5 -l size=64m {}",
    "xfs, small sectors": "mkfs.xfs -q -f -s size=4096 -m rmapbt=1,reflink=1 {}",
    "btrfs": "mkfs.btrfs -q -f {}",
    "btrfs, mixed": "mkfs.btrfs -q -f --mixed {}",
    "btrfs, two copies": "mkfs.btrfs -q -f -m dup -d dup -n 32768 {}",
    "btrfs, SHA-256": "mkfs.btrfs -q -f --csum sha256 {}",
    "btrfs, BLAKE2": "mkfs.btrfs -q -f --csum blake2 {}",
    "btrfs, xxHash": "mkfs.btrfs -q -f --csum xxhash {}",
}  # fmt: skip


@needs_kernel
@pytest.mark.parametrize("kind", MAKES)
@pytest.mark.parametrize("frozen", [False, True])
def test_used_blocks_are_all_that_matters(kind: str, frozen: bool, folder: Path) -> None:
    image = folder / "a.img"
    marked(image, 400 * MIB)
    sh(MAKES[kind].format(image))
    with mounted(image) as top:
        fill(top)
        before = files(top)
        if frozen:
            sh(f"fsfreeze -f {top}")
            try:
                copy = image.with_name("frozen.img")
                sh(f"cp --sparse=always {image} {copy}")
            finally:
                sh(f"fsfreeze -u {top}")
    done = taken(copy if frozen else image)
    assert used_bytes(done) < 200 * MIB
    if kind.startswith("btrfs"):
        sh(f"btrfs check --readonly {done}")
    elif not frozen:  # the tool wants a log without anything in it
        sh(f"xfs_repair -n {done}")
    with mounted(done, "nouuid" if kind.startswith("xfs") else "") as top:
        assert files(top) == before


def used_bytes(image: Path) -> int:
    with open_file(image) as source:
        return used_ranges(source, read_layout(source)).total


@needs_kernel
@pytest.mark.parametrize("kind", ["xfs", "btrfs"])
def test_what_waits_in_a_log_is_captured_whole_and_said(kind: str, folder: Path) -> None:
    image, copy = folder / "a.img", folder / "copy.img"
    marked(image, 400 * MIB)
    sh(MAKES[kind].format(image))
    with mounted(image) as top:
        fill(top)
        with (top / "last").open("wb") as file:
            file.write(b"synced" * 1000)
            os.fsync(file.fileno())
            sh(f"cp --sparse=always {image} {copy}")
    with open_file(copy) as source:
        volume = read_layout(source).volumes[0]
        assert volume.filesystem == kind and not volume.understood and "log waits" in volume.note
        assert used_ranges(source, read_layout(source)).total == source.allocated().total


def test_ntfs_in_an_orderly_state(folder: Path) -> None:
    image, chance = folder / "a.img", random.Random(3)
    marked(image, 64 * MIB)
    sh(f"mkntfs -q -F -f {image}")
    for number in range(12):
        (folder / f"f{number}").write_bytes(chance.randbytes(number * 40_000))
        sh(f"ntfscp -q {image} {folder}/f{number} f{number}")
    done = taken(image)
    assert used_bytes(done) < 16 * MIB
    sh(f"ntfsfix -n {done}")
    for number in range(12):
        held = subprocess.run(["ntfscat", done, f"f{number}"], capture_output=True, check=True).stdout
        assert held == (folder / f"f{number}").read_bytes()
    data = bytearray(image.read_bytes())
    with open_file(image) as source:
        volume = Ntfs(source)
        at = volume._mft[0].cluster * volume.cluster + 3 * volume.record
    place = data.index(b"\x70\0\0\0", at)
    data[place + 24 + 10] |= 1
    image.write_bytes(data)
    with open_file(image) as source:
        assert "orderly" in read_layout(source).volumes[0].note


def test_single_files_of_ntfs_are_read_as_its_own_tools_read_them(folder: Path) -> None:
    image, chance = folder / "a.img", random.Random(5)
    sh(f"truncate -s 64M {image} && mkntfs -q -F -f {image}")
    names = {"tiny.txt": 11, "Größe.txt": 700, "block": 4096, "large.bin": 3_000_001, **{f"n{n}": n for n in range(40)}}
    for name, size in names.items():
        (folder / "f").write_bytes(chance.randbytes(size))
        sh(f"ntfscp -q {image} {folder}/f '{name}'")
    with open_file(image) as source:
        fs = NtfsFiles(source)
        for name in names:
            held = subprocess.run(["ntfscat", image, name], capture_output=True, check=True).stdout
            file = fs.find(f"/{name.upper()}")
            assert file is not None and fs.read(file) == held, name
        assert fs.find("/nosuch") is None and fs.find("/tiny.txt/below") is None
        marker = Marker(path="/tiny.txt", match="^state=prepared")
        assert marker_line(source, read_layout(source), marker) is None
    (folder / "f").write_bytes(b"first\r\nstate=prepared \x1b[31mon a day\r\n")
    sh(f"ntfscp -q {image} {folder}/f tiny.txt")
    with open_file(image) as source:
        told = marker_line(source, read_layout(source), marker)
        assert told == "state=prepared [31mon a day", "nothing steers a terminal"
    none = np.empty(0, np.int64)
    with open_file(image) as source:
        for seed in range(400):  # damaged tables: an answer, or a documented error
            chance = random.Random(seed)
            places = [chance.randrange(0x4000, 0x30000) for _ in range(chance.choice([1, 4, 30]))]
            hurt = Overlay(source, 512, none, none, pieces={at: chance.randbytes(1) for at in places})
            with contextlib.suppress(Damaged):
                files = NtfsFiles(hurt)
                for _, file in files.walk():
                    files.read(file, most=100)


@pytest.mark.parametrize("kind", ["xfs", "btrfs", "ntfs"])
def test_changed_bytes_give_errors_and_nothing_else(kind: str, folder: Path) -> None:
    image, chance = folder / "a.img", random.Random(kind)
    make = MAKES.get(kind, "mkntfs -q -F -f {}")
    sh(f"truncate -s 320M {image}")
    sh(make.format(image))
    damaged = 0
    with open_file(image, writable=True) as source:
        places = [
            at for a, b in source.allocated() for at in range(a, min(b, a + MIB), 512) if any(source.read(at, 512))
        ]
        if kind == "ntfs":
            places = [at for at in places if at < 24 * 1024]  # the first records
        for _ in range(400):
            at = chance.choice(places) + chance.randrange(508)
            before = source.read(at, 4)
            source.write(at, chance.choice([bytes(4), b"\xff" * 4, chance.randbytes(4)]))
            try:
                READERS[kind](source).used()
            except Damaged:
                damaged += 1
            source.write(at, before)
    assert damaged


def test_an_answer_file_names_users_and_addresses() -> None:
    profile = load_profile((Path(demo.__file__).parent / "pilot-desk.yaml").read_text())
    assert profile.own_tool is not None and profile.own_tool.answers is not None
    file = profile.own_tool.answers
    given = {
        "time_zone": "Europe/Oslo",
        "users": [
            {"name": "orla", "full_name": 'Orla <o\'clock> & "friends"', "administrator": True},
            {"name": "finn"},
        ],
        "network": {
            "mode": "static",
            "addresses": ["192.0.2.9/24"],
            "gateway": "192.0.2.1",
            "search": ["tide.example"],
        },
    }
    settings = first_boot_of(given)
    seed = build_seed(settings, instance_id="i-1", host_name="desk-a", answers=file)
    told = ElementTree.fromstring(seed.files["answers.xml"])
    assert [user.findtext("name") for user in told.iter("user")] == ["orla", "finn"]
    assert [user.findtext("full-name") for user in told.iter("user")] == ['Orla <o\'clock> & "friends"', ""]
    assert told.findtext("address") == "192.0.2.9/24" and told.find("address").get("gateway") == "192.0.2.1"  # type: ignore[union-attr]
    assert unanswered(file, settings) == []
    plain = AnswerFile(
        name="answers.txt", template="name={host_name}\n{users}", user="user={user_name} ({full_name})\n"
    )
    lying = first_boot_of({"users": [{"name": "orla", "full_name": "x\nname=other"}], "locale": "nb_NO.UTF-8"})
    lines = build_seed(lying, instance_id="i-1", host_name="desk-a", answers=plain).files["answers.txt"].splitlines()
    assert lines == [b"name=desk-a", b"user=orla (x name=other)"]
    [warning] = unanswered(plain, lying)
    assert "does not name: locale" in warning
