"""``replicate``, ``replicas``, ``drain`` and ``placement``: where versions are."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bathotype.cli.options import Subparsers, command, demand, group, reference
from bathotype.cli.output import emit_json, follow, follow_all, out, say, show_plan, table
from bathotype.core.errors import Invalid
from bathotype.core.units import iec, seconds
from bathotype.wire.regions import RegionPlace

if TYPE_CHECKING:
    from bathotype.client import Client

_TO = "REGION[:COPIES][,...]"


def register(parsers: Subparsers) -> None:
    """Add the commands."""
    parser = command(
        parsers,
        "replicate",
        _replicate,
        "copy a version to other regions, or change the number of its copies there",
        examples="  bathotype replicate gauge-collector@1.0.0 --to fjord-2:2,lagoon-3 --plan\n"
        "  bathotype replicate gauge-collector@1.0.0 --to fjord-2:4 --multi-zone",
    )
    reference(parser)
    parser.add_argument("--to", required=True, metavar=_TO, help="copies are launch-ready base disks (default: 1)")
    parser.add_argument("--multi-zone", action="store_true", help="spread the copies over the zones of a region")
    parser.add_argument(
        "--target", metavar="FILE", help="refuse it unless it fits what this YAML demands (`bathotype fits`)"
    )
    parser.add_argument("--plan", action="store_true", help="show the bytes that would move and how long that takes")
    parser.add_argument("--no-wait", action="store_true", help="print the ids of the operations and do not wait")
    parser = command(
        parsers,
        "replicas",
        _replicas,
        "show where a version is, or every version of a line",
        examples="  bathotype replicas gauge-collector@1.0.0\n  bathotype replicas gauge-collector --all",
    )
    reference(parser)
    parser.add_argument("--all", action="store_true", help="every version of the line REF")
    parser = command(
        parsers,
        "drain",
        _drain,
        "remove a version from a region that does not need it",
        examples="  bathotype drain gauge-collector@1.0.0 --region lagoon-3 --plan",
    )
    reference(parser)
    parser.add_argument("--region", required=True)
    parser.add_argument("--plan", action="store_true", help="show what still needs it there; change nothing")

    inner = group(parsers, "placement", "the regions where a line's released versions are kept")
    parser = command(
        inner, "show", _show, "show a line's placement", examples="  bathotype placement show gauge-collector"
    )
    parser.add_argument("line")
    parser = command(
        inner,
        "set",
        _set,
        "change it: released versions are brought into line, now and at each release",
        examples="  bathotype placement set gauge-collector --to skerry-1,fjord-2:2 --multi-zone --plan",
    )
    parser.add_argument("line")
    parser.add_argument(
        "--to",
        required=True,
        metavar=_TO,
        help="versions leave regions that are not named; 'none' removes the placement",
    )
    parser.add_argument("--multi-zone", action="store_true", help="spread the copies over the zones of a region")
    parser.add_argument(
        "--plan", action="store_true", help="show what would happen and what prevents it; change nothing"
    )
    parser.add_argument("--no-wait", action="store_true", help="do not wait until the versions are there")


def _places(given: argparse.Namespace) -> list[RegionPlace]:
    out = []
    for part in given.to.split(","):
        region, colon, copies = part.strip().partition(":")
        if not region or (colon and not copies.isdigit()):
            raise Invalid(f"{part!r} is not REGION[:COPIES].", advice="Write such as fjord-2:2,lagoon-3.")
        out.append(RegionPlace(region=region, copies=int(copies or 1), multi_zone=given.multi_zone))
    return out


def _replicate(client: Client, given: argparse.Namespace) -> int:
    places = _places(given)
    demand(client, given)
    if given.plan:
        plan = client.plan_replication(given.reference, places)
        if given.json:
            emit_json(plan)
        else:
            table(
                ("region", "from", "bytes", "takes", "copies"),
                (
                    (
                        m.region, m.source or "is there", iec(m.bytes),
                        "not measured yet" if m.seconds is None else seconds(m.seconds), f"{m.copies_now} -> {m.copies}",
                    )
                    for m in plan.moves
                ),
            )  # fmt: skip
            for move in plan.moves:
                for why in move.blockers:
                    say(f"obstacle: {move.region}: {why}", style="red")
        return 4 if any(m.blockers for m in plan.moves) else 0
    started = client.replicate(given.reference, places)
    if given.no_wait:
        emit_json(started) if given.json else out("\n".join(o.id for o in started))
        return 0
    done = follow_all(client, started, quiet=given.json)
    if given.json:
        emit_json(done)
    else:
        table(
            ("region", "state", "from", "moved", "copies"),
            (
                (r["region"], "ready", r["from"] or "was there", iec(r["moved_bytes"]), r["copies"])
                for r in (o.result or {} for o in done)
            ),
        )
    return 0


def _replicas(client: Client, given: argparse.Namespace) -> None:
    if given.all:
        return _replicas_of_line(client, given)
    rows = client.replicas(given.reference)
    if given.json:
        return emit_json(rows)
    table(
        ("region", "state", "copies", "standing", "verified"),
        (
            (
                r.region, r.state, f"{r.copies}{', multi-zone' if r.multi_zone else ''}",
                ", ".join(f"{n} in {zone}" if zone else str(n) for zone, n in sorted(r.zones.items())) or "none",
                r.verified_at,
            )
            for r in rows
        ),
    )  # fmt: skip


def _replicas_of_line(client: Client, given: argparse.Namespace) -> None:
    rows = list(client.replicas_of_line(given.reference))
    if given.json:
        return emit_json(rows)
    table(
        ("version", "state", "region", "replica", "copies", "standing", "verified"),
        (
            (v.reference, v.state, r.region, r.state, r.copies, r.standing, r.verified_at)
            for v in rows
            for r in v.replicas
        ),
        empty=f"No version of {given.reference} is stored anywhere.",
    )


def _drain(client: Client, given: argparse.Namespace) -> int:
    if given.plan:
        return show_plan(client.drain_plan(given.reference, given.region), given)
    done = follow(client, client.drain(given.reference, given.region), quiet=given.json)
    freed = (done.result or {}).get("freed_bytes", 0)
    emit_json(done) if given.json else out(f"{given.reference} left {given.region}, {iec(freed)} freed")
    return 0


def _show(client: Client, given: argparse.Namespace) -> None:
    found = client.placement(given.line)
    if given.json:
        return emit_json(found)
    table(
        ("region", "copies", "zones"),
        ((p.region, p.copies, "all" if p.multi_zone else "one") for p in found.regions),
        empty=f"{given.line} has no placement: its versions stay where they are made.",
    )


def _set(client: Client, given: argparse.Namespace) -> int:
    places = [] if given.to == "none" else _places(given)
    if given.plan:
        plan = client.plan_placement(given.line, places)
        plan.effects = plan.effects or ["Nothing changes."]
        return show_plan(plan, given)
    change = client.set_placement(given.line, places)
    if not given.no_wait:
        follow_all(client, change.operations, quiet=given.json)
    if given.json:
        emit_json(change)
    else:
        out(f"{given.line}: {', '.join(f'{p.region}:{p.copies}' for p in change.placement.regions) or 'no placement'}")
    return 0
