"""Several disks as one: stored in one table, read as one guest, written to one archive, and each by itself again."""

from __future__ import annotations

import json
import re
import subprocess
import tarfile
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bathotype.core.disk.holding import holding
from bathotype.core.disk.layout import read_layout, used_ranges
from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.several import ALIGNED, Several, begins, number_of, windows_of
from bathotype.core.disk.source import BlockSource, FileSource, Masked, open_file
from bathotype.core.errors import Invalid, NotFound, Refused
from bathotype.core.formats.catalogue import open_image, ova_of
from bathotype.core.formats.laidout import stream
from bathotype.core.formats.ovf import Appliance
from bathotype.core.generalize import residue
from bathotype.core.generalize.apply import apply_plan
from bathotype.core.generalize.plan import capture_ranges, plan
from bathotype.core.generalize.profile import builtin_profile
from bathotype.core.guest.files import GuestDisk
from bathotype.core.store.chunks import CHUNK
from bathotype.core.store.ingest import ingest
from bathotype.core.store.manifest import ChunkIndex, Manifest
from bathotype.core.store.materialise import StoredDisk, compare, damaged_rows, materialise
from bathotype.core.store.region import RegionStore
from tests.core.test_partitions import ID, KEY, PARTS
from tests.kernel import clean
from tests.support import Memory

MIB = 1024 * 1024
#: A disk's bytes: pieces of zeros or of a pattern, and an end that is no whole chunk.
contents = st.tuples(st.lists(st.integers(0, 3), max_size=4), st.sampled_from([0, 512, 30_208])).map(
    lambda parts: b"".join(bytes([n]) * CHUNK for n in parts[0]) + b"e" * parts[1]
)
several = st.lists(contents.filter(len), min_size=2, max_size=4)


