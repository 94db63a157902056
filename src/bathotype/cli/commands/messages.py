"""``messages``: who is notified of events, by webhook or mail."""

from __future__ import annotations

import argparse
import time
from itertools import islice
from typing import TYPE_CHECKING

from bathotype.cli.options import Subparsers, command, group
from bathotype.cli.output import emit_json, facts, out, say, table
from bathotype.core.errors import FAILED

if TYPE_CHECKING:
    from bathotype.client import Client
    from bathotype.wire.subscriptions import Subscription

_TEST_SECONDS = 45.0


def register(parsers: Subparsers) -> None:
    """Add the commands."""
    inner = group(parsers, "messages", "who is notified of events, by webhook or mail")
    command(inner, "list", _list, "list subscriptions", examples="  bathotype messages list")
    parser = command(
        inner, "set", _set, "notify a webhook, or people by mail, of events from now on",
        examples="  bathotype messages set pipeline --url https://hooks.tide.example/images --event version.released\n"
        "  bathotype messages set night-watch --mail watch@tide.example --event operation.failed --event 'alert.*'",
    )  # fmt: skip
    _name(parser)
    where = parser.add_mutually_exclusive_group(required=True)
    where.add_argument("--url", help="a webhook: CloudEvents are sent there, signed with a key that is shown once")
    where.add_argument("--mail", action="append", metavar="ADDRESS", help="a mail address; may be repeated")
    parser.add_argument(
        "--event", action="append", default=[], metavar="ACTION",
        help="version.released, version.*, or * for every event; may be repeated; without it: what build sheets name it for",
    )  # fmt: skip
    parser.add_argument(
        "--line",
        action="append",
        default=[],
        metavar="NAME",
        help="only events about this line or sheet; may be repeated",
    )
    parser = command(
        inner, "show", _show, "show a subscription and its last messages",
        examples="  bathotype messages show pipeline",
    )  # fmt: skip
    _name(parser)
    parser.add_argument("--state", choices=("pending", "delivered", "given-up"), help="only messages in this state")
    parser.add_argument("--most", type=int, default=20, help="how many messages (default: 20)")
    parser = command(
        inner, "test", _test, "send a test message, and show the outcome",
        examples="  bathotype messages test pipeline",
    )  # fmt: skip
    _name(parser)
    for verb, about in (
        ("pause", "pause a subscription: no messages are sent"),
        ("resume", "resume it: events since the pause are sent first"),
    ):
        parser = command(inner, verb, _pause, about, examples=f"  bathotype messages {verb} pipeline")
        parser.set_defaults(paused=verb == "pause")
        _name(parser)
    parser = command(
        inner, "drop", _drop, "remove a subscription, with its messages that are not delivered yet",
        examples="  bathotype messages drop pipeline",
    )  # fmt: skip
    _name(parser)


def _name(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="NAME", help="the subscription's name")


def _to(one: Subscription) -> str:
    return one.url or ", ".join(one.mail_to or ())


def _state(one: Subscription) -> str:
    if one.paused:
        return "paused"
    return one.answer or (f"{one.pending} pending" if one.pending else "all delivered")


def _list(client: Client, given: argparse.Namespace) -> None:
    rows = client.subscriptions()
    if given.json:
        return emit_json(rows)
    table(
        ("name", "to", "events", "lines", "delivered last", "state"),
        ((s.name, _to(s), ", ".join(s.events), ", ".join(s.lines), s.delivered_at, _state(s)) for s in rows),
        empty="There are no subscriptions.",
    )


def _set(client: Client, given: argparse.Namespace) -> None:
    made = client.subscribe(given.name, events=given.event, url=given.url, mail_to=given.mail, lines=given.line)
    if given.json:
        return emit_json(made)
    out(f"{made.name} is notified of {', '.join(made.events) or 'what build sheets name it for'}")
    if made.key:
        say("Its messages are signed with this key, which is shown this once:")
        out(made.key)
    say(f"Next: `bathotype messages test {made.name}`")


def _show(client: Client, given: argparse.Namespace) -> None:
    one = client.subscription(given.name)
    rows = list(islice(client.deliveries(given.name, state=given.state), given.most))
    if given.json:
        return emit_json(
            {"subscription": one.model_dump(mode="json"), "messages": [r.model_dump(mode="json") for r in rows]}
        )
    facts(
        [
            ("name", one.name),
            ("to", _to(one)),
            ("events", ", ".join(one.events)),
            ("lines", ", ".join(one.lines) or None),
            ("set by", one.made_by),
            ("delivered", one.delivered_at),
            ("state", _state(one)),
        ]
    )
    table(
        ("event", "what", "about", "state", "attempts", "answer", "next"),
        ((r.event, r.action, r.subject, r.state, r.attempts, r.answer, r.next_at) for r in rows),
        empty="No message was sent yet.",
    )


def _test(client: Client, given: argparse.Namespace) -> int | None:
    sent = client.test_subscription(given.name)
    ends = time.monotonic() + _TEST_SECONDS
    while sent.attempts == 0 and time.monotonic() < ends:
        time.sleep(0.5)
        sent = next((one for one in islice(client.deliveries(given.name), 50) if one.id == sent.id), sent)
    if given.json:
        emit_json(sent)
    elif sent.state == "delivered":
        out(f"{given.name} has taken it")
    elif sent.attempts:
        say(f"{given.name} did not take it: {sent.answer}. It is sent again.", style="red")
    else:
        say(f"It was not sent within {_TEST_SECONDS:.0f} s: does a worker run?", style="red")
    return None if sent.state == "delivered" else FAILED


def _pause(client: Client, given: argparse.Namespace) -> None:
    one = client.pause_subscription(given.name, given.paused)
    emit_json(one) if given.json else out(f"{one.name} is {'paused' if one.paused else 'told again'}")


def _drop(client: Client, given: argparse.Namespace) -> None:
    client.unsubscribe(given.name)
    emit_json({"removed": given.name}) if given.json else out(f"{given.name} is removed")
