"""Reading only what changed: a real dirty bitmap, offered by qemu-nbd, against a full read."""

from __future__ import annotations

import random
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bathotype.core.disk.layout import read_layout, used_ranges
from bathotype.core.disk.nbd import NbdDisk
from bathotype.core.disk.ranges import Ranges
from bathotype.core.errors import Damaged
from bathotype.core.store.ingest import Chunks, Unchanged, ingest
from bathotype.core.store.manifest import ChunkIndex
from bathotype.core.store.note import CaptureNote
from bathotype.core.store.region import RegionStore
from tests.support import Memory

MIB = 1024 * 1024


@contextmanager
def served(image: Path, *options: str) -> Iterator[str]:
    """An image offered by qemu-nbd."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    command = ["qemu-nbd", "-f", "qcow2", "--persistent", f"--port={port}", "--bind=127.0.0.1", *options, str(image)]
    process = subprocess.Popen(command)
    try:
        for _ in range(200):
            try:
                socket.create_connection(("127.0.0.1", port), 1).close()
                break
            except OSError:
                time.sleep(0.02)
        yield f"nbd://127.0.0.1:{port}/"
    finally:
        process.terminate()
        process.wait(10)


def test_a_bitmap_gives_what_a_full_read_gives(demo_disk: Path, tmp_path: Path) -> None:
    image, work = tmp_path / "disk.qcow2", tmp_path / "work.raw"
    subprocess.run(["qemu-img", "convert", "-f", "raw", "-O", "qcow2", demo_disk, image], check=True)
    store = RegionStore("skerry-1", f"file://{tmp_path}/store")
    with served(image, "--read-only") as address, NbdDisk(address) as disk:
        taken = used_ranges(disk, read_layout(disk))
        first = ingest(disk, taken, store, ChunkIndex([])).manifest
        assert disk.changed() is None, "no bitmap was asked for"
    note = CaptureNote.loads(CaptureNote.of(taken, None, first).dumps())
    subprocess.run(["qemu-img", "bitmap", "--add", "-f", "qcow2", image, "since-first"], check=True)
    _use_the_machine(demo_disk, work, image)
    with served(image, "--read-only", "-B", "since-first") as address:
        with NbdDisk(address, changes="qemu:dirty-bitmap:since-first") as disk:
            changed = disk.changed()
            assert changed is not None and 0 < changed.total < 40 * MIB
            used = used_ranges(disk, read_layout(disk))
            fresh = note.fresh(used, changed, disk.size)
            part = ingest(disk, used, store, ChunkIndex([first]), unchanged=Unchanged(first, fresh))
        with NbdDisk(address, changes="qemu:dirty-bitmap:another") as disk:
            assert disk.changed() is None
            full = ingest(disk, used, RegionStore("fjord-2", f"file://{tmp_path}/other"), ChunkIndex([]))
    assert part.manifest.content_digest == full.manifest.content_digest != first.content_digest
    assert len(fresh.index) * 65536 < 0.6 * full.manifest.data_bytes, "most was not read"
    assert Memory(part.manifest.dumps()).size  # it can be stored


def _use_the_machine(before: Path, work: Path, image: Path) -> None:
    """Write and remove files offline, and carry the changed blocks over by writing them to the live image."""
    subprocess.run(["cp", "--sparse=always", before, work], check=True)
    with work.open("rb") as file:
        root = next(v for v in read_layout(_File(file)).volumes if v.filesystem == "ext4")
    (work.parent / "new").write_bytes(random.Random(1).randbytes(3 * MIB))
    script = f"write {work.parent}/new /opt/new.bin\nrm /etc/motd\nrm /usr/bin/tide-gauge-collector\nmkdir /srv/x\n"
    (work.parent / "script").write_text(script)
    target = f"{work}?offset={root.start}"
    command = ["/usr/sbin/debugfs", "-w", "-f", f"{work.parent}/script", target]
    subprocess.run(command, check=True, capture_output=True)
    with served(image) as address, NbdDisk(address) as disk, before.open("rb") as old, work.open("rb") as new:
        for at in range(0, disk.size, MIB):
            was, now = old.read(MIB), new.read(MIB)
            if was != now:
                for step in range(0, MIB, 65536):
                    if was[step : step + 65536] != now[step : step + 65536]:
                        disk.write(at + step, now[step : step + 65536])
        disk.flush()


class _File:
    def __init__(self, file: object) -> None:
        self._file = file

    @property
    def size(self) -> int:
        return int(self._file.seek(0, 2))  # type: ignore[attr-defined]

    def read(self, offset: int, length: int) -> bytes:
        self._file.seek(offset)  # type: ignore[attr-defined]
        return bytes(self._file.read(length))  # type: ignore[attr-defined]

    def allocated(self) -> Ranges:
        return Ranges.of([(0, self.size)])


spans = st.lists(st.tuples(st.integers(0, 19), st.integers(1, 6)), max_size=6)


@given(spans, spans, spans, st.lists(st.integers(0, 19), max_size=4, unique=True), st.integers(0, 99))
def test_any_change_is_found(
    taken: list[tuple[int, int]],
    used: list[tuple[int, int]],
    written: list[tuple[int, int]],
    edited: list[int],
    seed: int,
) -> None:
    """Whatever is written, newly used, given up or edited: building upon the old version equals reading it all."""
    size, half, chance = 20 * 65536, 32768, random.Random(seed)
    before = chance.randbytes(size)
    after = bytearray(before)

    def ranges(parts: list[tuple[int, int]]) -> Ranges:
        return Ranges.of(
            (a * 65536 + half * (b % 2), min(size, (a + b) * 65536 - half * (b % 3 == 0))) for a, b in parts
        )

    for start, end in ranges(written):
        after[start:end] = chance.randbytes(end - start)
    with tempfile.TemporaryDirectory() as folder:
        store = RegionStore("s", f"file://{folder}")
        generalized = bytearray(before)
        for chunk in edited:
            generalized[chunk * 65536 : chunk * 65536 + 100] = bytes(100)
        raw = ingest(Memory(before), ranges(taken), store, ChunkIndex([])).manifest
        old = ingest(Memory(bytes(generalized)), ranges(taken), store, ChunkIndex([])).manifest
        note = CaptureNote.of(ranges(taken), raw, old)
        fresh = note.fresh(ranges(used), ranges(written), size)
        now = Memory(bytes(after))
        part = ingest(now, ranges(used), store, ChunkIndex([old]), unchanged=Unchanged(old, fresh)).manifest
        full = ingest(now, ranges(used), store, ChunkIndex([])).manifest
    assert part.content_digest == full.content_digest
    assert np.array_equal(part.index, full.index)


def test_a_note_that_is_no_note_is_refused() -> None:
    note = CaptureNote(Ranges.of([(0, 65536)]), Chunks(np.array([3], np.int64)))
    again = CaptureNote.loads(note.dumps())
    assert list(again.taken) == [(0, 65536)] and again.edited.index.tolist() == [3]
    for data in (b"", b"PK\x03\x04 nonsense", note.dumps()[:-40]):
        with pytest.raises(Damaged):
            CaptureNote.loads(data)
