"""``versions``, ``residue``, ``resolve``, ``packages``, ``compare``: what a version is and holds."""

from __future__ import annotations

import argparse
import shlex
from collections.abc import Iterator
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from bathotype.cli.commands.retirement import add_ends
from bathotype.cli.options import Subparsers, command, group, purpose_of, reference, until_of
from bathotype.cli.output import emit_json, facts, follow, out, say, table
from bathotype.cli.proofpage import OUTCOMES, held_text, page, sums
from bathotype.core.errors import BathotypeError, Invalid, Refused
from bathotype.core.lifecycle.purpose import capacity_text
from bathotype.core.units import iec, plural

if TYPE_CHECKING:
    from bathotype.client import Client
    from bathotype.wire.versions import Difference, Version, VersionDisk


def register(parsers: Subparsers) -> None:
    """Add the commands."""
    inner = group(parsers, "versions", "versions of a line")
    parser = command(
        inner, "list", _list, "list a line's versions", examples="  bathotype versions list gauge-collector"
    )
    parser.add_argument("line")
    reference(
        command(
            inner,
            "show",
            _show,
            "show everything recorded about a version",
            examples="  bathotype versions show gauge-collector@1.0.0",
        )
    )
    reference(
        command(
            inner,
            "release",
            _release,
            "make a version available for launches",
            examples="  bathotype versions release gauge-collector@1.0.0",
        )
    )
    parser = command(
        inner,
        "pin-only",
        _pin_only,
        "launch a version only when it is named exactly",
        examples="  bathotype versions pin-only gauge-collector@1.0.0 --off",
    )
    reference(parser)
    parser.add_argument("--off", action="store_true", help="launch it again when only its line is named")
    parser = command(
        inner,
        "notes",
        _notes,
        "replace a version's notes",
        examples="  bathotype versions notes gauge-collector@1.0.0 'Reads every minute.'",
    )
    reference(parser)
    parser.add_argument("text")
    parser = command(
        inner,
        "purpose",
        _purpose,
        "show what a version is for, or say it: machines that it wants, contact, terms, labels",
        examples="  bathotype versions purpose gauge-collector@1.0.0\n"
        "  bathotype versions purpose gauge-collector@1.0.0 gauge.yaml\n\n"
        "gauge.yaml:\n  least: {processors: 1, memory_mib: 256}\n  recommended: {memory_mib: 512}\n"
        "  excluded_sizes: [large]\n  contact: orla@tide.example\n  labels: {team: gauges}",
    )
    reference(parser)
    parser.add_argument("file", metavar="FILE", nargs="?", help="YAML; it replaces what was said before")
    parser = command(
        inner,
        "until",
        _until,
        "say on which day a version retires by itself; it is announced 30 days before",
        examples="  bathotype versions until gauge-collector@1.0.0 2027-06-30\n"
        "  bathotype versions until gauge-collector@1.0.0 never",
    )
    reference(parser)
    parser.add_argument("until", metavar="DATE|never", help="YYYY-MM-DD, or never to take a day back")
    parser = command(
        inner,
        "proof",
        _proof,
        "show class by class what of the source was there, what was done, and what is in the version",
        examples="  bathotype versions proof gauge-collector@1.0.0\n"
        "  bathotype versions proof gauge-collector@1.0.0 --to proof.html",
    )
    reference(parser)
    parser.add_argument("--to", metavar="FILE", type=Path, help="write it as a page that can be printed (HTML)")
    add_ends(inner)
    parser = command(
        inner,
        "hold",
        _hold,
        "forbid purging a version, for a named reason",
        examples="  bathotype versions hold gauge-collector@1.0.0 --name audit-2026 --reason 'kept for the audit'\n"
        "  bathotype versions hold gauge-collector@1.0.0 --name audit-2026 --lift",
    )
    reference(parser)
    parser.add_argument("--name", help="of the hold; without it, the holds are listed")
    parser.add_argument("--reason", default="")
    parser.add_argument("--lift", action="store_true", help="lift the hold")
    parser = command(
        inner,
        "accept",
        _accept,
        "accept one finding of the residue scan by name",
        examples="  bathotype versions accept gauge-collector@1.0.0 secret-assigned-39ca08ee --reason 'a test database'",
    )
    reference(parser)
    parser.add_argument("finding", metavar="FINDING")
    parser.add_argument("--reason", required=True)
    parser = command(
        inner,
        "verify",
        _verify,
        "read every chunk of a version in a region and check it",
        examples="  bathotype versions verify gauge-collector@1.0.0\n"
        "  bathotype versions verify gauge-collector@1.0.0 --region skerry-1",
    )
    reference(parser)
    parser.add_argument("--region", help="default: every region that has it, one after another")

    residue = command(
        parsers,
        "residue",
        _residue,
        "show what the residue scan of a version found",
        examples="  bathotype residue gauge-collector@1.0.0\n"
        "  bathotype residue gauge-collector@1.0.0 --severity high --open",
    )
    reference(residue)
    residue.add_argument("--severity", choices=("high", "medium", "low"), help="only findings of this severity")
    residue.add_argument("--open", action="store_true", help="only findings that nobody has accepted")
    parser = command(
        parsers,
        "resolve",
        _resolve,
        "show what another tool needs to launch a version",
        examples='  eval "$(bathotype resolve gauge-collector --region skerry-1 --format env)"',
    )
    reference(parser)
    parser.add_argument("--region")
    parser.add_argument("--format", choices=("json", "env"), default="json")
    parser = command(
        parsers,
        "packages",
        _packages,
        "list a version's packages, or the versions that hold a package",
        examples="  bathotype packages gauge-collector@1.0.0\n  bathotype packages --which openssl",
    )
    parser.add_argument("reference", metavar="REF", nargs="?")
    parser.add_argument("--find", metavar="TEXT", help="only packages with this text in their name")
    parser.add_argument("--which", metavar="PACKAGE", help="versions and running instances that carry a package")
    parser = command(
        parsers,
        "compare",
        _compare,
        "show how the contents of two versions differ",
        examples="  bathotype compare gauge-collector@1.0.0 gauge-collector@1.1.0",
    )
    parser.add_argument("old", metavar="REF")
    parser.add_argument("new", metavar="REF")


