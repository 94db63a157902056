"""``lines`` and ``marks``."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bathotype.cli.options import Subparsers, command, group
from bathotype.cli.output import emit_json, facts, out, say, table
from bathotype.core.errors import Invalid
from bathotype.core.lifecycle.references import parse_reference
from bathotype.core.units import plural

if TYPE_CHECKING:
    from bathotype.client import Client
    from bathotype.wire.versions import Line


def register(parsers: Subparsers) -> None:
    """Add the commands."""
    inner = group(parsers, "lines", "named sequences of versions")
    parser = command(
        inner,
        "create",
        _create,
        "create a line",
        examples="  bathotype lines create gauge-collector --about 'reads tide gauges'",
    )
    parser.add_argument("name")
    parser.add_argument("--about", default="")
    command(inner, "list", _list, "list the account's lines", examples="  bathotype lines list --json")
    parser = command(inner, "show", _show, "show one line", examples="  bathotype lines show gauge-collector")
    parser.add_argument("name")

    parser = command(
        inner, "describe", _describe, "say what a line is for",
        examples="  bathotype lines describe gauge-collector 'reads tide gauges'",
    )  # fmt: skip
    parser.add_argument("name")
    parser.add_argument("text")
    parser = command(
        inner, "drop", _drop_line, "remove a line that never had a version",
        examples="  bathotype lines drop gage-collector",
    )  # fmt: skip
    parser.add_argument("name")

    parser = command(
        inner, "lineage", _lineage, "show what a line is built on, what is built on it, and what is behind its base",
        examples="  bathotype lines lineage gauge-collector",
    )  # fmt: skip
    parser.add_argument("name")

    parser = command(
        inner,
        "demand",
        _demand,
        "say what a version needs before its release: findings accepted, checks passed",
        examples="  bathotype lines demand gauge-collector medium\n  bathotype lines demand gauge-collector --proven yes",
    )
    parser.add_argument("name")
    parser.add_argument(
        "severity", nargs="?", choices=("high", "medium", "low"),
        help="findings from this severity on are accepted; high by default",
    )  # fmt: skip
    parser.add_argument("--proven", choices=("yes", "no"), help="whether the last checks must have passed")

    inner = group(parsers, "marks", "movable names on a line")
    parser = command(
        inner, "set", _set, "point a mark to a version", examples="  bathotype marks set gauge-collector@1.4.0 stable"
    )
    parser.add_argument("reference", metavar="REF", help="the version, by number")
    parser.add_argument("mark")
    parser = command(
        inner, "list", _marks, "list a line's marks and their moves", examples="  bathotype marks list gauge-collector"
    )
    parser.add_argument("line")
    parser = command(inner, "drop", _drop, "remove a mark", examples="  bathotype marks drop gauge-collector stable")
    parser.add_argument("line")
    parser.add_argument("mark")


def _create(client: Client, given: argparse.Namespace) -> None:
    line = client.create_line(given.name, about=given.about)
    emit_json(line) if given.json else out(line.name)


def _describe(client: Client, given: argparse.Namespace) -> None:
    line = client.describe_line(given.name, given.text)
    emit_json(line) if given.json else out(f"{line.name}\t{line.about}")


def _drop_line(client: Client, given: argparse.Namespace) -> None:
    client.drop_line(given.name)
    say(f"The line {given.name} is removed.")


def _demand(client: Client, given: argparse.Namespace) -> None:
    if given.severity is None and given.proven is None:
        raise Invalid("Nothing is demanded.", advice="Give a severity, or --proven yes.")
    line = client.demand(given.name, given.severity, proven_first=given.proven and given.proven == "yes")
    emit_json(line) if given.json else out(f"{line.name} demands that {_demanded(line)}")


def _lineage(client: Client, given: argparse.Namespace) -> None:
    found = client.lineage(given.name)
    if given.json:
        return emit_json(found)
    rows = [
        *(("built on", b.reference, f"{b.newest} is out" if b.moved else "", "") for b in reversed(found.bases)),
        ("the line", found.newest or found.line, "", ""),
        *(
            (
                f"built on it{'.' * (b.depth - 1)}",
                b.reference,
                f"behind {b.base}" if b.behind else f"from {b.base}",
                b.sheet,
            )
            for b in found.built
        ),
    ]
    table(("", "version", "base", "sheet"), rows)
    if behind := sum(b.behind for b in found.built) + sum(b.moved for b in found.bases[:1]):
        say(f"{plural(behind, 'version')} {'is' if behind == 1 else 'are'} behind the base: build again.")
    return None


def _demanded(line: Line) -> str:
    accepted = f"findings of severity {line.demands} and above are accepted before a release"
    return f"{accepted}, and that checks have passed" if line.proven_first else accepted


def _list(client: Client, given: argparse.Namespace) -> None:
    lines = list(client.lines())
    if given.json:
        return emit_json(lines)
    table(
        ("line", "newest", "versions", "running", "about"),
        ((x.name, x.newest, x.versions, x.running, x.about) for x in lines),
    )


def _show(client: Client, given: argparse.Namespace) -> None:
    line = client.line(given.name)
    if given.json:
        return emit_json(line)
    facts(
        [
            ("line", f"{line.account}/{line.name}"),
            ("about", line.about),
            ("demands", _demanded(line)),
            ("newest", line.newest),
            ("versions", line.versions),
            ("running", line.running),
            ("created", line.created_at),
        ]
    )


def _set(client: Client, given: argparse.Namespace) -> None:
    reference = parse_reference(given.reference)
    if reference.number is None:
        raise Invalid(f"{given.reference!r} names no version by number.", advice="Write line@1.4.0.")
    mark = client.set_mark(reference.line, given.mark, reference.number)
    emit_json(mark) if given.json else out(f"{reference.line}@{mark.name} -> {mark.number}")


def _marks(client: Client, given: argparse.Namespace) -> None:
    marks = client.marks(given.line)
    if given.json:
        return emit_json(marks)
    table(
        ("mark", "points to", "moved", "by", "before"),
        (
            (
                m.name,
                m.number,
                m.history[0].moved_at if m.history else None,
                m.history[0].moved_by if m.history else None,
                ", ".join(h.number for h in m.history[1:5]),
            )
            for m in marks
        ),
    )


def _drop(client: Client, given: argparse.Namespace) -> None:
    client.drop_mark(given.line, given.mark)
    if given.json:
        emit_json({"dropped": given.mark})
