"""``launch`` and ``first-boot``."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from bathotype.cli.options import Subparsers, command, group, read_yaml, reference, tags, tags_of
from bathotype.cli.output import emit_json, facts, follow, out, say, table
from bathotype.core.errors import REFUSED, Invalid
from bathotype.core.firstboot.settings import first_boot_of
from bathotype.core.units import bytes_of, iec

if TYPE_CHECKING:
    from bathotype.client import Client
    from bathotype.core.lifecycle.networks import Attach
    from bathotype.core.lifecycle.room import Room
    from bathotype.wire.fleet import PlannedDisk, PlannedInstance

#: Instances of which a plan shows the settings.
_SHOWN = 12


def register(parsers: Subparsers) -> None:
    """Add the commands."""
    parser = command(
        parsers,
        "launch",
        _launch,
        "launch instances of a version, each with an identity of its own",
        examples="  bathotype launch gauge-collector --region skerry-1 --name gauge-a\n"
        "  bathotype launch gauge-collector@1.0.0 --region skerry-1 --zone skerry-1b --count 3 --name 'gauge-{n:02}' --first-boot tide-station\n"
        "  bathotype launch gauge-collector --region skerry-1 --first-boot ./quay.yaml --plan\n"
        "  bathotype launch gauge-collector --region skerry-1 --subnet office --firewall web --public\n"
        "  bathotype launch surge-model --region skerry-1 --boot-size 20GiB --extra-disk 100GiB --keep-data-disks",
    )
    reference(parser)
    parser.add_argument("--region", required=True)
    parser.add_argument("--zone")
    parser.add_argument("--machine-size", help="default: the source machine's")
    parser.add_argument("--count", type=int, default=1, help="how many (default: 1)")
    parser.add_argument("--name", default="", metavar="PATTERN", help="{n} or {n:03} is the instance's number")
    parser.add_argument("--first-boot", metavar="FILE|NAME", help="YAML file with settings, or the name of saved ones")
    parser.add_argument("--subnet", help="default: the site's (`bathotype regions networks` lists them)")
    parser.add_argument("--address", help="a fixed address of the subnet, for one instance")
    parser.add_argument(
        "--firewall",
        metavar="SET",
        action="append",
        default=[],
        help="a firewall set, which opens ports; may be repeated",
    )
    parser.add_argument(
        "--public",
        nargs="?",
        const=True,
        default=False,
        metavar="ADDRESS",
        help="with a public address: any, or this one",
    )
    parser.add_argument(
        "--boot-size", metavar="SIZE", help="such as 20GiB: a larger boot disk, whose file system grows at first boot"
    )
    parser.add_argument(
        "--extra-disk", metavar="SIZE", action="append", default=[], help="an empty disk besides; may be repeated"
    )
    parser.add_argument(
        "--keep-data-disks", action="store_true", help="all disks but the boot disk stay when an instance is terminated"
    )
    parser.add_argument(
        "--wait-seconds", type=int, default=300, help="seconds that an instance may take to become ready (default: 300)"
    )
    parser.add_argument("--plan", action="store_true", help="show what would happen; change nothing")
    parser.add_argument("--no-wait", action="store_true", help="print the id of the operation and do not wait")
    tags(parser)

    inner = group(parsers, "first-boot", "saved first-boot settings")
    command(inner, "list", _saved, "list saved settings", examples="  bathotype first-boot list")
    parser = command(
        inner, "show", _show_saved, "show saved settings, as YAML that can be changed and saved again",
        examples="  bathotype first-boot show quay > quay.yaml",
    )  # fmt: skip
    parser.add_argument("name")
    parser = command(
        inner, "save", _save, "save settings under a name", examples="  bathotype first-boot save quay ./quay.yaml"
    )
    parser.add_argument("name")
    parser.add_argument("file", metavar="FILE", help="YAML; see docs/first-boot.md")
    parser = command(inner, "drop", _drop, "remove saved settings", examples="  bathotype first-boot drop quay")
    parser.add_argument("name")


def _launch(client: Client, given: argparse.Namespace) -> int:
    first_boot: Any = given.first_boot
    if first_boot and (first_boot.endswith((".yaml", ".yml")) or "/" in first_boot):
        first_boot = first_boot_of(read_yaml(first_boot))
    request = {
        "reference": given.reference,
        "region": given.region,
        "zone": given.zone,
        "machine_size": given.machine_size,
        "count": given.count,
        "name": given.name,
        "first_boot": first_boot,
        "attach": _attach(given),
        "room": _room(given),
        "wait_seconds": given.wait_seconds,
        "tags": tags_of(given),
    }
    plan = client.plan_launch(**request)
    if given.plan:
        return _show_plan(plan, given)
    if not given.json:
        for warning in plan.warnings:
            say(warning, style="dark_orange3")
    operation = client.launch(**request)
    if given.no_wait:
        emit_json(operation) if given.json else out(operation.id)
        return 0
    done = follow(client, operation, quiet=given.json)
    if given.json:
        emit_json(done)
        return 0
    started = [client.instance(i["id"]) for i in (done.result or {}).get("instances", [])]
    table(
        ("instance", "version", "state", "zone", "address", "machine id"),
        ((i.name, i.reference, i.state, i.zone, i.address, i.identity.get("machine_id")) for i in started),
    )
    for i in started:
        for text in i.differences:
            say(f"warning: {i.name}: {text}", style="dark_orange3")
    return 0


def _attach(given: argparse.Namespace) -> Attach:
    """Where instances attach."""
    from pydantic import ValidationError

    from bathotype.core.faults import in_words
    from bathotype.core.lifecycle.networks import Attach

    try:
        return Attach(subnet=given.subnet, address=given.address, firewalls=given.firewall, public_address=given.public)
    except ValidationError as error:
        fault = error.errors()[0]
        raise Invalid(
            f"--{str(fault['loc'][0]).removesuffix('_address').removesuffix('s')}: {in_words(fault)}.",
            advice="`bathotype regions networks REGION` lists what there is.",
        ) from error


def _room(given: argparse.Namespace) -> Room:
    """The disks beyond the version's."""
    from pydantic import ValidationError

    from bathotype.core.faults import in_words
    from bathotype.core.lifecycle.room import Room

    try:
        return Room(
            boot_bytes=bytes_of(given.boot_size) if given.boot_size else None,
            extra_disks=[bytes_of(text) for text in given.extra_disk],
            keep_data_disks=given.keep_data_disks,
        )
    except ValidationError as error:
        fault = error.errors()[0]
        where = "--boot-size" if fault["loc"][0] == "boot_bytes" else "--extra-disk"
        raise Invalid(
            f"{where}: {in_words(fault)}.", advice="Give 1 MiB or more, in whole sectors of 512 bytes."
        ) from error
    except ValueError as error:
        raise Invalid(f"That is no size: {error}.", advice="Write such as 20GiB.") from error