def _list(client: Client, given: argparse.Namespace) -> None:
    versions = list(client.versions(given.line))
    if given.json:
        return emit_json(versions)
    table(
        ("version", "state", "marks", "running", "used", "new", "findings", "from", "created"),
        (
            (
                v.reference,
                v.state + (" pin-only" if v.pin_only else ""),
                ", ".join(v.marks),
                v.running,
                iec(v.sizes.used),
                iec(v.sizes.new),
                _findings(v),
                _origin(v) or v.source.get("machine"),
                v.created_at,
            )
            for v in versions
        ),
        empty=f"{given.line} has no version yet.",
    )


def _disk(disk: VersionDisk) -> str:
    """One of several disks."""
    return f"{iec(disk.bytes)}, {iec(disk.used_bytes)} stored" + (f": {disk.holds}" if disk.holds else "")


def _findings(v: Version) -> str:
    f = v.findings
    total = f.high + f.medium + f.low
    return f"{total} ({f.open_high} open high)" if f.open_high else str(total)


def show_version(v: Version) -> None:
    """Everything about a version, for people."""
    s = v.sizes
    facts(
        [
            ("version", v.reference if "/" in v.reference else f"{v.account}/{v.reference}"),
            ("state", v.state),
            ("pin-only", v.pin_only),
            ("marks", ", ".join(v.marks)),
            ("holds", ", ".join(v.holds)),
            ("running", v.running),
            ("content", v.content_digest),
            ("disk", f"{iec(s.virtual)}, {iec(s.used)} used, {iec(s.stored)} stored, {iec(s.new)} new"),
            *((d.role, _disk(d)) for d in v.disks if len(v.disks) > 1),
            ("regions", ", ".join(v.regions)),
            ("made by", _made_by(v)),
            ("parent", v.parent),
            ("signed with", v.signed_with and f"key {v.signed_with}"),
            ("profile", v.profile["name"] if v.profile else None),
            (
                "its own tool",
                f"{v.profile['tool']}: {v.profile['told']}" if v.profile and v.profile.get("tool") else None,
            ),
            (
                "changed" if v.mode == "edit" else "generalized",
                f"{plural(sum(x['paths'] for x in v.steps), 'path')} by {plural(sum(bool(x['paths']) for x in v.steps), 'step')}"
                if v.steps
                else None,
            ),
            ("system", v.os.get("pretty_name")),
            ("packages", "unknown: they cannot be listed" if v.packages is None else v.packages),
            ("services", ", ".join(v.services)),
            ("users", ", ".join(v.users)),
            ("findings", _findings(v)),
            *_needs(v),
            *_purpose_facts(v),
            ("notes", v.notes),
            ("created", v.created_at),
            ("released", v.released_at),
            ("sunset", v.sunset_on),
            ("retires on", v.retire_on if not v.retired_at else None),
            ("retired", v.retired_at),
            ("purged", v.purged_at),
        ]
    )


