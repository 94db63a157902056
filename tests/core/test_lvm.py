"""Logical volumes, made by the volume manager itself: a system in three pieces is generalized and captured."""

from __future__ import annotations

import os
import random
import subprocess
from pathlib import Path

import pytest

from bathotype.core.disk.layout import read_layout, used_ranges
from bathotype.core.disk.lvm import read_group
from bathotype.core.disk.source import FileSource, open_file
from bathotype.core.disk.stretch import Stretch
from bathotype.core.errors import Damaged
from bathotype.core.generalize.apply import apply_plan
from bathotype.core.generalize.plan import capture_ranges, plan
from bathotype.core.generalize.profile import builtin_profile
from bathotype.core.guest.files import GuestDisk
from tests.core.test_journal import clean, sh
from tests.support import holds

MIB, EXTENT = 1024 * 1024, 4 * 1024 * 1024
PARTITION = MIB
pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="loop devices are for root alone")
FSTAB = b"/dev/mapper/tide--vg-root / ext4 defaults 0 1\n/dev/tide-vg/data /srv ext4 defaults 0 2\n/dev/tide-vg/swap none swap sw 0 0\n"


@pytest.fixture
def disk(tmp_path: Path) -> tuple[Path, dict[str, list[tuple[int, int]]]]:
    """A disk with a group on its first partition; and where the volume manager says that the volumes' extents are."""
    image = tmp_path / "disk.raw"
    sh(
        f"truncate -s 260M {image} && printf 'label: gpt\nstart=2048,type=E6D6D379-F507-44C2-A23C-238F2A3DF928\n' | sfdisk -q {image}"
    )
    done = subprocess.run(
        ["losetup", "-f", "--show", "-o", str(PARTITION), "--sizelimit", str(258 * MIB), image],
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode:
        pytest.skip(f"this system has no loop devices: {done.stderr.strip()}")
    device = done.stdout.strip()
    only = f"--devices {device} --driverloaded n"
    try:
        sh(f"pvcreate -y -ff {only} {device} && vgcreate {only} tide-vg {device}")
        make = f"lvcreate {only} -an -Wn -Zn -y tide-vg"
        sh(f"{make} -n root -l 5 && {make} -n data -l 4 && lvextend {only} -l +4 tide-vg/root && {make} -n swap -l 3")
        sh(f"{make} -n gone -l 2 && lvextend {only} -l +5 tide-vg/root && lvremove -y {only} tide-vg/gone")
        sh(f"{make} -n striped -l 2 && {make} -n hidden -l 3")
        sh(f"lvconvert -y {only} --type thin-pool tide-vg/hidden || true")
        report = sh(f"lvs {only} --noheadings --separator , -o name,seg_pe_ranges tide-vg")
    finally:
        sh(f"sync && losetup -d {device}")
    places: dict[str, list[tuple[int, int]]] = {}
    for line in report.splitlines():
        if ":" in line and line.strip():
            name, span = line.strip().split(",")[:2]
            first, last = (int(n) for n in span.rsplit(":", 1)[1].split()[0].split("-"))
            places.setdefault(name, []).append((PARTITION + MIB + first * EXTENT, (last - first + 1) * EXTENT))
    return image, places


def put(image: Path, places: list[tuple[int, int]], volume: Path) -> None:
    """Lay a volume's bytes where they belong on a disk."""
    data, at = volume.read_bytes(), 0
    with image.open("r+b") as file:
        for start, length in places:
            file.seek(start)
            file.write(data[at : at + length])
            at += length


def got(image: Path, places: list[tuple[int, int]], volume: Path) -> Path:
    """A volume's bytes, put together from a disk."""
    with image.open("rb") as file, volume.open("wb") as out:
        for start, length in places:
            file.seek(start)
            out.write(file.read(length))
    return volume


def test_a_system_on_logical_volumes_is_generalized(
    disk: tuple[Path, dict[str, list[tuple[int, int]]]], tmp_path: Path
) -> None:
    image, places = disk
    assert len(places["root"]) == 3
    for name, files in {
        "root": {"etc/hostname": b"pier-09\n", "etc/machine-id": b"0" * 31 + b"1\n", "etc/fstab": FSTAB, "var/log/syslog": b"pier " * 9000,
                 "opt/large": random.Random(1).randbytes(40 * MIB)},
        "data": {"app/.bash_history": b"kept", "home/mara/.ssh/id_x": b"kept"},
    }.items():  # fmt: skip
        tree = tmp_path / name
        for path, data in files.items():
            (tree / path).parent.mkdir(parents=True, exist_ok=True)
            (tree / path).write_bytes(data)
        size = sum(length for _, length in places[name])
        sh(f"mke2fs -q -t ext4 -d {tree} {tmp_path}/{name}.img {size // 1024}k")
        put(image, places[name], tmp_path / f"{name}.img")
    sh(f"truncate -s {3 * EXTENT} {tmp_path}/swap.img && mkswap -q {tmp_path}/swap.img")
    put(image, places["swap"], tmp_path / "swap.img")
    with image.open("r+b") as file:  # in extents that belong to nothing
        file.seek(PARTITION + MIB + 55 * EXTENT)
        file.write(b"a former life")
    with open_file(image, writable=True) as source:
        guest = GuestDisk.open(source)
        assert {m.point: m.volume.name for m in guest.mounts} == {
            "/": "volume tide-vg/root",
            "/srv": "volume tide-vg/data",
        }
        planned = plan(builtin_profile("linux"), guest, host_name="pier-09")
        apply_plan(planned, guest, source)
    source = FileSource(image)
    taken = tmp_path / "taken.raw"
    with taken.open("wb") as file:
        file.truncate(source.size)
        for start, end in capture_ranges(planned, GuestDisk.open(source)):
            file.seek(start)
            file.write(source.read(start, end - start))
    assert not holds(taken, b"a former life") and not holds(taken, b"pier pier")
    for name in ("root", "data"):
        clean(got(taken, places[name], tmp_path / f"{name}.taken"))
    found = GuestDisk.open(FileSource(taken))
    assert found.content("/opt/large") == (tmp_path / "root/opt/large").read_bytes()
    assert found.read("/etc/machine-id") == b"" and found.read("/srv/app/.bash_history") == b"kept"
    assert "/var/log/syslog" not in found.entries


def test_what_a_group_does_not_say_is_captured(disk: tuple[Path, dict[str, list[tuple[int, int]]]]) -> None:
    image, _ = disk
    with open_file(image) as source:
        layout = read_layout(source)
        group = layout.volumes[0]
        assert group.filesystem == "lvm" and group.understood
        data = bytearray(source.read(0, source.size))
    at = data.index(b"LABELONE") + 30
    with image.open("r+b") as file:
        file.seek(at)
        file.write(b"\xff")
    with open_file(image) as source:
        layout = read_layout(source)
        assert not layout.volumes[0].understood and "label" in layout.volumes[0].note
        assert (
            used_ranges(source, layout).total >= 250 * MIB
            or used_ranges(source, layout).total == source.allocated().total
        )


def test_changed_bytes_give_errors_and_nothing_else(disk: tuple[Path, dict[str, list[tuple[int, int]]]]) -> None:
    image, _ = disk
    chance, damaged = random.Random(4), 0
    with open_file(image, writable=True) as source:
        for _ in range(400):
            at = PARTITION + chance.choice([chance.randrange(2048), 4096 + chance.randrange(6000)])
            before = source.read(at, 2)
            source.write(at, chance.randbytes(2))
            try:
                read_group(source, PARTITION, 258 * MIB)
            except Damaged:
                damaged += 1
            source.write(at, before)
    assert damaged


def test_a_stretch_in_pieces_reads_and_writes_as_one(tmp_path: Path) -> None:
    image, chance = tmp_path / "x", random.Random(2)
    image.write_bytes(bytes(1000))
    stretch, model = Stretch(((700, 100), (0, 50), (300, 150))), bytearray(300)
    with open_file(image, writable=True) as file:
        for _ in range(200):
            at = chance.randrange(300)
            data = chance.randbytes(chance.randrange(1, 301 - at))
            stretch.write(file, at, data)
            model[at : at + len(data)] = data
            begin = chance.randrange(300)
            assert stretch.within(file).read(begin, 300 - begin) == model[begin:]
    assert len(image.read_bytes()) == 1000
