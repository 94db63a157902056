"""What the benchmark found: a table in the terminal, a plot, and docs/benchmarks.md."""

from __future__ import annotations

import os
import platform
import subprocess
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from rich.console import Console
from rich.table import Table

_DOCS = Path(__file__).parent.parent / "docs"
_HEAD = """# Benchmarks

Made by `make bench`; every number here comes from one run of it.  Each work and its reference run in turn on the same
machine, {rounds} rounds after one that fills the caches; the ratio is that of the medians.  A work runs in a process of
its own, whose peak memory is taken.  Disks are read by the confined child, as in an operation: it is ready when the
clock starts, and its own memory (130 MiB) is not counted.

* Machine: {machine}
* Versions: {versions}
* Real data: {data:.0f} MiB in use on a disk of 3 GiB, offered over NBD by `qemu-nbd`: a minimal Debian with systemd,
  cloud-init, an SSH server and a web server, filled up with files of Debian packages.  Plan, residue scan and contents
  are of that Debian alone ({files:,} paths).
* The change: whole files worth 1 % of the data are replaced, as a package update does.
* The large disk: 16 GiB, sparse.
* Day: {day}

![ratios to the limits](screenshots/benchmarks.png)

| work | ours | held against | its figure | ratio | target | |
| --- | ---: | --- | ---: | ---: | ---: | --- |
"""


_FLEET = """# Benchmarks of a large fleet

Made by `make bench`; every number here comes from one run of it.  200 lines, 20,000 versions, 1,000,000 instance records
and 500,000 events over 50 accounts and 5 regions in PostgreSQL on the same machine.

Processor time: what one serving process spends on an answer, beside a plain Starlette route that does one prepared query
and sends as many bytes; both are asked by turns.  At the database: the time of all statements of a question, asked 200
times about random things, one after another.  Through the API: 16 clients ask two processes of the service behind one
address, once with half a second between two questions of a client (some 30 answers a second), once without a pause
({rate:.0f} answers a second, the most that it gives); service, database and clients share the machine's cores.

* Machine: {machine}
* Versions: {versions}
* Day: {day}

| what | ours | limit or reference | its figure | ratio | target | |
| --- | ---: | --- | ---: | ---: | ---: | --- |
"""


_BUILDS = """# Benchmarks of build runs

Made by `make bench`; every number here comes from one run of it.  The lab guest, a minimal Debian 12 with systemd,
cloud-init and a web server, runs under QEMU without hardware virtualisation.  A sheet installs a package file, puts a file,
hashes 1,500 files of `/usr/lib`, packs the time zones, and enables a service: {runs} runs, medians.  The reference does the
same by one script, in an instance of the base that has just booted as the machine of a run has.

* Machine: {machine}
* Versions: {versions}
* Day: {day}

| what | ours | limit or reference | its figure | ratio | target | |
| --- | ---: | --- | ---: | ---: | ---: | --- |
"""


_CONSOLE = """# Benchmarks of the console

Made by `make bench`; every number here comes from one run of it.  The demo with its life runs on the same machine as the
browser.  Each page is opened by its address in headless Chromium that has nothing of it in its cache, {rounds} times; the
figure is the median of the time until its first sentence is there and nothing is waited for any more.  Loaded are all
scripts, styles and type of the sign-in page, as they are sent.

* Machine: {machine}
* Versions: {versions}
* Day: {day}

| what | ours | limit | | ratio | target | |
| --- | ---: | --- | ---: | ---: | ---: | --- |
"""


@dataclass(frozen=True)
class Row:
    """One line: our figure, what it is held against and its figure, their ratio and the target."""

    work: str
    mine: str
    against: str
    theirs: str
    ratio: float
    aim: float

    @property
    def met(self) -> bool:
        """Whether the target is reached."""
        return self.ratio <= self.aim


def write_report(rows: list[Row], facts: dict[str, Any], rounds: int) -> None:
    """Of the bytes: all three."""
    _plot(rows)
    _write("benchmarks", _HEAD, rows, rounds=rounds, data=facts["data_mib"], files=facts["files"])


