"""``make bench``: every work and its reference in turn, several rounds, medians and ratios; writes docs/benchmarks.md."""

from __future__ import annotations

import json
import os
import random
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from bathotype.core.store.chunks import compress
from bathotype.demo.system import DemoSystem
from bathotype.sites.standin import StandinSite
from bench import builds, disks, fleet, pages, scale
from bench.report import Row, write_builds_report, write_console_report, write_fleet_report, write_report

ROUNDS = 5
MIB = 1024 * 1024


def say(line: str) -> None:
    """Progress, for whoever waits."""
    print(line, file=sys.stderr, flush=True)


def ours(name: str, **given: Any) -> dict[str, Any]:
    """One of our works in a process of its own."""
    done = subprocess.run(
        [sys.executable, "-m", "bench.works", name, json.dumps(given)], capture_output=True, text=True, check=False
    )
    if done.returncode:
        raise RuntimeError(f"{name} failed: {done.stderr[-2000:]}")
    return dict(json.loads(done.stdout))


def timed(*argv: str | Path) -> float:
    """Seconds that a command takes."""
    began = time.perf_counter()
    subprocess.run([str(a) for a in argv], check=True, capture_output=True)
    return time.perf_counter() - began


class Bench:
    """One run over one folder; collects rows."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.peak = folder, 0
        self.rows: list[Row] = []

    def side_by_side(
        self, work: str, against: str, aim: float, mine: Callable[[int], dict[str, Any]], theirs: Callable[[int], float]
    ) -> list[dict[str, Any]]:
        """Both in turn, so that what else the machine does hits both; the ratio is that of the medians."""
        say(f"{work} ...")
        answers, references = [], []
        for number in range(ROUNDS + 1):
            answer, reference = mine(number), theirs(number)
            if number:  # the first round fills the caches
                answers.append(answer)
                references.append(reference)
                self.peak = max(self.peak, answer["peak"])
        a = statistics.median(x["seconds"] for x in answers)
        b = statistics.median(references)
        self.rows.append(Row(work, f"{a:.2f} s", against, f"{b:.2f} s", a / b, aim))
        return answers

    def run(self) -> None:
        """Everything."""
        real = disks.real_disk(self.folder, say)
        data = self.folder / "data"
        used = disks.data_of(real, data)
        say(f"{used / MIB:.0f} MiB of real Debian data on a disk of {real.stat().st_size / MIB / 1024:.0f} GiB")
        self.facts = {"data_mib": used / MIB}
        live, packed = self.folder / "live.qcow2", self.folder / "data.zst"
        subprocess.run(["qemu-img", "convert", "-f", "raw", "-O", "qcow2", real, live], check=True)
        subprocess.run(["zstd", "-q", "-1", "-T2", "-f", data, "-o", packed], check=True)
        disks.warm(real, live, data, packed)
        self._captures(real, live, data)
        self._restores(real, packed)
        self._judging(real)
        self._launches()
        self.rows.append(
            Row(
                "peak memory of a worker in all of these",
                f"{self.peak / MIB:.0f} MiB",
                "",
                "",
                self.peak / MIB / 300,
                1.0,
            )
        )

    def _captures(self, real: Path, live: Path, data: Path) -> None:
        stores = self.folder / "stores"
        with disks.served(live, "qcow2") as address:

            def fresh(number: int) -> dict[str, Any]:
                shutil.rmtree(stores, ignore_errors=True)
                return ours("capture", address=address, store=f"{stores}/{number}", version="v1")

            first = self.side_by_side(
                "first capture of new data, site to store",
                "zstd -1 -T2 of the same bytes to a file",
                0.85,
                fresh,
                lambda n: timed("zstd", "-q", "-1", "-T2", "-f", data, "-o", self.folder / "out.zst"),
            )
            self.store = stores / str(ROUNDS)
            again = f"{self.folder}/b3"
            Path(again).write_text("import sys,mmap,blake3\nf=open(sys.argv[1],'rb')\nh=blake3.blake3()\n"
                                   "while b:=f.read(4<<20): h.update(b)\nprint(h.hexdigest())\n")  # fmt: skip
            began = statistics.median(timed(sys.executable, "-c", "import blake3") for _ in range(5))
            self.side_by_side(
                "capture again, nothing changed, no bitmap",
                "BLAKE3 of the same bytes, one core",
                2.5,
                lambda n: ours("capture", address=address, store=str(self.store), parent="v1"),
                lambda n: timed(sys.executable, again, data) - began,
            )
        self._changed(real, live, statistics.median(x["seconds"] for x in first))

    def _changed(self, real: Path, live: Path, first: float) -> None:
        """One per cent of the data is replaced, as an update does, while a bitmap notes it."""
        say("capture again after 1 % changed, with bitmap ...")
        after, changed = self.folder / "after.raw", self.folder / "changed"
        subprocess.run(["cp", "--sparse=always", real, after], check=True)
        disks.update(after, 0.01, self.folder)
        subprocess.run(["qemu-img", "bitmap", "--add", "-f", "qcow2", live, "since"], check=True)
        blocks = self._carry_over(real, after, live, changed)
        seconds = []
        with disks.served(live, "qcow2", "-B", "since") as address:
            for number in range(ROUNDS + 1):
                work = self.folder / f"again{number}"
                shutil.copytree(self.store, work)
                given = {"store": str(work), "parent": "v1", "version": "v2", "bitmap": "qemu:dirty-bitmap:since"}
                answer = ours("capture", address=address, **given)
                shutil.rmtree(work)
                self.peak = max(self.peak, answer["peak"])
                if number:
                    seconds.append(answer["seconds"])
        took = statistics.median(seconds)
        self.rows.append(
            Row("capture again after 1 % changed, with bitmap", f"{took:.2f} s", "the first capture", f"{first:.2f} s",
                took / first, 0.15)
        )  # fmt: skip
        subprocess.run(["zstd", "-q", "-1", "-f", changed, "-o", f"{changed}.zst"], check=True)
        held = Path(f"{changed}.zst").stat().st_size
        self.rows.append(
            Row("bytes stored for the second version", f"{answer['new'] / MIB:.1f} MiB",
                f"the {blocks * 4 // 1024} MiB changed in 4 KiB blocks, zstd -1", f"{held / MIB:.1f} MiB",
                answer["new"] / held, 1.3)
        )  # fmt: skip

    @staticmethod
    def _carry_over(before: Path, after: Path, live: Path, changed: Path) -> int:
        """Write what differs to the live image through its bitmap; returns the number of 4 KiB blocks."""
        from bathotype.core.disk.nbd import NbdDisk

        port = random.randrange(20000, 30000)
        command = ["qemu-nbd", "-f", "qcow2", "--persistent", f"--port={port}", "--bind=127.0.0.1", str(live)]
        process, count = subprocess.Popen(command), 0
        time.sleep(1)
        try:
            with NbdDisk(f"nbd://127.0.0.1:{port}/") as disk, before.open("rb") as old, after.open("rb") as new, changed.open("wb") as out:  # fmt: skip
                for at in range(0, disk.size, MIB):
                    was, now = old.read(MIB), new.read(MIB)
                    for step in range(0, len(now) if was != now else 0, 4096):
                        if was[step : step + 4096] != now[step : step + 4096]:
                            disk.write(at + step, now[step : step + 4096])
                            out.write(now[step : step + 4096])
                            count += 1
                disk.flush()
        finally:
            process.terminate()
            process.wait(20)
        return count

    def _restores(self, real: Path, packed: Path) -> None:
        store, raw, plain = str(self.store), self.folder / "restored.raw", self.folder / "plain"
        self.side_by_side(
            "materialise a version to a raw file, verified",
            "zstd -d of the same data to a file",
            0.85,
            lambda n: (raw.unlink(missing_ok=True), ours("restore", store=store, version="v1", target=str(raw)))[1],
            lambda n: (plain.unlink(missing_ok=True), timed("zstd", "-q", "-d", "-f", packed, "-o", plain))[1],
        )
        image, other = self.folder / "e.qcow2", self.folder / "q.qcow2"

        def export(**given: str) -> dict[str, Any]:
            image.unlink(missing_ok=True)
            return ours("export", target=str(image), **given)

        def convert(source: Path) -> float:
            other.unlink(missing_ok=True)
            return timed("qemu-img", "convert", "-f", "raw", "-O", "qcow2", source, other)

        def unpack_and_convert(_: int) -> float:
            plain.unlink(missing_ok=True)
            return timed("zstd", "-q", "-d", "-f", packed, "-o", plain) + convert(plain)

        self.side_by_side(
            "export the materialised raw file to qcow2",
            "qemu-img convert -O qcow2 of the materialised raw file",
            1.2,
            lambda n: export(raw=str(raw)),
            lambda n: convert(raw),
        )
        self.side_by_side(
            "export to qcow2 straight from the store, every chunk verified",
            "zstd -d of the same data to a file, and qemu-img convert -O qcow2 of it",
            1.0,
            lambda n: export(store=store, version="v1"),
            unpack_and_convert,
        )
        subprocess.run(["qemu-img", "compare", "-f", "raw", "-F", "qcow2", raw, image], check=True, capture_output=True)
        for file in (raw, plain, image, other):
            file.unlink()

    def _judging(self, real: Path) -> None:
        out = self.folder / "dump"

        def dump(_: int) -> float:
            shutil.rmtree(out, ignore_errors=True)
            out.mkdir()
            return timed("/usr/sbin/debugfs", "-R", f"rdump / {out}", f"{lab}?offset={disks._SPAN}")

        lab = disks.prepare(disks.default_cache(), "ext4")
        disks.warm(lab)
        answers = self.side_by_side(
            "plan, residue scan and contents of a Debian disk",
            "debugfs rdump of the same disk",
            0.6,
            lambda n: ours("judge", image=str(lab)),
            dump,
        )
        self.facts["files"] = answers[0]["files"]

    def _launches(self) -> None:
        """From a ready base disk to the moment when the machine is told to boot, at the stand-in with real bodies."""
        say("launch from a ready base disk ...")
        with system(self.folder / "demo") as running:
            site = StandinSite(running.site_url, running.secrets["site"]["tide-core"])
            tags = {"owner": "bench", "purpose": "bench"}
            taken: dict[int, list[float]] = {1: [], 16: []}
            bases = {}
            for gib in taken:
                base = site.create_disk("skerry-1", gib * 1024 * MIB, key=f"b{gib}", name=f"base-{gib}", tags=tags)
                with site.open_disk(base.id, writable=True) as disk:
                    for at in range(0, base.size, 64 * MIB):
                        disk.write(at, random.randbytes(65536))
                site.seal(base.id)
                bases[gib] = base.id
            for number in range(3 * ROUNDS):
                for gib, times in taken.items():
                    began = time.perf_counter()
                    machine = site.create_machine(
                        key=f"k{gib}-{number}", name=f"n{gib}-{number}", region="skerry-1", zone=None, machine_size="lab-small",
                        boot_disk=bases[gib], tags=tags,
                    )  # fmt: skip
                    site.set_seed(machine.id, bytes(400_000))
                    times.append(time.perf_counter() - began)
                    site.delete_machine(machine.id)
        small, large = (statistics.median(t) for t in (taken[1], taken[16]))
        self.rows.append(
            Row("launch from a ready base disk of 16 GiB", f"{large * 1000:.0f} ms", "the same of 1 GiB",
                f"{small * 1000:.0f} ms", large / small, 1.2)
        )  # fmt: skip
        self.rows.append(Row("the same, in time", f"{large * 1000:.0f} ms", "150 ms", "", large / 0.150, 1.0))


@contextmanager
def system(folder: Path) -> Iterator[DemoSystem]:
    """A demo for the time of the block, where PostgreSQL's user can reach it."""
    folder.mkdir(exist_ok=True)
    running = DemoSystem(folder, 0, durable=False, environment={})
    try:
        running.start()
        yield running
    finally:
        running.stop()


