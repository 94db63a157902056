"""``capture``: from a machine to a staged version."""

from __future__ import annotations

import argparse
from datetime import datetime
from typing import TYPE_CHECKING, Any

from bathotype.cli.options import Subparsers, command, disks, disks_of, made_for, made_for_of, profile_of, tags, tags_of
from bathotype.cli.output import confirm, emit_json, facts, follow, out, say, table
from bathotype.core.errors import REFUSED, Invalid
from bathotype.core.units import iec, plural

if TYPE_CHECKING:
    from bathotype.client import Client


def register(parsers: Subparsers) -> None:
    """Add the command."""
    parser = command(
        parsers,
        "capture",
        _capture,
        "capture a machine's disks into a new version of a line; the machine keeps running",
        examples="  bathotype capture gauge-seed-01 --line gauge-collector --plan\n"
        "  bathotype capture gauge-seed-01 --line gauge-collector --number 1.0.0 --notes 'first release'\n"
        "  bathotype capture gauge-seed-02 --line gauge-collector --bump minor --stopped\n"
        "  bathotype capture gauge-seed-01 --line gauge-collector --bump minor --stopped --power-off --at 2026-12-01T02:00\n"
        "  bathotype capture surge-bench-01 --line surge-model --bump minor --disks all\n"
        "  bathotype capture gauge-seed-01 --line gauge-collector --profile ./ours.yaml",
    )
    parser.add_argument("machine", metavar="MACHINE", help="name or id")
    parser.add_argument("--line", help="line that gets the version")
    number = parser.add_mutually_exclusive_group()
    number.add_argument("--number", help="version number, such as 1.4.0")
    number.add_argument("--bump", choices=("patch", "minor", "major"), help="the number after the line's highest")
    mode = parser.add_mutually_exclusive_group()
    mode.add_argument(
        "--stopped", dest="mode", action="store_const", const="stopped", help="capture a machine that is switched off"
    )
    mode.add_argument(
        "--as-is", dest="mode", action="store_const", const="as-is", help="a full copy that keeps its identity"
    )
    parser.set_defaults(mode="live")
    disks(parser)
    parser.add_argument(
        "--power-off",
        action="store_true",
        help="with --stopped: its agent shuts a running machine down; it is started again once its disk is copied",
    )
    parser.add_argument(
        "--prepared",
        action="store_true",
        help="with --stopped: confirm that the system's own tool has run, where the profile names no file that shows it",
    )
    parser.add_argument(
        "--at", metavar="TIME", help="begin then, such as 2026-12-01T02:00 (local time); checked again before it starts"
    )
    parser.add_argument(
        "--afterwards",
        choices=("kept", "stopped", "deleted"),
        default="kept",
        help="what becomes of the machine once the version is sealed (default: kept as it is)",
    )
    parser.add_argument("--yes", action="store_true", help="do not ask before a machine is deleted")
    parser.add_argument("--profile", default="linux", help="built-in profile, or a YAML file (default: linux)")
    parser.add_argument("--plan", action="store_true", help="show every obstacle, or what would be removed or changed")
    made_for(parser)
    parser.add_argument("--region")
    parser.add_argument("--no-wait", action="store_true", help="print the id of the operation and do not wait")
    tags(parser)


def _capture(client: Client, given: argparse.Namespace) -> int:
    if given.plan:
        return _plan(client, given)
    if not given.line:
        raise Invalid("A capture needs --line.", advice="`bathotype lines list` shows the lines.")
    if given.afterwards == "deleted" and not given.yes:
        confirm(f"{given.machine} would be DELETED with its disks once the version is sealed.")
    operation = client.capture(
        machine=given.machine,
        line=given.line,
        region=given.region,
        number=given.number,
        bump=given.bump,
        mode=given.mode,
        disks=disks_of(given),
        profile=profile_of(given.profile),
        **made_for_of(given),
        tags=tags_of(given),
        at=_moment(given.at),
        power_off=given.power_off,
        afterwards=given.afterwards,
        prepared=given.prepared,
    )
    if operation.start_at is not None:
        if given.json:
            emit_json(operation)
            return 0
        out(operation.id)
        say(
            f"It begins at {operation.start_at:%Y-%m-%d %H:%M} UTC; `bathotype operations cancel {operation.id}` stops it."
        )
        return 0
    if given.no_wait:
        emit_json(operation) if given.json else out(operation.id)
        return 0
    done = follow(client, operation, quiet=given.json)
    if given.json:
        emit_json(done)
        return 0
    result = done.result or {}
    sizes = result["sizes"]
    facts(
        [
            ("captured", result["reference"]),
            ("state", "staged"),
            ("content", result["content_digest"]),
            (
                "disk",
                f"{iec(sizes['virtual'])}, {iec(sizes['used'])} used, {iec(sizes['stored'])} stored, {iec(sizes['new'])} new",
            ),
            (
                "frozen",
                f"{result['frozen_seconds']:.2f} s" if result.get("frozen_seconds") is not None else "not at all",
            ),
            ("findings", f"{result['findings']['all']}, {result['findings']['high']} of high severity"),
        ]
    )
    high = result["findings"]["high"]
    following = (
        f"`bathotype residue {result['reference']}`" if high else f"`bathotype versions release {result['reference']}`"
    )
    say(f"Next: {following}")
    return 0


def _moment(text: str | None) -> datetime | None:
    """A moment as somebody writes it; without a zone it is local time."""
    if text is None:
        return None
    try:
        return datetime.fromisoformat(text).astimezone()
    except ValueError as error:
        raise Invalid(f"{text!r} is not a time.", advice="Write such as 2026-12-01T02:00.") from error


def _plan(client: Client, given: argparse.Namespace) -> int:
    operation = client.plan_capture(
        machine=given.machine,
        region=given.region,
        mode=given.mode,
        disks=disks_of(given),
        profile=profile_of(given.profile),
        line=given.line,
        number=given.number,
        bump=given.bump,
        tags=tags_of(given),
        power_off=given.power_off,
        afterwards=given.afterwards,
        prepared=given.prepared,
    )
    plan: dict[str, Any] = follow(client, operation, quiet=given.json).result or {}
    if given.json:
        emit_json(plan)
        return REFUSED if plan["blockers"] else 0
    for line in plan["blockers"]:
        say(f"obstacle: {line}", style="red")
    for line in plan["warnings"]:
        say(f"warning: {line}", style="dark_orange3")
    if plan["blockers"]:
        say(f"{given.machine} cannot be captured: {plural(len(plan['blockers']), 'obstacle')}.", style="red")
        return REFUSED
    if given.mode == "as-is":
        used = f" {iec(plan['used_bytes'])} are in use." if plan["used_bytes"] else ""
        say(f"Captured as it is, nothing would change; it keeps its identity.{used}")
        return 0
    if plan["profile"] is None:  # the system's own tool does it all
        for effect in plan["effects"]:
            say(effect)
        return 0
    table(
        ("step", "action", "path", "bytes", "note"),
        ((c["step"], c["action"], c["path"], iec(c["bytes"]), c["note"]) for c in plan["changes"]),
    )
    say(
        f"{plural(len(plan['changes']), 'path')} would change on the copy, {iec(plan['bytes'])} gone. {plan['effects'][-1]} "
        f"{iec(plan['used_bytes'])} of {iec(plan['virtual_bytes'])} are in use."
    )
    return 0
