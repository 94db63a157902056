"""``operations``, ``events`` and ``alerts``."""

from __future__ import annotations

import argparse
import sys
from itertools import islice
from typing import TYPE_CHECKING

from bathotype.cli.options import Subparsers, command, group
from bathotype.cli.output import emit_json, facts, follow, out, say, table
from bathotype.core.errors import Invalid
from bathotype.core.units import iec, plural, seconds

if TYPE_CHECKING:
    from bathotype.client import Client
    from bathotype.wire.operations import Operation


def register(parsers: Subparsers) -> None:
    """Add the commands."""
    inner = group(parsers, "operations", "durable pieces of work")
    parser = command(
        inner,
        "list",
        _list,
        "list operations, newest first",
        examples="  bathotype operations list --state failed\n  bathotype operations list --kind build --by tide-builder",
    )
    parser.add_argument("--state", choices=("queued", "running", "succeeded", "failed", "cancelled"))
    parser.add_argument("--kind", help="only operations of this kind, such as capture")
    parser.add_argument("--subject", help="only operations about this, such as a version")
    parser.add_argument("--by", metavar="USER", help="only those that this person or robot asked for")
    parser.add_argument(
        "--sort", choices=("started", "ended", "kind", "subject", "state", "by"), help="default: newest first"
    )
    parser.add_argument("--most", type=int, default=20, help="how many (default: 20)")
    for verb, handler, about in (
        ("show", _show, "show an operation's steps"),
        ("watch", _watch, "follow an operation to its end"),
        ("log", _log, "show an operation's log"),
        ("cancel", _cancel, "ask an operation to stop"),
        ("retry", _retry, "run a failed operation again"),
    ):
        example = f"  bathotype operations {verb} op-01a21acec4fc-5a0f64ac"
        command(inner, verb, handler, about, examples=example).add_argument("operation", metavar="ID")

    inner = group(parsers, "events", "the audit trail")
    parser = command(
        inner, "list", _events, "list events, newest first", examples="  bathotype events list --action version"
    )
    parser.add_argument("--subject")
    parser.add_argument("--action", help="an action, or its first part, such as 'version'")
    parser.add_argument("--most", type=int, default=30, help="how many (default: 30)")
    parser.add_argument("--csv", action="store_true", help="write all of them as CSV")
    command(inner, "check", _chain, "check that the audit trail is whole", examples="  bathotype events check")

    inner = group(parsers, "alerts", "conditions that need attention")
    parser = command(
        inner,
        "acknowledge",
        _acknowledge,
        "say that you have seen an alert; it stays raised until it is over",
        examples="  bathotype alerts acknowledge quay-01 --reason 'The quay was taken down.'",
    )
    parser.add_argument("alert", help="its id, or its subject where one alert is about it")
    parser.add_argument("--reason", default="", help="why it may be; kept with the alert and in the audit trail")
    parser = command(inner, "list", _alerts, "list open alerts", examples="  bathotype alerts list")
    parser.add_argument("--cleared", action="store_true", help="also those that were cleared")


def _list(client: Client, given: argparse.Namespace) -> None:
    found = client.operations(
        state=given.state,
        kind=given.kind,
        subject=given.subject,
        by=given.by,
        sort=given.sort,
        limit=min(given.most, 500),
    )
    rows = list(islice(found, given.most))
    if given.json:
        return emit_json(rows)
    table(
        ("operation", "kind", "subject", "state", "done", "took", "started"),
        ((o.id, o.kind, o.subject, o.state, f"{o.percent:.0f}%", _took(o), o.started_at) for o in rows),
        empty="No operations.",
    )


def _took(o: Operation) -> str:
    return seconds((o.ended_at - o.started_at).total_seconds()) if o.started_at and o.ended_at else ""


