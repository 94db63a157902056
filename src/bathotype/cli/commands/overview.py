"""``today``, ``offers`` and ``storage``: what needs somebody, what can be done, and what is stored."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bathotype.cli.options import Subparsers, command
from bathotype.cli.output import emit_json, out, say, table
from bathotype.core.lifecycle.references import parse_reference
from bathotype.core.lifecycle.sentences import text_of
from bathotype.core.units import iec, plural

if TYPE_CHECKING:
    from bathotype.client import Client


def register(parsers: Subparsers) -> None:
    """Add the commands."""
    command(
        parsers,
        "today",
        _today,
        "show what needs you, what goes on, and which dates come near",
        examples="  bathotype today",
    )
    parser = command(
        parsers,
        "offers",
        _offers,
        "show what can be done with a line or a version now, and why not",
        examples="  bathotype offers gauge-collector\n  bathotype offers gauge-collector@1.2.0",
    )
    parser.add_argument("reference", metavar="REF", help="a line, or a version")
    command(
        parsers,
        "storage",
        _storage,
        "show the bytes that each line needs of each region's store",
        examples="  bathotype storage",
    )


def _storage(client: Client, given: argparse.Namespace) -> None:
    stored = client.storage()
    if given.json:
        return emit_json(stored)
    rows = [s for s in stored.series if s.alone]
    table(
        ("region", "line", "needed by it alone", "shared with others", "on the first day"),
        (
            (s.region, s.line or "all", iec(s.alone[-1]), iec(s.shared[-1]), iec(s.alone[0] + s.shared[0]))
            for s in sorted(rows, key=lambda s: (s.region, s.line is None, s.line or ""))
        ),
        empty="Nothing has been measured yet; the stores are measured once a day.",
    )
    if stored.measured_at:
        say(
            f"Measured {stored.measured_at:%Y-%m-%d %H:%M} UTC; compressed bytes; {plural(len(stored.days), 'day')} on record."
        )


def _today(client: Client, given: argparse.Namespace) -> None:
    now = client.overview()
    if given.json:
        return emit_json(now)
    out(text_of(now.sentence))
    if now.needs:
        out()
        table(("what", "why", "next"), ((n.title, n.detail, n.step) for n in now.needs))
    if now.running_operations:
        out()
        rows = ((o.id, o.kind, o.subject, f"{o.percent:.0f}%") for o in now.running_operations)
        table(("operation", "kind", "subject", "done"), rows)
    if now.dates:
        out()
        table(
            ("retires on", "version", "running", "of others"),
            (
                (d.retire_on, d.reference, d.running, ", ".join(f"{n} of {who}" for who, n in d.elsewhere.items()))
                for d in now.dates
            ),
        )


def _offers(client: Client, given: argparse.Namespace) -> None:
    exact = parse_reference(given.reference).exact
    seen = client.version_overview(given.reference) if exact else client.line_overview(given.reference)
    if given.json:
        return emit_json({"sentence": text_of(seen.sentence), "offers": seen.offers})
    out(text_of(seen.sentence))
    out()
    table(
        ("what", "now", "what it would do, or why not"),
        ((offer.title, "yes" if offer.possible else "no", " ".join(offer.says)) for offer in seen.offers),
    )
