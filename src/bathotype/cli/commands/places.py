"""``regions``, ``profiles`` and ``formats``: what there is to choose from."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bathotype.cli.options import Subparsers, command, group
from bathotype.cli.output import emit_json, facts, table
from bathotype.core.errors import NotFound
from bathotype.core.units import iec, plural

if TYPE_CHECKING:
    from bathotype.client import Client
    from bathotype.wire.overview import RegionState


def register(parsers: Subparsers) -> None:
    """Add the commands."""
    inner = group(parsers, "regions", "regions, their sites and what these offer")
    command(
        inner,
        "list",
        _list,
        "list every region: zones, health, quotas, what runs there",
        examples="  bathotype regions list",
    )
    parser = command(
        inner,
        "show",
        _show,
        "show one region: its machine sizes, quotas, and what its machines have",
        examples="  bathotype regions show skerry-1",
    )
    parser.add_argument("region")
    command(inner, "sizes", _sizes, "list the machine sizes of every region", examples="  bathotype regions sizes")
    parser = command(
        inner,
        "networks",
        _networks,
        "list a region's subnets, firewall sets and public addresses",
        examples="  bathotype regions networks skerry-1",
    )
    parser.add_argument("region")
    command(
        inner,
        "links",
        _links,
        "list the links between regions: distance, limit, and the rate that was measured",
        examples="  bathotype regions links",
    )
    command(
        inner,
        "buckets",
        _buckets,
        "list the buckets that this account may import from or export to",
        examples="  bathotype regions buckets",
    )
    inner = group(parsers, "profiles", "built-in generalization profiles")
    command(inner, "list", _profiles, "list them", examples="  bathotype profiles list")
    parser = command(
        inner,
        "show",
        _profile,
        "show a profile's steps, each with its reason",
        examples="  bathotype profiles show linux",
    )
    parser.add_argument("name")
    command(
        parsers,
        "formats",
        _formats,
        "list the image formats that can be written and read",
        examples="  bathotype formats",
    )


def _list(client: Client, given: argparse.Namespace) -> None:
    regions = client.regions()
    if given.json:
        return emit_json(regions)
    table(
        ("region", "site", "zones", "running", "versions", "machines in use", "largest disk", "problem"),
        (
            (
                r.name,
                "answers" if r.reachable else "silent",
                ", ".join(r.zones),
                r.running,
                r.versions,
                _quota(r, "machines"),
                iec(r.largest_disk) if r.largest_disk else None,
                r.problem,
            )
            for r in regions
        ),
    )


def _quota(region: RegionState, name: str) -> str:
    used, most = region.quotas.get(name, (0, 0))
    return f"{used} of {most}" if most else ""


def _show(client: Client, given: argparse.Namespace) -> None:
    found = next((r for r in client.regions() if r.name == given.region), None)
    if found is None:
        raise NotFound(f"There is no region {given.region!r}.", advice="`bathotype regions list` shows them.")
    if given.json:
        return emit_json(found)
    has = found.machines
    facts(
        [
            ("region", found.name),
            ("site", "answers" if found.reachable else f"silent: {found.problem}"),
            ("zones", ", ".join(found.zones)),
            ("machine sizes", "; ".join(f"{s.name} ({_size(s.processors, s.memory_mib)})" for s in found.sizes)),
            ("machines boot by", " and ".join(has.boot) if has else None),
            ("processors", ", ".join(has.architectures) if has else None),
            ("disks by", ", ".join(has.disk_drivers) if has else None),
            ("network cards by", ", ".join(has.network_drivers) if has else None),
            ("trusted module", ("there" if has.trusted_module else "none") if has else None),
            ("largest disk", iec(found.largest_disk) if found.largest_disk else None),
            *((f"quota, {name.replace('_', ' ')}", _used(name, *figures)) for name, figures in found.quotas.items()),
            ("instances", found.running),
            ("versions", f"{found.versions}{f', {found.damaged} damaged' if found.damaged else ''}"),
        ]
    )


def _size(processors: int | None, memory_mib: int | None) -> str:
    return f"{plural(processors or 0, 'processor')}, {iec((memory_mib or 0) << 20)}"


def _used(name: str, used: int, most: int) -> str:
    return f"{iec(used)} of {iec(most)}" if name.endswith("bytes") else f"{used} of {most}"


def _sizes(client: Client, given: argparse.Namespace) -> None:
    rows = [{"region": r.name, **s.model_dump()} for r in client.regions() for s in r.sizes]
    if given.json:
        return emit_json(rows)
    table(
        ("region", "size", "processors", "memory"),
        ((row["region"], row["name"], row["processors"], iec((row["memory_mib"] or 0) << 20)) for row in rows),
        empty="No site answers.",
    )


def _networks(client: Client, given: argparse.Namespace) -> None:
    found = client.networks(given.region)
    if given.json:
        return emit_json(found)
    rows = [("subnet", s.name, f"{s.cidr} of network {s.network}; {s.free} addresses free") for s in found.subnets]
    rows += [("firewall set", f.name, "opens " + ("; ".join(f.opens) or "nothing")) for f in found.firewalls]
    rows += [("public address", a.address, f"of {a.machine}" if a.machine else "free") for a in found.public_addresses]
    table(("what", "name", "about"), rows)


def _links(client: Client, given: argparse.Namespace) -> None:
    links = client.links()
    if given.json:
        return emit_json(links)
    table(
        ("from", "to", "distance", "limit", "measured", "moved"),
        (
            (
                link.source,
                link.target,
                f"{link.distance_ms:g} ms" if link.distance_ms else None,
                f"{iec(int(link.bytes_per_second))}/s" if link.bytes_per_second else "none",
                f"{iec(int(link.rate))}/s" if link.rate else "not yet",
                iec(link.bytes_moved),
            )
            for link in links
        ),
        empty="There is one region.",
    )


def _buckets(client: Client, given: argparse.Namespace) -> None:
    buckets = client.buckets()
    if given.json:
        return emit_json(buckets)
    table(
        ("bucket", "region", "endpoint", "may"),
        ((b.name, b.region, b.endpoint, " ".join(["read"] * b.reads + ["write"] * b.writes)) for b in buckets),
        empty="None. An operator names them under `buckets` in the regions file.",
    )


def _profiles(client: Client, given: argparse.Namespace) -> None:
    profiles = client.profiles()
    if given.json:
        return emit_json(profiles)
    table(("profile", "steps", "about"), ((p["name"], len(p["steps"]), p.get("about")) for p in profiles))


def _profile(client: Client, given: argparse.Namespace) -> None:
    found = next((p for p in client.profiles() if p["name"] == given.name), None)
    if found is None:
        raise NotFound(f"There is no built-in profile {given.name!r}.", advice="`bathotype profiles list` shows them.")
    if given.json:
        return emit_json(found)
    table(
        ("step", "does", "on", "why"),
        ((s["id"], s["do"], ", ".join(s.get("paths") or s.get("users") or []), s.get("why")) for s in found["steps"]),
    )
    return None


def _formats(client: Client, given: argparse.Namespace) -> None:
    formats = client.formats()
    if given.json:
        return emit_json(formats)
    table(
        ("format", "suffix", "export", "import", "what it is"),
        ((f.name, f.suffix, f.written, f.read, f.about) for f in formats),
    )
