"""``share``, ``shares``, ``adopt`` and ``calendar``: versions between accounts."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bathotype.cli.options import Subparsers, command, group, until_of
from bathotype.cli.output import confirm, emit_json, facts, follow, say, table
from bathotype.core.errors import Invalid
from bathotype.core.units import plural

if TYPE_CHECKING:
    from bathotype.client import Client
    from bathotype.wire.sharing import Share


def register(parsers: Subparsers) -> None:
    """Add the commands."""
    parser = command(
        parsers,
        "share",
        _share,
        "propose a line, or one version of it, to another account, which accepts or declines",
        examples="  bathotype share gauge-collector --with harbour-watch --regions fjord-2 --until 2027-06-30\n"
        "  bathotype share gauge-collector@1.0.0 --with chart-house --note 'for the trial'\n"
        "  bathotype share gauge-collector --publish --yes",
    )
    parser.add_argument("subject", metavar="LINE|REF", help="a line with all its releases, or line@1.4.0")
    parser.add_argument("--with", dest="consumer", metavar="ACCOUNT")
    parser.add_argument("--publish", action="store_true", help="share with every account, after a confirmation")
    parser.add_argument("--yes", action="store_true", help="do not ask for confirmation")
    parser.add_argument("--regions", metavar="REGION[,...]", help="share in these regions only (default: all)")
    parser.add_argument("--until", metavar="DATE", help="YYYY-MM-DD, its last day")
    parser.add_argument("--note", default="", metavar="TEXT")

    inner = group(parsers, "shares", "lines and versions shared with other accounts, and by them")
    parser = command(
        inner, "list", _list, "list shares from and to this account", examples="  bathotype shares list --ended"
    )
    parser.add_argument("--side", choices=("given", "taken", "inbox", "all"), default="all")
    parser.add_argument("--ended", action="store_true", help="also those that have ended or were declined")
    command(
        inner,
        "inbox",
        _inbox,
        "list shares that this account has not answered yet",
        examples="  bathotype shares inbox",
    )
    command(
        inner,
        "versions",
        _versions,
        "list versions of other accounts that this account may launch",
        examples="  bathotype shares versions",
    )
    parser = command(
        inner,
        "consumers",
        _consumers,
        "count the instances that other accounts run from a line",
        examples="  bathotype shares consumers gauge-collector",
    )
    parser.add_argument("line")
    for verb, about in (
        ("accept", "accept a share: its signatures are checked first"),
        ("decline", "decline a share"),
        ("end", "end a share, from either side: no new launches, and instances keep running"),
    ):
        parser = command(inner, verb, _decide, about, examples=f"  bathotype shares {verb} sh-01a210fc40db-06dda0a5")
        parser.add_argument("share", metavar="ID")
        parser.set_defaults(verb=verb)

    parser = command(
        parsers,
        "adopt",
        _adopt,
        "take a shared version over into a line of your own; no chunk is copied",
        examples="  bathotype adopt tide-core/gauge-collector@1.0.0 --line quay-gauge --number 1.0.0",
    )
    parser.add_argument("reference", metavar="REF", help="account/line@1.4.0")
    parser.add_argument("--line", required=True)
    parser.add_argument("--number")
    parser.add_argument("--bump", choices=("patch", "minor", "major"))
    parser.add_argument("--notes", default="")
    command(
        parsers,
        "calendar",
        _calendar,
        "list versions in sunset or retired that this account runs, with dates",
        examples="  bathotype calendar",
    )


def _share(client: Client, given: argparse.Namespace) -> None:
    if bool(given.consumer) == given.publish:
        raise Invalid("Share with whom?", advice="Give --with ACCOUNT, or --publish for every account.")
    if given.publish and not given.yes:
        confirm(f"This would let every account launch {given.subject}.")
    until = until_of(given)
    made = client.share(
        subject=given.subject, consumer=given.consumer, regions=given.regions.split(",") if given.regions else None,
        until=until, note=given.note, confirm_public=given.publish,
    )  # fmt: skip
    _tell(made, given)


def _tell(share: Share, given: argparse.Namespace) -> None:
    if given.json:
        return emit_json(share)
    facts(
        [
            ("share", share.id), ("state", share.state), ("from", share.owner), ("with", share.consumer or "every account"),
            ("of", share.subject), ("regions", ", ".join(share.regions or []) or "all"), ("until", share.until),
            ("note", share.note), ("running", plural(share.running, "instance")),
        ]
    )  # fmt: skip
    for warning in share.warnings:
        say(f"warning: {warning}", style="dark_orange3")
    return None


def _show(rows: list[Share], given: argparse.Namespace, empty: str) -> None:
    if given.json:
        return emit_json(rows)
    table(
        ("share", "state", "from", "of", "with", "regions", "until", "running", "note"),
        (
            (
                s.id, "expired" if s.expired else s.state, s.owner, s.subject, s.consumer or "every account",
                ", ".join(s.regions or []) or "all", s.until, s.running, s.note,
            )
            for s in rows
        ),
        empty=empty,
    )  # fmt: skip
    return None


def _list(client: Client, given: argparse.Namespace) -> None:
    _show(client.shares(given.side, ended=given.ended), given, "No shares.")


def _inbox(client: Client, given: argparse.Namespace) -> None:
    _show(client.shares("inbox"), given, "Nothing waits for you.")


def _versions(client: Client, given: argparse.Namespace) -> None:
    rows = client.shared_versions()
    if given.json:
        return emit_json(rows)
    table(
        ("version", "state", "regions", "released", "retires on", "running"),
        ((v.reference, v.state, ", ".join(v.regions), v.released_at, v.retire_on, v.running) for v in rows),
        empty="Nothing is shared with this account.",
    )
    return None


def _consumers(client: Client, given: argparse.Namespace) -> None:
    rows = client.consumers(given.line)
    if given.json:
        return emit_json(rows)
    table(
        ("account", "version", "region", "running"),
        ((c.account, f"{given.line}@{c.version}", c.region, c.running) for c in rows),
        empty="No other account runs anything from it.",
    )
    return None


def _decide(client: Client, given: argparse.Namespace) -> None:
    calls = {"accept": client.accept_share, "decline": client.decline_share, "end": client.end_share}
    _tell(calls[given.verb](given.share), given)


def _adopt(client: Client, given: argparse.Namespace) -> None:
    started = client.adopt(given.reference, line=given.line, number=given.number, bump=given.bump, notes=given.notes)
    done = follow(client, started, quiet=given.json)
    result = done.result or {}
    if given.json:
        return emit_json(done)
    facts([("adopted", result["reference"]), ("from", result["origin"]), ("regions", ", ".join(result["regions"]))])
    say(f"Next: `bathotype versions release {result['reference']}`")
    return None


def _calendar(client: Client, given: argparse.Namespace) -> None:
    rows = client.calendar()
    if given.json:
        return emit_json(rows)
    table(
        ("version", "state", "running", "since", "retires on", "newest", "notice"),
        (
            (
                d.reference,
                d.state,
                d.running,
                d.sunset_on,
                d.retire_on if d.state == "sunset" else None,
                d.newest,
                d.notice,
            )
            for d in rows
        ),
        empty="This account runs no version that is in sunset or retired.",
    )
    return None
