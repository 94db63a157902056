"""``export``: a version's disk as a file of any format."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, get_args

from bathotype.cli.options import Subparsers, command, demand, reference
from bathotype.cli.output import emit_json, facts, follow, say, transfer_bar
from bathotype.core.errors import Invalid, Refused
from bathotype.core.formats.names import ExportFormat
from bathotype.core.units import iec

if TYPE_CHECKING:
    from bathotype.client import Client

FORMATS = get_args(ExportFormat)
_SUFFIXES = {
    ".raw": "raw",
    ".img": "raw",
    ".qcow2": "qcow2",
    ".vhd": "vhd",
    ".vhdx": "vhdx",
    ".vmdk": "vmdk",
    ".ova": "ova",
}


def register(parsers: Subparsers) -> None:
    """Add the command."""
    parser = command(
        parsers,
        "export",
        _export,
        "write a version's disk to a file: verified, and resumed if cut short",
        examples="  bathotype export gauge-collector@1.0.0 --to gauge.raw\n"
        "  bathotype export gauge-collector --to gauge.qcow2\n"
        "  bathotype export gauge-collector --to gauge.vmdk --format vmdk-stream\n"
        "  bathotype export surge-model --to surge.ova\n"
        "  bathotype export surge-model --disk data-1 --to archive.qcow2\n"
        "  bathotype export gauge-collector --to s3://halvane-images/gauge.qcow2",
    )
    reference(parser)
    parser.add_argument("--to", required=True, metavar="FILE|s3://BUCKET/KEY")
    parser.add_argument("--format", choices=FORMATS, help="default: by the file's suffix")
    parser.add_argument("--disk", metavar="ROLE", help="of several disks: boot, data-1, ... (an OVA holds them all)")
    parser.add_argument("--no-sha256", action="store_true", help="do not read a raw disk once more for its SHA-256")
    parser.add_argument("--force", action="store_true", help="replace the file if it is there already")
    parser.add_argument(
        "--target", metavar="FILE", help="refuse it unless it fits what this YAML demands (`bathotype fits`)"
    )
    parser.add_argument("--region")


def _export(client: Client, given: argparse.Namespace) -> None:
    address = given.to if given.to.startswith("s3://") else None
    given.to = Path(given.to)
    form = given.format or _SUFFIXES.get(given.to.suffix.lower())
    if form is None:
        raise Invalid(
            f"The suffix of {given.to.name} does not say which format to write.",
            advice=f"Give --format, or a suffix of {', '.join(sorted(_SUFFIXES))}.",
        )
    if address is None and given.to.exists() and not given.to.is_dir() and not given.force:
        raise Refused(
            f"{given.to} is there already.", advice="Give another name, or --force to replace it.", code="exists"
        )
    target = demand(client, given)
    if target is not None and target.formats and form not in target.formats:
        taken = " or ".join(target.formats)
        raise Refused(f"{target.name} takes {taken}, not {form}.", advice="Give another --format.", code="target")
    if address is not None:
        return _to_bucket(client, given, address, form)
    reached = (0, 0)

    def noting(bar: Callable[[int, int], None]) -> Callable[[int, int], None]:
        def progress(done: int, total: int) -> None:
            nonlocal reached
            reached = done, total
            bar(done, total)

        return progress

    try:
        if given.json or not sys.stderr.isatty():
            written = _write(client, given, form, noting(lambda done, total: None))
        else:
            with transfer_bar("export") as bar:
                written = _write(client, given, form, noting(bar))
    except KeyboardInterrupt:
        say(f"Stopped at {iec(reached[0])} of {iec(reached[1])}. The same command goes on from there.")
        raise
    emit_json(dict(written[0])) if given.json else facts(written[1])


def _to_bucket(client: Client, given: argparse.Namespace, address: str, form: Any) -> None:
    """The service writes it; nothing passes through here."""
    started = client.export_to_bucket(
        given.reference, address, form, region=given.region, disk=given.disk, overwrite=given.force
    )
    done = follow(client, started, quiet=given.json)
    if given.json:
        return emit_json(done)
    result = done.result or {}
    return facts(
        [
            ("object", result["to"]),
            ("format", result["format"]),
            ("size", iec(result["bytes"])),
            ("sha256", result["sha256"]),
        ]
    )


def _write(
    client: Client, given: argparse.Namespace, form: str, progress: Callable[[int, int], None]
) -> tuple[dict[str, Any], list[tuple[str, Any]]]:
    """Write the file; returns what to print for programs and for people."""
    if form == "raw":
        from bathotype.client.download import sha256_of

        raw = client.export(given.reference, given.to, region=given.region, disk=given.disk, on_progress=progress)
        sha256 = None if given.no_sha256 else sha256_of(given.to, progress)
        told = {"file": str(given.to), "size": raw.size, "content_digest": raw.content_digest, "sha256": sha256}
        return told, [
            ("file", given.to),
            ("size", f"{iec(raw.size)}, {iec(raw.data_bytes)} of data"),
            ("content", raw.content_digest),
            ("sha256", sha256),
            ("verified", "every chunk"),
        ]
    file = client.export_file(
        given.reference, given.to, form, region=given.region, disk=given.disk, on_progress=progress
    )
    return {"file": str(given.to), **file.model_dump()}, [
        ("file", given.to),
        ("format", form),
        ("size", iec(file.size)),
        ("sha256", file.sha256),
        ("verified", "whole"),
    ]