def _needs(v: Version) -> list[tuple[str, str | None]]:
    """What its disk needs of a machine."""
    n = v.needs
    if n is None:
        return []
    boot = " or ".join(n.boot) + (" (its loader is signed)" if n.signed_loader else "")
    return [
        ("boots by", boot or None),
        ("made for", n.architecture or None),
        ("can drive", ", ".join([*n.disk_drivers, *n.network_drivers]) or None),
        ("bound to", "a trusted module (TPM)" if n.trusted_module else None),
    ]


def _purpose_facts(v: Version) -> list[tuple[str, str | None]]:
    """What it is for."""
    p = v.purpose
    return [
        ("needs at least", capacity_text(p.least) or None),
        ("recommended", capacity_text(p.recommended) or None),
        ("for sizes", ", ".join(p.compatible_sizes) or None),
        ("not for sizes", ", ".join(p.excluded_sizes) or None),
        ("contact", p.contact or None),
        ("terms", p.licence or None),
        ("labels", ", ".join(f"{key}={value}" for key, value in p.labels.items()) or None),
    ]


def _show(client: Client, given: argparse.Namespace) -> None:
    v = client.version(given.reference)
    emit_json(v) if given.json else show_version(v)


def _made_by(v: Version) -> str | None:
    """How the version was made, as far as the caller may see it."""
    if v.mode == "build":
        return (
            f"a run of sheet {v.source.get('sheet')} on {v.source.get('built_from')}"
            if v.source.get("sheet")
            else "a build run"
        )
    if v.source.get("machine"):
        return f"capture ({v.mode}) of {v.source['machine']} in {v.source.get('region')}"
    if v.adopted_from:
        return f"adoption of {v.adopted_from}"
    origin = _origin(v)
    how = {"live": "a live capture", "stopped": "a stopped capture", "as-is": "a capture as it is", "edit": "an edit"}
    made = how.get(v.mode, "an import" if v.mode == "import" else "an adoption")
    return f"{made} of {origin}" if origin else made


def _origin(v: Version) -> str | None:
    """The sheet, the file or the version that it was made of."""
    if v.source.get("sheet"):
        return f"sheet {v.source['sheet']}"
    return v.adopted_from or v.source.get("file") or v.source.get("edited_from")


def _changed(v: Version, given: argparse.Namespace) -> None:
    if given.json:
        return emit_json(v)
    out(f"{v.reference} {v.state}{' pin-only' if v.pin_only else ''}")


def _release(client: Client, given: argparse.Namespace) -> None:
    _changed(client.release(given.reference), given)


def _pin_only(client: Client, given: argparse.Namespace) -> None:
    _changed(client.change(given.reference, pin_only=not given.off), given)


def _notes(client: Client, given: argparse.Namespace) -> None:
    v = client.change(given.reference, notes=given.text)
    emit_json(v) if given.json else out(f"{v.reference}: {v.notes}")


def _purpose(client: Client, given: argparse.Namespace) -> None:
    v = (
        client.version(given.reference)
        if given.file is None
        else client.change(given.reference, purpose=purpose_of(given.file))
    )
    emit_json(v.purpose) if given.json else facts([("version", v.reference), *_purpose_facts(v)])


def _until(client: Client, given: argparse.Namespace) -> None:
    day: date | Literal["never"] | None = "never" if given.until == "never" else until_of(given)
    v = client.change(given.reference, retire_on=day)
    if given.json:
        return emit_json(v)
    return out(f"{v.reference} {v.state}{f', retires on {v.retire_on}' if v.retire_on else ', with no end date'}")


def _proof(client: Client, given: argparse.Namespace) -> None:
    sheet = client.proof(given.reference)
    if given.to:
        if given.to.exists():
            raise Refused(f"{given.to} is there already.", advice="Give another name.", code="exists")
        given.to.write_text(page(sheet))
    if given.json:
        return emit_json(sheet)
    if given.to:
        return out(given.to)
    table(
        ("what", "was there", "done", "is there now", "outcome"),
        (
            (r.title, held_text(r, r.before), "; ".join(r.done), held_text(r, r.after), OUTCOMES[r.outcome])
            for r in sheet.rows
        ),
    )
    facts([("version", sheet.reference), ("content", sheet.content_digest), *sums(sheet), ("signed as", sheet.digest)])
    return None


def _hold(client: Client, given: argparse.Namespace) -> None:
    if given.name and given.lift:
        client.lift_hold(given.reference, given.name)
    elif given.name:
        if not given.reason:
            raise Invalid("A hold needs a reason.", advice="Give --reason TEXT.")
        client.hold(given.reference, given.name, given.reason)
    holds = client.holds(given.reference)
    if given.json:
        return emit_json(holds)
    table(
        ("hold", "reason", "by", "placed"),
        ((h.name, h.reason, h.placed_by, h.placed_at) for h in holds),
        empty="No holds.",
    )