@settings(max_examples=25)
@given(disks=several, at=st.floats(0, 1), length=st.floats(0, 1))
def test_each_disk_comes_back_as_it_went_in(
    disks: list[bytes], at: float, length: float, tmp_path_factory: pytest.TempPathFactory
) -> None:
    folder = tmp_path_factory.mktemp("several")
    joint = Several(tuple(map(Memory, disks)))
    whole = b"".join(disk.ljust(-(-len(disk) // ALIGNED) * ALIGNED, b"\0") for disk in disks[:-1]) + disks[-1]
    first = int(at * len(whole))
    last = first + int(length * (len(whole) - first))
    assert joint.size == len(whole) and joint.read(first, last - first) == whole[first:last]
    outside = joint.allocated().complement(joint.size)
    assert not any(any(whole[a:b]) for a, b in outside)
    store = RegionStore("r", f"file://{folder}/s")
    made = ingest(joint, Ranges.of([(0, joint.size)]), store, ChunkIndex([])).manifest
    loaded = Manifest.loads(made.dumps())
    assert loaded.sizes == tuple(map(len, disks)) and loaded.content_digest == made.content_digest
    assert len(damaged_rows(loaded, store)[0]) == 0
    for number, data in enumerate(disks):
        part = loaded.disk(number)
        target = folder / f"{number}.raw"
        with target.open("wb") as file:
            file.truncate(part.size)
        with open_file(target, writable=True) as out:
            materialise(part, store, out)
            assert compare(part, out) == []
        assert target.read_bytes() == data
        assert StoredDisk(part, store).read(0, part.size) == data
    with pytest.raises(NotFound, match=f"has no disk data-{len(disks)}"):
        loaded.disk(len(disks))


def test_where_one_disk_ends_is_part_of_the_content(tmp_path: Path) -> None:
    store, data = RegionStore("r", f"file://{tmp_path}/s"), b"x" * (2 * CHUNK)
    cuts: list[tuple[BlockSource, ...]] = [(Memory(data * 2),), (Memory(data), Memory(data))]
    cuts.append((Memory(data[:CHUNK]), Memory(data + data[:CHUNK])))
    made = [ingest(Several(c), Ranges.of([(0, 4 * CHUNK)]), store, ChunkIndex([])).manifest for c in cuts]
    assert len({m.content_digest for m in made}) == 3
    assert made[0].disks == (), "one disk is what it always was"


def _spread(folder: Path) -> Several:
    """The guest of `test_partitions`, its volumes on four disks: with a table, straight on the disk, of an odd size."""
    of = {part.point: part.files for part in PARTS if part.kind == "ext4"}
    fstab = b"LABEL=os / ext4 defaults 0 1\n/dev/vdb /home ext4 defaults 0 2\n/dev/vdc2 /var ext4 defaults 0 2\n"
    fstab += b"/dev/disk/by-label/scratch /tmp ext4 defaults 0 2\n"
    volumes = {
        "os": (0, 48, {**of["/"], "etc/fstab": fstab}),
        "people": (1, 24, of["/home"]),
        "scratch": (2, 16, of["/tmp"]),
        "state": (2, 24, of["/var"]),
        # A copy of another disk bears the same label: only one of them can be mounted.
        "scratch ": (3, 16, {"kept.txt": b"a copy\n"}),
    }
    disks = [folder / f"disk{number}.raw" for number in range(4)]
    for number, tables in enumerate(("size=48MiB, type=L", "", "size=16MiB, type=L\nsize=24MiB, type=L", "")):
        size = sum(mib for n, mib, _ in volumes.values() if n == number) * MIB + (4 * MIB if tables else 4096)
        disks[number].touch()
        with disks[number].open("r+b") as file:
            file.truncate(size)
        if tables:
            script = f"label: gpt\n{tables}\n"
            subprocess.run(["/usr/sbin/sfdisk", "-q", disks[number]], input=script, text=True, check=True)
    free = {n: MIB if n in (0, 2) else 0 for n in range(4)}
    for label, (number, mib, files) in volumes.items():
        tree, piece = folder / f"tree{label}", folder / "piece"
        for name, data in files.items():
            (tree / name).parent.mkdir(parents=True, exist_ok=True)
            (tree / name).write_bytes(data)
        with piece.open("wb") as file:
            file.truncate(mib * MIB)
        argv = ["/usr/sbin/mke2fs", "-q", "-t", "ext4", "-L", label.strip(), "-d", tree, piece]
        subprocess.run(argv, check=True, capture_output=True)
        with disks[number].open("r+b") as file:
            file.seek(free[number])
            file.write(piece.read_bytes())
        free[number] += mib * MIB
    return Several(tuple(FileSource(disk) for disk in disks))


def test_a_guest_on_several_disks_is_generalized_and_scanned_as_one(tmp_path: Path) -> None:
    joint = _spread(tmp_path)
    assert joint.disks[1] % ALIGNED, "an odd size"
    identity = residue.SourceIdentity("pier-09", ID.decode().strip(), ())
    layout = read_layout(joint)
    assert [v.key for v in layout.volumes] == ["1", "data-1", "data-2/1", "data-2/2", "data-3"]
    used, image = used_ranges(joint, layout), tmp_path / "copy.raw"
    with image.open("wb") as file:
        file.truncate(joint.size)
        for start, end in used:
            file.seek(start)
            file.write(joint.read(start, end - start))
    with open_file(image, writable=True, disks=joint.disks) as copy:
        disk = GuestDisk.open(copy)
        assert [m.point for m in disk.mounts] == ["/", "/(the disk data-3)", "/home", "/tmp", "/var"]
        assert disk.read("/(the disk data-3)/kept.txt") == b"a copy\n"
        planned = plan(builtin_profile("linux"), disk, host_name="pier-09")
        gone = {"/home/mara/.ssh/id_ed25519", "/var/log/syslog", "/tmp/session-key.pem", "/home/mara/.bash_history"}
        assert gone <= set(planned.removed)
        apply_plan(planned, disk, copy)
        assert residue.scan(GuestDisk.open(copy), identity) == []
        taken = Masked(copy, capture_ranges(planned, GuestDisk.open(copy))).read(0, copy.size)
        assert KEY not in taken and ID.strip() not in taken and b"a copy" in taken
        for number, (window, volume) in enumerate((windows_of(copy)[v.disk], v) for v in disk.layout.volumes):
            piece = tmp_path / f"volume{number}"
            piece.write_bytes(window.read(volume.start - begins(copy.disks)[volume.disk], volume.length))
            clean(piece)


def test_what_a_disk_calls_itself_steers_nothing(tmp_path: Path) -> None:
    image = tmp_path / "named.raw"
    with image.open("wb") as file:
        file.truncate(8 * MIB)
    subprocess.run(["/usr/sbin/sfdisk", "-q", image], input="label: gpt\nsize=4MiB, type=L\n", text=True, check=True)
    with open_file(image) as source:
        layout = read_layout(source)
    for name, told in (("tides\0left", "tides"), ("\x1b[2J\ud800", "\ufffd[2J\ufffd")):
        named = replace(layout, volumes=tuple(replace(v, part_label=name) for v in layout.volumes))
        with open_file(image) as source:
            held = holding(source, named)[0].volumes[0]
        assert held.label == told and json.loads(json.dumps(held.text).encode()) == held.text


def _ova(folder: Path, disks: list[bytes]) -> Path:
    made, target = (
        ova_of([Memory(d) for d in disks], appliance=Appliance("s", "s", "1"), identity=bytes(16)),
        folder / "s.ova",
    )
    with target.open("wb") as out:
        for piece in stream(made):
            out.write(piece)
    return target


def test_an_archive_holds_all_disks_in_their_order(tmp_path: Path) -> None:
    disks = [bytes([n]) * (n * MIB) + bytes(MIB) for n in (1, 2, 3)]
    archive = _ova(tmp_path, disks)
    with tarfile.open(archive) as tar:
        tar.extractall(tmp_path / "out")
    for number, data in enumerate(disks, 1):
        (tmp_path / "plain").write_bytes(data)
        argv = [
            "qemu-img",
            "compare",
            "-f",
            "raw",
            "-F",
            "vmdk",
            tmp_path / "plain",
            tmp_path / f"out/s-disk{number}.vmdk",
        ]
        subprocess.run(argv, check=True, capture_output=True)
    with open_file(archive) as file:
        opened = open_image(file)
        assert opened.check is not None and opened.check(lambda done, total: None)
        assert [w.read(0, w.size) for w in windows_of(opened.disk)] == disks
    # The places at the controller say which is which, not the order of the list.
    text = (tmp_path / "out/s.ovf").read_text()
    turned = re.sub(r"AddressOnParent>(\d)<", lambda m: f"AddressOnParent>{2 - int(m[1])}<", text)
    with tarfile.open(tmp_path / "turned.ova", "w", format=tarfile.USTAR_FORMAT) as tar:
        (tmp_path / "out/s.ovf").write_text(turned)
        for name in ("s.ovf", "s-disk1.vmdk", "s-disk2.vmdk", "s-disk3.vmdk"):
            tar.add(tmp_path / "out" / name, name)
    with open_file(tmp_path / "turned.ova") as file:
        assert [w.size for w in windows_of(open_image(file).disk)] == [len(d) for d in reversed(disks)]
    with pytest.raises(Refused, match="1 to 16"):
        _open_many(tmp_path, 17)
    with pytest.raises(Invalid, match="no role"):
        number_of("data-0")


def _open_many(folder: Path, count: int) -> None:
    with open_file(_ova(folder, [b"x" * 512] * count)) as file:
        open_image(file)