def of_bytes() -> None:
    """Captures, exports and launches; writes docs/benchmarks.md."""
    assert len(compress(bytes(65536))) < 65536
    with tempfile.TemporaryDirectory(prefix="bathotype-bench-", dir=os.environ.get("BENCH_DIR")) as name:
        Path(name).chmod(0o711)
        bench = Bench(Path(name))
        bench.run()
    write_report(bench.rows, bench.facts, ROUNDS)


def of_a_fleet() -> None:
    """A large fleet in the database; writes docs/benchmarks-fleet.md."""
    say("200 launches, 10,000 instances ...")
    with tempfile.TemporaryDirectory(prefix="bathotype-bench-", dir=os.environ.get("BENCH_DIR")) as name:
        Path(name).chmod(0o711)
        with system(Path(name) / "fleet") as running:
            found = fleet.rows(running, Path(name))
    say("1,000,000 instances ...")
    asked, rate = scale.rows()
    write_fleet_report([*asked, *found], rate)


def of_builds() -> None:
    """Build runs on a real guest; writes docs/benchmarks-builds.md."""
    with tempfile.TemporaryDirectory(prefix="bathotype-bench-", dir=os.environ.get("BENCH_DIR")) as name:
        Path(name).chmod(0o711)
        with system(Path(name) / "builds") as running:
            write_builds_report(builds.rows(running, Path(name), say), builds.RUNS)


def of_the_console() -> None:
    """The console's pages in a browser; writes docs/benchmarks-console.md."""
    with tempfile.TemporaryDirectory(prefix="bathotype-bench-", dir=os.environ.get("BENCH_DIR")) as name:
        Path(name).chmod(0o711)
        with system(Path(name) / "console") as running:
            write_console_report(pages.rows(running, say), pages.ROUNDS)


def main() -> None:
    """All parts, or the one that is named: ``python -m bench [bytes|fleet|builds|console]``."""
    parts = {"bytes": of_bytes, "fleet": of_a_fleet, "builds": of_builds, "console": of_the_console}
    for name in sys.argv[1:] or parts:
        parts[name]()


if __name__ == "__main__":
    main()