def _accept(client: Client, given: argparse.Namespace) -> None:
    finding = client.accept(given.reference, given.finding, given.reason)
    emit_json(finding) if given.json else out(f"accepted {finding.id}")


def _verify(client: Client, given: argparse.Namespace) -> None:
    regions = [given.region] if given.region else client.version(given.reference).regions
    done, failed = [], []
    for region in regions:
        try:
            done.append(follow(client, client.verify(given.reference, region), quiet=given.json))
        except BathotypeError as error:
            failed.append(error)
            if len(regions) > 1:
                say(f"{given.reference} in {region}: {error}", style="red")
            continue
        if not given.json:
            out(f"{given.reference} in {region}: every chunk is sound")
    if failed:
        raise failed[0]
    if given.json:
        emit_json(done[0] if given.region else done)


def _residue(client: Client, given: argparse.Namespace) -> None:
    findings = client.findings(given.reference, severity=given.severity, open=given.open)
    if given.json:
        return emit_json(findings)
    table(
        ("severity", "finding", "where", "what", "what to do", "accepted"),
        (
            (
                f.severity,
                f.id,
                f"{f.path}{f':{f.line}' if f.line else ''}",
                f.excerpt,
                f.advice,
                f"{f.accepted_reason} ({f.accepted_by})" if f.accepted_by else None,
            )
            for f in findings
        ),
        empty="Clean: nothing was found.",
    )
    high = sum(f.severity == "high" and not f.accepted_by for f in findings)
    if high:
        say(f"{plural(high, 'open finding')} of high severity: it can be staged but not released.", style="red")


def _resolve(client: Client, given: argparse.Namespace) -> None:
    found = client.resolve(given.reference, region=given.region)
    for warning in found.warnings:
        say(warning, style="dark_orange3")
    if given.json or given.format == "json":
        return emit_json(found)
    for name, value in _flat(found.model_dump(mode="json", exclude={"warnings"})):
        out(f"export BATHOTYPE_{name.upper()}={shlex.quote(value)}")


def _flat(found: dict[str, Any], prefix: str = "") -> Iterator[tuple[str, str]]:
    """Names and texts for a shell: what is in another is named after it, lists have blanks between."""
    for name, value in found.items():
        if isinstance(value, dict):
            yield from _flat(value, f"{prefix}{name}_")
        elif isinstance(value, list) and value and isinstance(value[0], dict):
            yield f"{prefix}{name}", str(len(value))
            for number, item in enumerate(value):
                yield from _flat(item, f"{prefix}{name}_{number}_")
        elif isinstance(value, list):
            value = " ".join(str(item) for item in value)
        if isinstance(value, bool):
            value = str(value).lower()
        if isinstance(value, str | int) and value != "":
            yield f"{prefix}{name}", str(value)


def _packages(client: Client, given: argparse.Namespace) -> None:
    if given.which:
        uses = client.versions_with_package(given.which)
        if given.json:
            return emit_json(uses)
        return table(
            ("version", "state", "package", "package version", "running"),
            ((u.reference, u.state, u.package, u.version, u.running) for u in uses),
            empty=f"No version holds {given.which}.",
        )
    if not given.reference:
        raise Invalid("No version is named.", advice="Give one, or --which PACKAGE.")
    rows = client.packages(given.reference, find=given.find)
    if given.json:
        return emit_json(rows)
    table(
        ("package", "version", "architecture", "manager"),
        ((p.name, p.version, p.architecture, p.manager) for p in rows),
    )


def _compare(client: Client, given: argparse.Namespace) -> None:
    d = client.difference(given.old, given.new)
    return emit_json(d) if given.json else show_difference(d)


def show_difference(d: Difference) -> None:
    """How two versions differ, for people."""
    if d.unknown:
        say(f"The contents of {' and '.join(d.unknown)} cannot be listed: what differs in them is unknown.")
        return _say_bytes(d)
    rows = [("added", n, "", v) for n, v in d.added.items()] + [("removed", n, v, "") for n, v in d.removed.items()]
    rows += [("changed", n, a, b) for n, (a, b) in d.changed.items()]
    rows += [("service added", n, "", "") for n in d.services_added] + [
        ("service removed", n, "", "") for n in d.services_removed
    ]
    rows += [("user added", n, "", "") for n in d.users_added] + [("user removed", n, "", "") for n in d.users_removed]
    table(("change", "name", "old", "new"), rows, empty="The same packages, services and users.")
    return _say_bytes(d)


def _say_bytes(d: Difference) -> None:
    if d.changed_bytes:
        return say(f"{iec(d.changed_bytes)} of their disks differ, counted in whole chunks.")
    return say("Their disks hold the same bytes.")
