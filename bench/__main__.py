"""``make bench``: several rounds of each work and of its reference, medians and their ratio."""

from __future__ import annotations

import random
import statistics
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import zstandard
from blake3 import blake3
from rich.console import Console
from rich.table import Table

from bathotype.core.disk.layout import read_layout, used_ranges
from bathotype.core.disk.source import FileSource
from bathotype.core.generalize.plan import plan
from bathotype.core.generalize.profile import builtin_profile
from bathotype.core.generalize.residue import SourceIdentity, scan
from bathotype.core.guest.files import GuestDisk
from bathotype.core.store.ingest import ingest
from bathotype.core.store.manifest import ChunkIndex
from bathotype.core.store.materialise import materialise
from bathotype.core.store.region import RegionStore
from standin import demo
from standin.livedin import Kind

ROUNDS = 5
_DISK = Kind(
    "bench", "Halvane Linux", "12", {"surge-model": "7.4.0"}, ("ssh", "cron", "surge-model"), 192 * 1024 * 1024
)


def median(work: Callable[[int], object]) -> float:
    """Seconds that a work takes, the middle of several rounds."""
    taken = []
    for number in range(ROUNDS):
        began = time.perf_counter()
        work(number)
        taken.append(time.perf_counter() - began)
    return statistics.median(taken)


def main() -> None:
    """Measure and print."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        image = folder / "disk.raw"
        spec = demo.Spec("a", "skerry-1", "skerry-1a", "bench-01", "large", "running", _DISK, 1024)
        demo.build_boot_disk(image, spec, "192.0.2.10", random.Random(1))
        source = FileSource(image)
        used = used_ranges(source, read_layout(source))
        data = b"".join(source.read(a, b - a) for a, b in used)
        (folder / "data").write_bytes(data)
        packed = zstandard.ZstdCompressor(level=1, threads=2).compress(data)
        (folder / "data.zst").write_bytes(packed)

        def compressed(number: int) -> None:
            frame = zstandard.ZstdCompressor(level=1, threads=2).compress((folder / "data").read_bytes())
            (folder / f"zst{number}").write_bytes(frame)

        def unpacked(number: int) -> None:
            (folder / f"raw{number}").write_bytes(zstandard.decompress((folder / "data.zst").read_bytes(), len(data)))

        def restored(number: int) -> None:
            target = folder / f"out{number}"
            with target.open("wb") as file:
                file.truncate(first.manifest.size)
            writer = FileSource(target, writable=True)
            materialise(first.manifest, store, writer)
            writer.close()

        def judged(_: int) -> None:
            disk = GuestDisk.open(source)
            plan(builtin_profile("linux"), disk, host_name="bench-01")
            scan(disk, SourceIdentity("bench-01", "0" * 32, ("192.0.2.10",)))

        store = RegionStore("bench", f"file://{folder}/store")
        first = ingest(source, used, store, ChunkIndex([]))
        known = ChunkIndex([first.manifest])
        fresh = median(lambda n: ingest(source, used, RegionStore("b", f"file://{folder}/s{n}"), ChunkIndex([])))
        rows = [
            ("first capture of new data", fresh, "zstd -1, two threads, to a file", median(compressed), 1.0),
            (
                "capture again, nothing changed",
                median(lambda n: ingest(source, used, store, known)),
                "BLAKE3, one core",
                median(lambda n: blake3((folder / "data").read_bytes()).digest()),
                2.5,
            ),
            ("materialise, verified", median(restored), "zstd -d to a file", median(unpacked), 0.9),
            (
                "plan and residue scan",
                median(judged),
                "reading the same bytes",
                median(lambda n: (folder / "data").read_bytes()),
                None,
            ),
        ]
    table = Table("work", "seconds", "held against", "seconds", "ratio", "aim", box=None, pad_edge=False)
    for work, ours, reference, theirs, aim in rows:
        table.add_row(work, f"{ours:.3f}", reference, f"{theirs:.3f}", f"{ours / theirs:.2f}", f"{aim}" if aim else "")
    console = Console()
    console.print(f"{len(data) / 1024**2:.0f} MiB in use on a disk of 1 GiB, {ROUNDS} rounds, medians")
    console.print(table)


if __name__ == "__main__":
    main()
