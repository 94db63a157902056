"""``machines``: what runs at the sites, and what prevents its capture."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bathotype.cli.options import Subparsers, command, disks, disks_of, group, profile_of, tags, tags_of
from bathotype.cli.output import emit_json, facts, say, show_remarks, table
from bathotype.core.units import iec, plural

if TYPE_CHECKING:
    from bathotype.client import Client


def register(parsers: Subparsers) -> None:
    """Add the commands."""
    inner = group(parsers, "machines", "machines at the sites")
    parser = command(
        inner,
        "list",
        _list,
        "list every machine of the account",
        examples="  bathotype machines list --region skerry-1",
    )
    parser.add_argument("--region")
    parser.add_argument("--agents", action="store_true", help="ask each running machine's agent for its system")
    parser = command(inner, "show", _show, "show one machine", examples="  bathotype machines show gauge-seed-01")
    parser.add_argument("machine", metavar="MACHINE", help="name or id")
    parser.add_argument("--region")
    parser = command(
        inner,
        "inspect",
        _inspect,
        "show every obstacle to a capture and every warning; change nothing",
        examples="  bathotype machines inspect gauge-seed-01\n  bathotype machines inspect gauge-seed-02 --stopped\n"
        "  bathotype machines inspect gauge-seed-01 --line gauge-collector --number 1.4.0 --profile ./ours.yaml",
    )
    parser.add_argument("machine", metavar="MACHINE", help="name or id")
    parser.add_argument("--region")
    mode = parser.add_mutually_exclusive_group()
    for name in ("live", "stopped", "as-is"):
        mode.add_argument(f"--{name}", dest="mode", action="store_const", const=name, help=f"judge a capture {name}")
    disks(parser)
    parser.add_argument("--profile", default="linux", help="built-in profile, or a YAML file (default: linux)")
    parser.add_argument(
        "--prepared", action="store_true", help="confirm that the system's own tool has run, as for a capture"
    )
    parser.add_argument("--line", help="also judge whether this line can take the version")
    parser.add_argument("--number", help="the version's number, such as 1.4.0 (default: the next patch)")
    tags(parser)


def _list(client: Client, given: argparse.Namespace) -> None:
    machines = list(client.machines(region=given.region, agents=given.agents))
    if given.json:
        return emit_json(machines)
    table(
        ("name", "region", "zone", "state", "address", "disks", "version", "system", "agent"),
        (
            (
                m.name,
                m.region,
                m.zone,
                m.state,
                m.address,
                " + ".join(iec(d.size) for d in m.disks),
                m.version,
                m.os,
                m.agent,
            )
            for m in machines
        ),
        empty="The account has no machines.",
    )


def _show(client: Client, given: argparse.Namespace) -> None:
    m = client.machine(given.machine, region=given.region)
    if given.json:
        return emit_json(m)
    facts(
        [
            ("name", m.name),
            ("id", m.id),
            ("state", m.state),
            ("region", f"{m.region} / {m.zone}"),
            ("machine size", m.machine_size),
            ("address", m.address),
            ("version", m.version),
            ("tags", ", ".join(f"{k}={v}" for k, v in m.tags.items())),
            *((f"disk {d.name}", f"{iec(d.size)}{' (boot)' if d.boot else ''}") for d in m.disks),
            ("created", m.created_at),
        ]
    )


def _inspect(client: Client, given: argparse.Namespace) -> int:
    found = client.inspect(
        given.machine,
        region=given.region,
        mode=given.mode,
        disks=disks_of(given),
        prepared=given.prepared,
        profile=profile_of(given.profile),
        line=given.line,
        number=given.number,
        tags=tags_of(given),
    )
    if given.json:
        emit_json(found)
        return 0 if found.capturable else 4
    show_remarks(found.remarks)
    obstacles = sum(r.outcome == "obstacle" for r in found.remarks)
    used = f" {iec(found.used_bytes)} in use." if found.used_bytes else ""
    if found.capturable:
        say(f"{found.machine.name} can be captured ({found.mode}).{used}", style="green4")
        return 0
    say(f"{found.machine.name} cannot be captured ({found.mode}): {plural(obstacles, 'obstacle')}.", style="red")
    return 4