def _show(client: Client, given: argparse.Namespace) -> None:
    o = client.operation(given.operation)
    if given.json:
        return emit_json(o)
    facts(
        [
            ("operation", o.id),
            ("kind", o.kind),
            ("subject", o.subject),
            ("state", o.state),
            ("done", f"{o.percent:.0f}%"),
            ("begins at", o.start_at if o.state == "queued" else None),
            ("attempts", o.attempts),
            ("by", o.created_by),
            ("why", o.error.message if o.error else None),
            ("what to do", o.error.advice if o.error else None),
            ("took", _took(o)),
        ]
    )
    table(
        ("step", "state", "bytes", "took"),
        (
            (
                s.title,
                s.state,
                iec(s.bytes_done) if s.bytes_total > 1024 else "",
                seconds((s.ended_at - s.started_at).total_seconds()) if s.started_at and s.ended_at else "",
            )
            for s in o.steps
        ),
    )


def _watch(client: Client, given: argparse.Namespace) -> None:
    done = follow(client, client.operation(given.operation), quiet=given.json)
    emit_json(done) if given.json else out(f"{done.id} {done.state}")


def _log(client: Client, given: argparse.Namespace) -> None:
    lines = client.operation_log(given.operation)
    if given.json:
        return emit_json(lines)
    table(("at", "level", "text"), ((x.at, x.level, x.text) for x in lines), empty="Its log is empty.")


def _cancel(client: Client, given: argparse.Namespace) -> None:
    o = client.cancel(given.operation)
    emit_json(o) if given.json else say("It stops at the next safe point and cleans up.")


def _retry(client: Client, given: argparse.Namespace) -> None:
    o = client.retry(given.operation)
    emit_json(o) if given.json else out(f"{o.id} {o.state}")


def _events(client: Client, given: argparse.Namespace) -> None:
    if given.csv or given.ndjson:
        for piece in client.events_file("csv" if given.csv else "ndjson", subject=given.subject, action=given.action):
            sys.stdout.buffer.write(piece)
        return None
    found = client.events(subject=given.subject, action=given.action, limit=min(given.most, 500))
    rows = list(islice(found, given.most))
    if given.json:
        return emit_json(rows)
    table(
        ("at", "actor", "action", "subject", "change"),
        ((e.at, e.actor, e.action, e.subject, _change(e.before, e.after)) for e in rows),
        empty="No events.",
    )


def _change(before: dict[str, object] | None, after: dict[str, object] | None) -> str:
    parts = []
    for key, value in (after or {}).items():
        old = (before or {}).get(key)
        if value is not None and key not in ("operation", "instance", "content_digest"):
            parts.append(f"{key} {_plain(old)} -> {_plain(value)}" if old is not None else f"{key} {_plain(value)}")
    return ", ".join(parts)


def _plain(value: object) -> str:
    if isinstance(value, list):
        return ", ".join(map(_plain, value))
    if isinstance(value, dict):
        return ":".join(str(v) for v in value.values())
    return str(value)


def _chain(client: Client, given: argparse.Namespace) -> int:
    found = client.event_chain()
    if given.json:
        emit_json(found)
    elif found.whole:
        out(f"whole: every event follows from the one before; {plural(found.events, 'event')}, the last is {found.end}")
    else:
        for event in found.broken_at[:1]:
            say(f"broken at event {event}", style="red")
        if found.missing:
            say(found.missing, style="red")
    return 0 if found.whole else 1


def _acknowledge(client: Client, given: argparse.Namespace) -> None:
    alert = client.acknowledge(_alert_id(client, given.alert), reason=given.reason)
    emit_json(alert) if given.json else out(f"{alert.kind} of {alert.subject} acknowledged by {alert.acknowledged_by}")


def _alert_id(client: Client, named: str) -> str:
    """The id of the open alert about a subject; an id as it is."""
    about = [a.id for a in client.alerts() if named in (a.subject, a.subject.partition(" in ")[0])]
    if len(about) > 1:
        raise Invalid(f"Several alerts are about {named}.", advice="Name one by its id: `bathotype alerts list`.")
    return about[0] if about else named


def _alerts(client: Client, given: argparse.Namespace) -> None:
    rows = client.alerts(cleared=given.cleared)
    if given.json:
        return emit_json(rows)
    table(
        ("raised", "kind", "subject", "what", "cleared", "seen by", "alert"),
        ((a.raised_at, a.kind, a.subject, a.text, a.cleared_at, a.acknowledged_by, a.id) for a in rows),
        empty="No alerts.",
    )
