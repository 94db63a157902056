"""``sunset``, ``retire`` and ``purge``."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bathotype.cli.options import Subparsers, command, reference, until_of
from bathotype.cli.output import emit_json, follow, out, show_plan
from bathotype.core.errors import Invalid
from bathotype.core.units import iec

if TYPE_CHECKING:
    from bathotype.client import Client


def register(parsers: Subparsers) -> None:
    """Add the commands."""
    add_ends(parsers)


def add_ends(parsers: Subparsers) -> None:
    """Add the three commands, by themselves or below ``versions``."""
    parser = command(
        parsers,
        "sunset",
        _sunset,
        "warn at every launch of a version, until it is retired on a date",
        examples="  bathotype sunset gauge-collector@1.0.0 --until 2027-03-01\n"
        "  bathotype sunset gauge-collector@1.0.0 --until 2027-06-01\n"
        "  bathotype sunset gauge-collector@1.0.0 --lift",
    )
    reference(parser)
    parser.add_argument(
        "--until", metavar="DATE", help="YYYY-MM-DD; the version retires by itself on this date; a second time moves it"
    )
    parser.add_argument("--lift", action="store_true", help="take its end back: it is released again")
    parser.add_argument("--plan", action="store_true", help="show who runs it and what would happen; change nothing")
    parser = command(
        parsers,
        "retire",
        _retire,
        "refuse new launches of a version; its instances keep running",
        examples="  bathotype retire gauge-collector@1.0.0 --plan",
    )
    reference(parser)
    parser.add_argument("--plan", action="store_true", help="show who uses it and what would happen")
    parser = command(
        parsers,
        "purge",
        _purge,
        "delete the bytes of a retired version that nothing else needs, and keep its record",
        examples="  bathotype purge gauge-collector@1.0.0 --plan",
    )
    reference(parser)
    parser.add_argument("--plan", action="store_true", help="show obstacles and what would be removed; change nothing")
    parser.add_argument("--no-grace", action="store_true", help="do not wait for the grace period")


def _sunset(client: Client, given: argparse.Namespace) -> int:
    day = until_of(given)
    if given.lift and (day or given.plan):
        raise Invalid("--lift takes the end back: it has no date and no plan.", advice="Leave out --until and --plan.")
    if given.lift:
        v = client.release(given.reference)
        emit_json(v) if given.json else out(f"{v.reference} {v.state}")
        return 0
    if given.plan:
        return show_plan(client.sunset_plan(given.reference, retire_on=day), given)
    v = client.sunset(given.reference, retire_on=day)
    emit_json(v) if given.json else out(
        f"{v.reference} {v.state}{f', retires on {v.retire_on}' if v.retire_on else ''}"
    )
    return 0


def _retire(client: Client, given: argparse.Namespace) -> int:
    if given.plan:
        return show_plan(client.retirement_plan(given.reference), given)
    v = client.retire(given.reference)
    emit_json(v) if given.json else out(f"{v.reference} {v.state}")
    return 0


def _purge(client: Client, given: argparse.Namespace) -> int:
    if given.plan:
        return show_plan(client.purge_plan(given.reference, waive_grace=given.no_grace), given)
    done = follow(client, client.purge(given.reference, waive_grace=given.no_grace), quiet=given.json)
    emit_json(done) if given.json else out(
        f"{given.reference} purged, {iec((done.result or {}).get('freed_bytes', 0))} freed"
    )
    return 0
