"""The store: what goes in comes out, equal content is stored once, damage is found, collecting keeps what is needed."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import FileSource, open_file
from bathotype.core.errors import Damaged
from bathotype.core.store.chunks import CHUNK
from bathotype.core.store.collect import plan_collect, repack
from bathotype.core.store.ingest import Ingested, ingest
from bathotype.core.store.manifest import ChunkIndex, Manifest
from bathotype.core.store.materialise import StoredDisk, compare, damaged_rows, materialise
from bathotype.core.store.pack import PackBuilder, read_pack_index
from bathotype.core.store.region import RegionStore

#: A disk as a list of chunk contents: 0 is a zero chunk, other numbers are distinct patterns.
disks = st.lists(st.integers(0, 6), min_size=1, max_size=24)


def image(folder: Path, name: str, pattern: list[int], tail: int = 0) -> Path:
    path = folder / name
    path.write_bytes(
        b"".join(bytes([n]) * CHUNK if n < 4 else np.random.default_rng(n).bytes(CHUNK) for n in pattern) + b"t" * tail
    )
    return path


def put(store: RegionStore, path: Path, *known: Manifest) -> Ingested:
    with open_file(path) as source:
        return ingest(source, Ranges.of([(0, source.size)]), store, ChunkIndex(list(known)))


@settings(max_examples=25)
@given(first=disks, second=disks, tail=st.sampled_from([0, 512, 40_000]))
def test_round_trip_and_only_new_chunks(
    tmp_path_factory: pytest.TempPathFactory, first: list[int], second: list[int], tail: int
) -> None:
    folder = tmp_path_factory.mktemp("store")
    store = RegionStore("r", f"file://{folder}/s")
    one = put(store, image(folder, "one", first, tail))
    two = put(store, image(folder, "two", second, tail), one.manifest)
    fresh = {n for n in second if n} - {n for n in first if n}
    assert len(two.new_packs) == bool(fresh) and (two.new_bytes > 0) == bool(fresh)
    for name, made in (("one", one), ("two", two)):
        loaded = Manifest.loads(made.manifest.dumps())
        assert loaded.content_digest == made.manifest.content_digest
        target = folder / f"{name}.out"
        with target.open("wb") as file:
            file.truncate(loaded.size)
        with open_file(target, writable=True) as writer:
            materialise(loaded, store, writer)
            assert compare(loaded, writer) == []
        assert target.read_bytes() == (folder / name).read_bytes()
        disk = StoredDisk(loaded, store, cached_chunks=2)
        assert disk.read(0, disk.size) == target.read_bytes()
    if len(first) == len(second):
        expected = [i for i, (a, b) in enumerate(zip(first, second, strict=True)) if a != b]
        assert two.manifest.changed_since(one.manifest).tolist() == expected
    assert (one.manifest.content_digest == two.manifest.content_digest) == (first == second)


def test_doing_it_again_makes_the_same_packs(tmp_path: Path) -> None:
    path = image(tmp_path, "disk", [4, 5, 0, 6, 1, 2])
    packs = [put(RegionStore("r", f"file://{tmp_path}/{n}"), path).new_packs for n in "ab"]
    assert packs[0] == packs[1]


@given(data=st.data())
def test_a_changed_byte_in_a_manifest_is_found(data: st.DataObject, tmp_path_factory: pytest.TempPathFactory) -> None:
    folder = tmp_path_factory.mktemp("manifest")
    raw = bytearray(put(RegionStore("r", f"file://{folder}/s"), image(folder, "disk", [1, 2, 0, 4])).manifest.dumps())
    at = data.draw(st.integers(0, len(raw) - 1))
    raw[at] ^= data.draw(st.integers(1, 255))
    with pytest.raises(Damaged):
        Manifest.loads(bytes(raw))


@given(st.binary(max_size=400))
def test_noise_is_no_manifest_and_no_pack(noise: bytes) -> None:
    for reader, magic in ((Manifest.loads, b"BATHOMF1"), (read_pack_index, b"BATHOPK1")):
        for candidate in (noise, magic + noise, magic + noise + magic):
            try:
                reader(candidate)
            except Damaged:
                continue
            assert reader is read_pack_index, "an empty pack is a pack"


def test_the_index_of_a_pack_finds_its_chunks() -> None:
    builder = PackBuilder()
    places = [builder.add(bytes([n]) * 32, bytes([n]) * (n + 1)) for n in range(5)]
    name, data = builder.seal()
    assert [(o, n) for _, o, n in read_pack_index(data)] == places and len(name) == 64


def test_damage_is_found_and_named(tmp_path: Path) -> None:
    store = RegionStore("lagoon-3", f"file://{tmp_path}/s")
    manifest = put(store, image(tmp_path, "disk", [4, 5, 6])).manifest
    assert damaged_rows(manifest, store)[1] == []
    pack = next((tmp_path / "s" / "packs").glob("*/*"))
    raw = bytearray(pack.read_bytes())
    raw[len(raw) // 2] ^= 1
    pack.write_bytes(raw)
    _, found = damaged_rows(manifest, store)
    assert len(found) == 1 and pack.name[:16] in found[0] and "lagoon-3" in found[0]
    target = tmp_path / "out"
    with target.open("wb") as file:
        file.truncate(manifest.size)
    writer = FileSource(target, writable=True)
    with pytest.raises(Damaged):
        materialise(manifest, store, writer)
    writer.close()
    pack.unlink()
    assert "missing" in damaged_rows(manifest, store)[1][0]


def test_a_base_disk_that_differs_is_noticed(tmp_path: Path) -> None:
    store = RegionStore("r", f"file://{tmp_path}/s")
    path = image(tmp_path, "disk", [4, 0, 6, 0])
    manifest = put(store, path).manifest
    for chunk in (2, 3):
        raw = bytearray(image(tmp_path, "other", [4, 0, 6, 0]).read_bytes())
        raw[chunk * CHUNK + 77] ^= 1
        other = tmp_path / "other"
        other.write_bytes(raw)
        with open_file(other) as source:
            assert compare(manifest, source) == [chunk]


@settings(max_examples=15)
@given(versions=st.lists(disks, min_size=2, max_size=4), drop=st.integers(0, 3))
def test_collecting_keeps_what_is_needed_and_nothing_else(
    tmp_path_factory: pytest.TempPathFactory, versions: list[list[int]], drop: int
) -> None:
    folder = tmp_path_factory.mktemp("collect")
    store = RegionStore("r", f"file://{folder}/s")
    manifests: dict[str, Manifest] = {}
    for number, pattern in enumerate(versions):
        manifests[str(number)] = put(store, image(folder, str(number), pattern), *manifests.values()).manifest
    del manifests[str(drop % len(versions))]
    plan = plan_collect(store.packs(), manifests.values())
    live = {**manifests, **repack(store, manifests, plan.sparse, lambda name, size: None)}
    assert all(name not in m.packs for m in live.values() for name in plan.sparse)
    for name in (*plan.dead, *plan.sparse):
        store.delete_pack(name)
    for name, manifest in live.items():
        assert damaged_rows(manifest, store)[1] == []
        assert manifest.content_digest == manifests[name].content_digest, "moving chunks changes no content"
        disk = StoredDisk(manifest, store)
        assert disk.read(0, disk.size) == (folder / name).read_bytes()
    again = plan_collect(store.packs(), live.values())
    assert not again.dead


_BIG = """
import sys
from pathlib import Path
from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import open_file
from bathotype.core.store.ingest import ingest
from bathotype.core.store.manifest import ChunkIndex
from bathotype.core.store.region import RegionStore
from bathotype.core.store.materialise import materialise
folder = Path(sys.argv[1])
store = RegionStore("r", f"file://{folder}/s")
with open_file(folder / "big") as source:
    manifest = ingest(source, source.allocated(), store, ChunkIndex([])).manifest
(folder / "out").touch()
with (folder / "out").open("r+b") as f: f.truncate(manifest.size)
with open_file(folder / "out", writable=True) as target:
    materialise(manifest, store, target)
# Not getrusage: what that tells is carried over from the process that started this one.
print(int(Path('/proc/self/status').read_text().split('VmHWM:')[1].split()[0]) * 1024)
"""


def test_memory_stays_bounded_whatever_the_size(tmp_path: Path) -> None:
    big = tmp_path / "big"
    with big.open("wb") as file:
        file.truncate(64 * 1024**3)
        for piece in range(300):
            file.seek(piece * 200 * 1024**2 + 4096 * piece)
            file.write(np.random.default_rng(piece).bytes(2 * 1024**2))
    done = subprocess.run([sys.executable, "-c", _BIG, str(tmp_path)], capture_output=True, text=True, check=True)
    assert int(done.stdout) < 300 * 1024**2
    compared = subprocess.run(
        ["qemu-img", "compare", "-f", "raw", "-F", "raw", str(big), str(tmp_path / "out")], check=False
    )
    assert compared.returncode == 0