def _disk(disk: PlannedDisk) -> str:
    """One disk of each instance."""
    grown = f", grown from {iec(disk.grown_from)}" if disk.grown_from else ""
    empty = ", empty" if disk.role.startswith("extra-") else ""
    return f"{disk.role} {iec(disk.bytes)}{grown}{empty}{', kept afterwards' if disk.kept else ''}"


def _quota(name: str, used: int, most: int) -> tuple[str, str]:
    """What the site lets the account have, and how much of it is taken."""
    what, _, unit = name.rpartition("_")
    if unit == "bytes":
        return f"site quota, {what}", f"{iec(used)} of {iec(most)} in use"
    return f"site quota, {name}", f"{used} of {most} in use"


def _show_plan(plan: Any, given: argparse.Namespace) -> int:
    refused = REFUSED if plan.blockers else 0
    if given.json:
        emit_json(plan)
        return refused
    base = (
        f"{iec(plan.base_disk_bytes)} are written to the site first" if plan.base_disk_bytes else "a base disk is ready"
    )
    facts(
        [
            ("version", plan.reference),
            ("region", plan.region),
            ("instances", ", ".join(plan.names)),
            ("disks", "; ".join(map(_disk, plan.disks))),
            ("base disk", base),
            ("subnet", f"{plan.subnet}, {given.address}" if plan.subnet and given.address else plan.subnet),
            ("open", "; ".join(plan.opened) or "nothing"),
            ("public address", "each gets one" if given.public is True else given.public or None),
            *(_quota(name, *figures) for name, figures in plan.quotas.items()),
            *((f"allowance {a.name}", f"{a.used} of {a.most} in use") for a in plan.allowances),
            *((f"rule {v.rule}", v.outcome) for v in plan.verdicts if v.outcome != "not-concerned"),
        ]
    )
    for one in plan.instances[:_SHOWN]:
        out(_settings_of(one))
    if len(plan.instances) > _SHOWN:
        out(f"... and {len(plan.instances) - _SHOWN} more; --json has them all.")
    for kind, lines, style in (("obstacle", plan.blockers, "red"), ("warning", plan.warnings, "dark_orange3")):
        for line in lines:
            say(f"{kind}: {line}", style=style)
    return refused


def _settings_of(one: PlannedInstance) -> str:
    """One instance's first-boot settings, in a line."""
    net = ", ".join(one.addresses) + (f" by {one.gateway}" if one.gateway else "") if one.addresses else "DHCP"
    parts = [f"host name {one.full_name}", f"network {net}"]
    parts += [f"DNS {' '.join([*one.name_servers, *one.search])}"] if one.name_servers or one.search else []
    parts += [f"zone {one.time_zone}"] if one.time_zone else []
    parts += [f"locale {one.locale}"] if one.locale else []
    parts += [f"users {', '.join(one.users)}"] if one.users else []
    parts += [f"secrets {', '.join(f'{name} in {path}' for path, name in one.secrets.items())}"] if one.secrets else []
    return f"{one.name}: {'; '.join(parts)}"


def _saved(client: Client, given: argparse.Namespace) -> None:
    saved = client.saved_first_boot()
    if given.json:
        return emit_json(saved)
    table(
        ("name", "host name", "domain", "time zone", "users"),
        (
            (
                s.name,
                s.settings.host_name,
                s.settings.domain,
                s.settings.time_zone,
                ", ".join(u.name for u in s.settings.users),
            )
            for s in saved
        ),
    )


def _show_saved(client: Client, given: argparse.Namespace) -> None:
    saved = client.first_boot(given.name)
    if given.json:
        return emit_json(saved)
    import yaml

    settings = saved.settings.model_dump(mode="json", exclude_defaults=True)
    return out(yaml.safe_dump(settings, sort_keys=False, allow_unicode=True).rstrip())


def _save(client: Client, given: argparse.Namespace) -> None:
    saved = client.save_first_boot(given.name, first_boot_of(read_yaml(given.file)))
    emit_json(saved) if given.json else out(f"saved {saved.name}")


def _drop(client: Client, given: argparse.Namespace) -> None:
    client.drop_first_boot(given.name)
    if given.json:
        emit_json({"dropped": given.name})
