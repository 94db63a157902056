"""``instances``: list them, and stop, start or terminate one or many."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING, Any

from bathotype.cli.options import Subparsers, command, group
from bathotype.cli.output import confirm, emit_json, facts, follow, out, say, show_plan, table
from bathotype.core.errors import Invalid
from bathotype.core.units import iec

if TYPE_CHECKING:
    from bathotype.client import Client
    from bathotype.wire.fleet import HeldDisk, Instance, InstanceFilter


def register(parsers: Subparsers) -> None:
    """Add the commands."""
    inner = group(parsers, "instances", "machines launched from versions")
    parser = command(
        inner,
        "list",
        _list,
        "list instances and the version that each runs",
        examples="  bathotype instances list --behind\n"
        "  bathotype instances list --version gauge-collector@1.0.0 --state running\n"
        "  bathotype instances list --csv > instances.csv",
    )
    _filters(parser)
    parser.add_argument(
        "--sort", choices=("launched", "name", "state", "region", "version"), help="default: newest first"
    )
    parser.add_argument("--reverse", action="store_true", help="in the other order")
    parser.add_argument("--csv", action="store_true", help="write them as CSV")
    parser = command(
        inner,
        "counts",
        _counts,
        "count instances per version",
        examples="  bathotype instances counts --line gauge-collector",
    )
    parser.add_argument("--line")
    parser = command(
        inner, "show", _show, "show one instance and its identity", examples="  bathotype instances show quay-01"
    )
    parser.add_argument("instance", metavar="INSTANCE", help="name or id")
    for verb, about in (
        ("stop", "switch instances off"),
        ("start", "switch stopped instances on"),
        ("terminate", "remove instances for good, with their disks but for those to keep"),
    ):
        parser = command(
            inner,
            verb,
            _act,
            about,
            examples=f"  bathotype instances {verb} quay-01 quay-02\n"
            f"  bathotype instances {verb} --version gauge-collector --behind --plan",
        )
        parser.add_argument("instances", metavar="INSTANCE", nargs="*", help="name or id; none with a filter")
        _filters(parser)
        parser.add_argument("--plan", action="store_true", help="show which instances it concerns; change nothing")
        parser.add_argument("--yes", action="store_true", help="do not ask for confirmation")
        parser.add_argument("--no-wait", action="store_true", help="print the id of the operation and do not wait")
        parser.set_defaults(verb=verb)


def _filters(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--version", metavar="REF", help="a version, or a line for all of its versions")
    parser.add_argument(
        "--state", action="append", help="may be repeated (default: all that exist or are being launched)"
    )
    parser.add_argument("--region")
    parser.add_argument("--behind", action="store_true", help="only those behind their line's newest release")
    parser.add_argument("--find", metavar="TEXT", help="part of the name, or an id, a machine's id or an address")


def _asked(given: argparse.Namespace) -> dict[str, Any]:
    return {name: getattr(given, name) for name in ("version", "state", "region", "behind", "find")}


def _list(client: Client, given: argparse.Namespace) -> None:
    sort: Any = given.sort
    if given.reverse:
        sort = f"-{given.sort}" if given.sort else "launched"
    if given.csv or given.ndjson:  # as they come: there may be many
        for piece in client.instances_file("csv" if given.csv else "ndjson", **_asked(given), sort=sort):
            sys.stdout.buffer.write(piece)
        return None
    found = list(client.instances(**_asked(given), sort=sort))
    if given.json:
        return emit_json(found)
    table(
        ("instance", "version", "behind", "state", "region", "zone", "address", "origin", "since"),
        (
            (
                i.name,
                i.reference,
                f"{i.behind} (newest {i.newest})" if i.behind else "",
                i.state,
                i.region,
                i.zone,
                i.address,
                i.origin if i.origin != "launched" else "",
                i.launched_at,
            )
            for i in found
        ),
        empty="No instances.",
    )


def _counts(client: Client, given: argparse.Namespace) -> None:
    counts = client.instance_counts(line=given.line)
    if given.json:
        return emit_json(counts)
    table(
        ("version", "state", "instances"),
        ((c.reference, c.version_state, ", ".join(f"{n} {s}" for s, n in sorted(c.states.items()))) for c in counts),
    )


def _show(client: Client, given: argparse.Namespace) -> None:
    i = client.instance(given.instance)
    emit_json(i) if given.json else _facts(i)


def _facts(i: Instance) -> None:
    facts(
        [
            ("instance", i.name),
            ("id", i.id),
            ("version", i.reference),
            ("behind", f"{i.behind} (newest {i.newest})" if i.behind else None),
            ("state", i.state),
            ("reason", i.reason),
            *(("differs", text) for text in i.differences),
            ("region", f"{i.region} / {i.zone}"),
            ("machine", i.machine_id),
            ("address", i.address),
            ("its own", ", ".join(own) if (own := i.identity.get("addresses", [])) != [i.address] else None),
            ("origin", i.origin),
            *((d.role, _disk(d)) for d in i.disks if len(i.disks) > 1 or d.grown_from),
            ("subnet", i.subnet),
            ("firewall sets", ", ".join(i.firewalls)),
            ("public address", i.public_address),
            ("host name", i.identity.get("host_name")),
            ("machine id", i.identity.get("machine_id")),
            *(("host key", key) for key in i.identity.get("host_keys", [])),
            ("launched", i.launched_at),
            ("ended", i.ended_at),
        ]
    )


def _disk(disk: HeldDisk) -> str:
    """A disk of an instance."""
    grown = f", grown from {iec(disk.grown_from)}" if disk.grown_from else ""
    return f"{iec(disk.bytes)}{grown}{', kept afterwards' if disk.kept else ''}" + (
        f" ({disk.disk})" if disk.disk else ""
    )


def _act(client: Client, given: argparse.Namespace) -> int:
    where = _where(given)
    if where is None and len(given.instances) == 1 and not given.plan:
        i = client.act_on_instance(given.instances[0], given.verb)
        if given.json:
            emit_json(i)
            return 0
        out(f"{i.name} {i.state}")
        if i.state == "terminated" and (kept := [d for d in i.disks if d.kept]):
            say(f"Kept at the site: {', '.join(f'{d.role} {iec(d.bytes)} ({d.disk})' for d in kept)}.")
        return 0
    chosen: dict[str, Any] = {"instances": given.instances} if where is None else {"where": where}
    plan = client.plan_instance_change(given.verb, **chosen)
    if given.plan or plan.blockers:
        return show_plan(plan, given)
    for warning in plan.warnings:
        say(f"warning: {warning}", style="dark_orange3")
    if not given.yes:
        confirm(
            f"This would {given.verb}: {', '.join(plan.names[:8])}{', …' if plan.count > 8 else ''} ({plan.count})."
        )
    operation = client.change_instances(given.verb, **chosen, selection=plan.selection)
    if given.no_wait:
        emit_json(operation) if given.json else out(operation.id)
        return 0
    done = follow(client, operation, quiet=given.json)
    emit_json(done) if given.json else out(f"{done.subject}: {done.state}")
    return 0


def _where(given: argparse.Namespace) -> InstanceFilter | None:
    """The filter that was given; None where instances were named.  Raises `Invalid` for both and for neither."""
    from bathotype.wire.fleet import InstanceFilter  # here: a help text needs no models

    asked = {name: value for name, value in _asked(given).items() if value}
    if asked and given.instances:
        raise Invalid("Names and a filter are given.", advice="Give one of them.")
    if not asked and not given.instances:
        raise Invalid("Which instances?", advice="Name them, or give a filter such as --version or --behind.")
    return InstanceFilter(**asked) if asked else None
