"""``export``: a version's disk as a file."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn, TransferSpeedColumn

from bathotype.cli.options import Subparsers, command, reference
from bathotype.cli.output import emit_json, errors, facts
from bathotype.client import Client
from bathotype.core.units import iec


def register(parsers: Subparsers) -> None:
    """Add the command."""
    parser = command(
        parsers,
        "export",
        _export,
        "write a version's raw disk to a file: sparse, every chunk verified, resumed if cut short",
        examples="  bathotype export gauge-collector@1.0.0 --to gauge.raw",
    )
    reference(parser)
    parser.add_argument("--to", required=True, type=Path, metavar="FILE")
    parser.add_argument("--region")


def _export(client: Client, given: argparse.Namespace) -> None:
    if given.json or not sys.stderr.isatty():
        exported = client.export(given.reference, given.to, region=given.region)
    else:
        columns = (
            TextColumn("[bold]export"),
            BarColumn(bar_width=28),
            DownloadColumn(binary_units=True),
            TransferSpeedColumn(),
        )
        with Progress(*columns, console=errors, transient=True) as progress:
            bar = progress.add_task("export", total=None)
            exported = client.export(
                given.reference,
                given.to,
                region=given.region,
                on_progress=lambda done, total: progress.update(bar, completed=done, total=total),
            )
    if given.json:
        return emit_json({"file": str(given.to), "size": exported.size, "content_digest": exported.content_digest})
    facts(
        [
            ("file", given.to),
            ("size", f"{iec(exported.size)}, {iec(exported.data_bytes)} of data"),
            ("content", exported.content_digest),
            ("verified", "every chunk"),
        ]
    )