def write_fleet_report(rows: list[Row], rate: float) -> None:
    """Of a large fleet: table and document."""
    _write("benchmarks-fleet", _FLEET, rows, rate=rate)


def write_builds_report(rows: list[Row], runs: int) -> None:
    """Of build runs: table and document."""
    _write("benchmarks-builds", _BUILDS, rows, runs=runs)


def write_console_report(rows: list[Row], rounds: int) -> None:
    """Of the console's pages: table and document."""
    _write("benchmarks-console", _CONSOLE, rows, rounds=rounds)


def _write(name: str, head: str, rows: list[Row], **facts: Any) -> None:
    """The table, and the document with what is noted by hand below it."""
    _print(rows)
    day = datetime.now(UTC).date().isoformat()
    text = head.format(machine=_machine(), versions=_versions(), day=day, **facts) + "".join(map(_line, rows))
    notes = _DOCS / f"{name}-notes.md"
    text += "\n" + notes.read_text() if notes.exists() else ""
    (_DOCS / f"{name}.md").write_text(text)


def _print(rows: list[Row]) -> None:
    table = Table("work", "ours", "held against", "its figure", "ratio", "target", "", box=None, pad_edge=False)
    for row in rows:
        mark = "met" if row.met else "[red]missed"
        table.add_row(row.work, row.mine, row.against, row.theirs, f"{row.ratio:.2f}", f"{row.aim:g}", mark)
    Console().print(table)


def _line(row: Row) -> str:
    mark = "met" if row.met else "**missed**"
    return f"| {row.work} | {row.mine} | {row.against} | {row.theirs} | {row.ratio:.2f} | {row.aim:g} | {mark} |\n"


def _plot(rows: list[Row]) -> None:
    import matplotlib  # takes a second to load, and rows are counted without it

    matplotlib.use("Agg")
    import matplotlib.pyplot as plt

    figure, axes = plt.subplots(figsize=(11, 0.52 * len(rows) + 1.6))
    shares = [row.ratio / row.aim for row in rows]
    colours = ["#2f6f73" if row.met else "#b4532a" for row in rows]
    places = range(len(rows) - 1, -1, -1)
    axes.barh(list(places), shares, color=colours, height=0.62)
    axes.axvline(1.0, color="#1c2b33", linewidth=1.2)
    axes.text(1.0, len(rows) - 0.35, "target", ha="center", va="bottom", fontsize=9, color="#1c2b33")
    for place, row, share in zip(places, rows, shares, strict=True):
        axes.text(share + 0.015, place, f"{row.ratio:.2f} (target {row.aim:g})", va="center", fontsize=8.5,
                  bbox={"facecolor": "white", "edgecolor": "none", "pad": 1.2})  # fmt: skip
    axes.set_yticks(list(places), [row.work for row in rows], fontsize=9)
    axes.set_xlabel("ratio as a share of its target (shorter is better)")
    axes.set_xlim(0, max(1.35, max(shares) * 1.25))
    axes.spines[["top", "right"]].set_visible(False)
    figure.tight_layout()
    figure.savefig(_DOCS / "screenshots" / "benchmarks.png", dpi=110)
    plt.close(figure)


def _machine() -> str:
    model = next(
        (
            line.partition(":")[2].strip()
            for line in Path("/proc/cpuinfo").read_text().splitlines()
            if "model name" in line
        ),
        platform.machine(),
    )
    memory = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") / 1024**3
    return f"{len(os.sched_getaffinity(0))} cores, {model}, {memory:.0f} GiB of memory"


def _versions() -> str:
    def first(*argv: str) -> str:
        return subprocess.run(argv, capture_output=True, text=True, check=False).stdout.splitlines()[0].strip()

    return "; ".join(
        (f"Python {platform.python_version()}", first("qemu-img", "--version"), first("zstd", "--version"),
         f"Linux {platform.release()}")
    )  # fmt: skip
