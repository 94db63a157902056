"""Moving versions between stores: only what is missing, each chunk once, whatever crashes or lies."""

from __future__ import annotations

import threading
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bathotype.core.disk.ranges import Ranges
from bathotype.core.errors import Damaged
from bathotype.core.store.chunks import CHUNK
from bathotype.core.store.ingest import ingest
from bathotype.core.store.manifest import ChunkIndex, Manifest
from bathotype.core.store.materialise import StoredDisk, damaged_rows
from bathotype.core.store.region import RegionStore
from bathotype.core.store.transfer import Place, missing_rows, moved_places, transfer
from tests.support import Memory


class SharedLedger:
    """What the service keeps in its database, for transfers of one process."""

    claims: dict[bytes, tuple[str, Place | None]]

    def __init__(self, owner: str, claims: dict[bytes, tuple[str, Place | None]], lock: threading.Lock) -> None:
        self._owner, self.claims, self._lock = owner, claims, lock

    def claim(self, digests: list[bytes]) -> dict[bytes, Place | None]:
        with self._lock:
            out = {}
            for name in digests:
                owner, place = self.claims.setdefault(name, (self._owner, None))
                if place is not None or owner == self._owner:
                    out[name] = place
            return out

    def arrived(self, pack: str, chunks: list[tuple[bytes, int, int]]) -> None:
        with self._lock:
            for name, offset, length in chunks:
                assert self.claims[name][0] == self._owner
                self.claims[name] = (self._owner, (pack, offset, length))

    def wait(self) -> None:
        threading.Event().wait(0.005)


def ledger(owner: str = "a") -> SharedLedger:
    return SharedLedger(owner, {}, threading.Lock())


def disk(numbers: list[int]) -> Memory:
    """A disk of one chunk a number; 0 is a chunk of zeros."""
    return Memory(b"".join(bytes(CHUNK) if n == 0 else np.random.default_rng(n).bytes(CHUNK) for n in numbers))


def stored(store: RegionStore, numbers: list[int], *known: Manifest) -> Manifest:
    source = disk(numbers)
    return ingest(source, Ranges.of([(0, source.size)]), store, ChunkIndex(list(known))).manifest


def content(manifest: Manifest, store: RegionStore) -> bytes:
    return StoredDisk(manifest, store).read(0, manifest.size)


@settings(max_examples=25)
@given(st.lists(st.integers(0, 12), min_size=1, max_size=30), st.lists(st.integers(0, 12), min_size=1, max_size=30))
def test_only_what_is_missing_moves(tmp_path_factory: pytest.TempPathFactory, one: list[int], two: list[int]) -> None:
    folder = tmp_path_factory.mktemp("stores")
    here, there = RegionStore("here", f"file://{folder}/a"), RegionStore("there", f"file://{folder}/b")
    first = stored(here, one)
    second = stored(here, two, first)
    paced: list[int] = []
    arrived = transfer(first, here, there, ChunkIndex([]), ledger(), pace=paced.append)
    assert arrived.content_digest == first.content_digest and content(arrived, there) == disk(one).read(0, first.size)
    assert sum(paced) >= missing_rows(first, ChunkIndex([])).bytes
    paced.clear()
    missing = missing_rows(second, ChunkIndex([arrived]))
    assert len(missing.rows) == len({*two} - {*one} - {0})
    later = transfer(second, here, there, ChunkIndex([arrived]), ledger(), pace=paced.append)
    assert content(later, there) == disk(two).read(0, second.size)
    assert bool(paced) == bool(len(missing.rows))
    assert len(damaged_rows(later, there)[0]) == 0


def test_what_arrived_before_a_crash_is_not_moved_again(tmp_path: Path) -> None:
    here, there = RegionStore("here", f"file://{tmp_path}/a"), RegionStore("there", f"file://{tmp_path}/b")
    manifest = stored(here, list(range(1, 700)))
    shared = ledger()
    budget = [25 * 1024 * 1024]

    class Killed(BaseException):
        pass

    def pace(count: int) -> None:
        budget[0] -= count
        if budget[0] < 0:
            raise Killed

    with pytest.raises(Killed):
        transfer(manifest, here, there, ChunkIndex([]), shared, pace=pace)
    there_already = sum(place[2] for _, place in shared.claims.values() if place)
    assert there_already > 10 * 1024 * 1024
    moved: list[int] = []
    done = transfer(manifest, here, there, ChunkIndex([]), shared, pace=moved.append)
    assert sum(moved) <= missing_rows(manifest, ChunkIndex([])).bytes - there_already + 1024 * 1024
    assert len(damaged_rows(done, there)[0]) == 0 and done.content_digest == manifest.content_digest


def test_of_two_that_want_a_chunk_one_brings_it(tmp_path: Path) -> None:
    here, there = RegionStore("here", f"file://{tmp_path}/a"), RegionStore("there", f"file://{tmp_path}/b")
    one = stored(here, list(range(1, 300)))
    two = stored(here, list(range(100, 400)), one)
    claims: dict[bytes, tuple[str, Place | None]] = {}
    lock, moved, results = threading.Lock(), [], {}

    def run(name: str, manifest: Manifest) -> None:
        book = SharedLedger(name, claims, lock)
        results[name] = transfer(manifest, here, there, ChunkIndex([]), book, pace=moved.append)

    threads = [threading.Thread(target=run, args=a) for a in (("one", one), ("two", two))]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(60)
    distinct = {d.tobytes() for m in (one, two) for d in m.digests}
    assert sum(size for _, size in there.packs()) < (len(distinct) + 20) * CHUNK
    assert content(results["one"], there) == disk(list(range(1, 300))).read(0, one.size)
    assert content(results["two"], there) == disk(list(range(100, 400))).read(0, two.size)


def test_a_source_that_lies_brings_nothing(tmp_path: Path) -> None:
    here, there = RegionStore("here", f"file://{tmp_path}/a"), RegionStore("there", f"file://{tmp_path}/b")
    manifest = stored(here, [1, 2, 3])
    pack = next((tmp_path / "a/packs").glob("*/*"))
    raw = bytearray(pack.read_bytes())
    raw[100] ^= 1
    pack.write_bytes(raw)
    with pytest.raises(Damaged):
        transfer(manifest, here, there, ChunkIndex([]), ledger())
    assert list(there.packs()) == []


def test_a_damaged_pack_is_healed_for_every_version_in_it(tmp_path: Path) -> None:
    here, there = RegionStore("here", f"file://{tmp_path}/a"), RegionStore("there", f"file://{tmp_path}/b")
    one = stored(here, [1, 2, 3, 4])
    two = stored(here, [1, 2, 3, 9], one)
    copy = transfer(one, here, there, ChunkIndex([]), ledger())
    other = transfer(two, here, there, ChunkIndex([copy]), ledger())
    pack = tmp_path / "b/packs" / copy.packs[0][:2] / copy.packs[0]
    raw = bytearray(pack.read_bytes())
    raw[int(copy.offset[1]) + 40] ^= 1
    pack.write_bytes(raw)
    bad, told = damaged_rows(copy, there)
    assert bad.tolist() == [1] and copy.packs[0][:16] in told[0]
    good = np.setdiff1d(np.arange(len(copy)), bad)
    healed = transfer(one, here, there, ChunkIndex([copy.only(good)]), ledger())
    assert len(damaged_rows(healed, there)[0]) == 0
    too = moved_places(other, healed, bad)
    assert too is not None and len(damaged_rows(too, there)[0]) == 0 and len(damaged_rows(other, there)[0]) == 1
