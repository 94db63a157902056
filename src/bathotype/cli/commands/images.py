"""``import`` and ``edit``: versions from image files, and from other versions."""

from __future__ import annotations

import argparse
import base64
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

from bathotype.cli.options import Subparsers, command, made_for, made_for_of, profile_of, read_yaml, reference
from bathotype.cli.output import emit_json, facts, follow, say, show_plan, show_remarks, table, transfer_bar
from bathotype.core.errors import REFUSED, Invalid
from bathotype.core.units import iec, plural

if TYPE_CHECKING:
    from bathotype.client import Client
    from bathotype.wire.operations import Operation


def register(parsers: Subparsers) -> None:
    """Add the commands."""
    parser = command(
        parsers,
        "import",
        _import,
        "bring an image file in as a new version of a line",
        examples="  bathotype import gauge.qcow2 --line gauge-collector --number 2.0.0 --plan\n"
        "  bathotype import gauge.ova --line gauge-collector --bump minor\n"
        "  bathotype import s3://halvane-images/gauge.vmdk --line gauge-collector --number 2.0.0 --as-is",
    )
    parser.add_argument("source", metavar="FILE|s3://BUCKET/KEY")
    parser.add_argument("--line", required=True)
    _number(parser)
    parser.add_argument(
        "--format", choices=("raw", "qcow2", "vhd", "vhdx", "vdi", "vmdk", "ova"), help="default: recognised"
    )
    what = parser.add_mutually_exclusive_group()
    what.add_argument("--profile", default="linux", help="built-in profile, or a YAML file (default: linux)")
    what.add_argument("--as-is", action="store_true", help="take the disk as it is, with its identity")
    parser.add_argument("--plan", action="store_true", help="run all checks and stop")
    made_for(parser)
    parser.add_argument("--region", help="where it is stored (default: where the line's versions are)")
    parser = command(
        parsers,
        "edit",
        _edit,
        "make a new version from an old one by steps on its disk, which is not booted",
        examples="  bathotype edit gauge-collector@1.0.0 --steps motd.yaml --bump patch\n\n"
        "motd.yaml:\n  steps:\n  - {id: motd, do: put-file, path: /etc/motd, from: ./motd}\n"
        "  - {id: orla, do: authorize-key, user: mara, key: 'ssh-ed25519 AAAA... orla'}",
    )
    reference(parser)
    parser.add_argument("--steps", required=True, metavar="FILE", help="YAML with a list of steps (docs/profiles.md)")
    _number(parser)
    made_for(parser)
    parser.add_argument("--region")
    parser.add_argument("--even-unchanged", action="store_true", help="make a version even if the steps change nothing")
    parser.add_argument("--plan", action="store_true", help="try the steps and show each path; write nothing")


def _number(parser: argparse.ArgumentParser) -> None:
    number = parser.add_mutually_exclusive_group()
    number.add_argument("--number", help="version number, such as 1.4.0")
    number.add_argument("--bump", choices=("patch", "minor", "major"), help="the number after the line's highest")


def _import(client: Client, given: argparse.Namespace) -> int | None:
    # A missing line is reported before anything is sent.
    given.region = given.region or _home(client, given.line)
    request: dict[str, Any] = {
        "line": given.line,
        "number": given.number,
        "bump": given.bump,
        "format": given.format,
        "profile": None if given.as_is else profile_of(given.profile),
        **made_for_of(given),
        "region": given.region,
    }
    if given.source.startswith("s3://"):
        request["url"] = given.source
    else:
        request["upload"] = _uploaded(client, given)
    if given.plan:
        return _plan(client, given, request)
    return _made(client.import_image(**request), client, given, "imported")


def _home(client: Client, line: str) -> str:
    """Where the line's versions are, else where the account has machines.  Raises `NotFound` without the line."""
    client.line(line)
    held = [region for version in client.versions(line) for region in version.regions]
    found = held or sorted({machine.region for machine in client.machines()})
    if not found:
        raise Invalid("Say where the version is to be stored.", advice="Add --region.")
    return found[0]


def _uploaded(client: Client, given: argparse.Namespace) -> str:
    region = given.region
    if given.json or not sys.stderr.isatty():
        return client.upload(Path(given.source), region=region).id
    with transfer_bar("upload") as progress:
        return client.upload(Path(given.source), region=region, on_progress=progress).id


def _plan(client: Client, given: argparse.Namespace, request: dict[str, Any]) -> int | None:
    found = client.inspect_import(**request)
    if given.json:
        emit_json(found)
    else:
        show_remarks(found.remarks)
        if found.importable and found.virtual_bytes is not None:
            used = iec(found.used_bytes or 0)
            say(f"{found.source} can be imported: {used} of {iec(found.virtual_bytes)} in use.")
        elif found.importable:
            say(f"{found.source} can be unpacked. Whether its disk can be imported is seen then.")
        else:
            obstacles = sum(r.outcome == "obstacle" for r in found.remarks)
            say(f"{found.source} cannot be imported: {plural(obstacles, 'obstacle')}.", style="red")
    return 0 if found.importable else REFUSED


def _edit(client: Client, given: argparse.Namespace) -> int | None:
    sheet = read_yaml(given.steps)
    steps = sheet.get("steps") if isinstance(sheet, dict) else sheet
    if not isinstance(steps, list) or not all(isinstance(step, dict) for step in steps):
        raise Invalid(f"{given.steps} holds no list of steps.", advice="Begin it with `steps:`; see docs/profiles.md.")
    request = {
        "reference": given.reference,
        "number": given.number,
        "bump": given.bump,
        "steps": [_with_file(step, Path(given.steps).parent) for step in steps],
        **made_for_of(given),
        "region": given.region,
        "even_unchanged": given.even_unchanged,
    }
    if given.plan:
        plan = client.plan_edit(**request)
        if not given.json:
            table(
                ("step", "action", "path", "bytes", "note"),
                ((c.step, c.action, c.path, iec(c.bytes), c.note) for c in plan.changes),
                empty="Nothing would change.",
            )
        return show_plan(plan, given)
    return _made(client.edit(**request), client, given, "edited")


def _with_file(step: dict[str, Any], folder: Path) -> dict[str, Any]:
    """``from`` names a local file, beside the sheet: its bytes go into the request."""
    if "from" not in step:
        return step
    path = folder / str(step["from"])
    try:
        content = base64.b64encode(path.read_bytes()).decode()
    except OSError as error:
        raise Invalid(f"{path} cannot be read: {error.strerror}.", advice=f"Correct step {step.get('id')}.") from error
    return {**{k: v for k, v in step.items() if k != "from"}, "content_base64": content}


def _made(operation: Operation, client: Client, given: argparse.Namespace, verb: str) -> int | None:
    done = follow(client, operation, quiet=given.json)
    if given.json:
        emit_json(done)
        return None
    result = done.result or {}
    sizes = result["sizes"]
    rows = [
        (verb, result["reference"]),
        ("state", "staged"),
        ("content", result["content_digest"]),
        (
            "disk",
            f"{iec(sizes['virtual'])}, {iec(sizes['used'])} used, {iec(sizes['stored'])} stored, {iec(sizes['new'])} new",
        ),
        ("findings", f"{result['findings']['all']}, {result['findings']['high']} of high severity"),
    ]
    rows += [("change", f"{c['action']} {c['path']} {c['note']}".strip()) for c in result.get("changes", [])]
    facts(rows)
    high = result["findings"]["high"]
    say(f"Next: `bathotype {'residue' if high else 'versions release'} {result['reference']}`")
    return None
