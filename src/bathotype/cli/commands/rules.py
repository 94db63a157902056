"""``rules`` and ``allowances``: who may launch what, and how many may run."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bathotype.cli.options import Subparsers, command, group, held_in, read_yaml
from bathotype.cli.output import emit_json, out, say, table
from bathotype.core.errors import Invalid
from bathotype.core.lifecycle.rules import LaunchRule
from bathotype.core.units import plural

if TYPE_CHECKING:
    from bathotype.client import Client
    from bathotype.wire.rules import Allowance, AllowanceKind


def register(parsers: Subparsers) -> None:
    """Add the commands."""
    inner = group(parsers, "rules", "launch rules: who may launch what")
    command(inner, "list", _list, "list the rules that apply to this account", examples="  bathotype rules list")
    parser = command(
        inner,
        "set",
        _set,
        "set rules from a YAML file",
        examples="  bathotype rules set quay-rules.yaml\n  bathotype rules set everywhere.yaml --all",
    )
    parser.add_argument("file", metavar="FILE", help="one rule, or a list under `rules:`; see docs/launch-rules.md")
    parser.add_argument(
        "--all", action="store_true", help="for every account; only stewards of the hosting account may do this"
    )
    parser = command(inner, "remove", _remove, "remove a rule", examples="  bathotype rules remove fresh-gauges")
    parser.add_argument("name")
    parser.add_argument("--all", action="store_true", help="a rule for every account")
    parser = command(
        inner,
        "explain",
        _explain,
        "show each rule's verdict on a launch, and what would satisfy it",
        examples="  bathotype rules explain tide-core/gauge-collector@1.0.0 --region fjord-2",
    )
    parser.add_argument("reference", metavar="REF")
    parser.add_argument("--region", required=True)
    parser.add_argument("--for", dest="who", metavar="ACCOUNT", help="who would launch (default: you)")
    parser.add_argument("--tag", action="append", metavar="KEY", help="a tag that the launch would carry")

    inner = group(parsers, "allowances", "how many instances may run")
    command(
        inner,
        "list",
        _allowances,
        "list allowances and how much of each is in use",
        examples="  bathotype allowances list",
    )
    parser = command(
        inner,
        "set",
        _allow,
        "set how many instances may run of a line, a version, a pool of lines, or in this account",
        examples="  bathotype allowances set surge-licences --pool surge-model,surge-model-lite --most 40\n"
        "  bathotype allowances set quays --line gauge-collector --consumer harbour-watch --most 200",
    )
    parser.add_argument("name")
    subject = parser.add_mutually_exclusive_group(required=True)
    subject.add_argument("--line")
    subject.add_argument("--version", metavar="REF")
    subject.add_argument("--pool", metavar="LINE[,...]", help="lines that share licences")
    subject.add_argument("--own", action="store_true", help="all that this account runs")
    parser.add_argument("--consumer", metavar="ACCOUNT", help="count this account's instances only")
    parser.add_argument("--most", type=int, required=True)
    parser = command(inner, "remove", _disallow, "remove an allowance", examples="  bathotype allowances remove quays")
    parser.add_argument("name")


def _list(client: Client, given: argparse.Namespace) -> None:
    rows = client.rules()
    if given.json:
        return emit_json(rows)
    table(
        ("rule", "effect", "holds for", "applies to", "demands", "exceptions", "set by"),
        (
            (
                r.rule.name, r.rule.effect, r.holds_for or "every account", r.rule.applies_to, _demands(r.rule),
                ", ".join(f"{e.name} until {e.until}" for e in r.rule.exceptions), r.set_by,
            )
            for r in rows
        ),
        empty="No rules: whatever one may see, one may launch.",
    )  # fmt: skip
    return None


def _demands(rule: LaunchRule) -> str:
    given = rule.model_dump(exclude_defaults=True, exclude={"name", "effect", "applies_to", "exceptions"})
    days = given.pop("no_older_than_days", None)
    age = [f"not older than {plural(days, 'day')}"] if days is not None else []
    return "; ".join(
        age
        + [
            name.replace("_", " ")
            if value is True
            else f"{name.replace('_', ' ')} {', '.join(value) if isinstance(value, list) else value}"
            for name, value in given.items()
        ]
    )


def _set(client: Client, given: argparse.Namespace) -> None:
    data = read_yaml(given.file)
    items = data["rules"] if isinstance(data, dict) and "rules" in data else [data]
    if not isinstance(items, list) or not items:
        raise Invalid(f"{given.file} holds no rules.", advice="See docs/launch-rules.md.")
    rules = [held_in(given.file, LaunchRule, item, "launch rule", "docs/launch-rules.md") for item in items]
    done = [client.set_rule(rule, for_all=given.all) for rule in rules]
    if given.json:
        return emit_json(done)
    for row in done:
        out(f"{row.rule.name} holds for {row.holds_for or 'every account'}")
    return None


def _remove(client: Client, given: argparse.Namespace) -> None:
    client.drop_rule(given.name, for_all=given.all)
    emit_json({"removed": given.name}) if given.json else out(f"{given.name} removed")


def _explain(client: Client, given: argparse.Namespace) -> int:
    found = client.explain(given.reference, given.region, account=given.who, tags=given.tag)
    if given.json:
        emit_json(found)
    else:
        table(
            ("rule", "holds for", "verdict", "why", "what to do"),
            (
                (
                    v.rule,
                    v.holds_for or "every account",
                    v.outcome,
                    " ".join(r[:1].upper() + r[1:] for r in v.reasons),
                    " ".join(v.need),
                )
                for v in found.verdicts
            ),
            empty="No rules.",
        )
        for text in found.blockers:
            say(f"obstacle: {text}", style="red")
        admitted = "may launch" if found.admitted else "may not launch"
        out(f"{found.account} {admitted} {found.reference} in {found.region}.")
    return 0 if found.admitted else 4


def _allowances(client: Client, given: argparse.Namespace) -> None:
    _show(client.allowances(), given)


def _show(rows: list[Allowance], given: argparse.Namespace) -> None:
    if given.json:
        return emit_json(rows)
    table(
        ("allowance", "of", "counts", "subject", "consumer", "in use"),
        ((a.name, a.account, a.kind, a.subject, a.consumer or "all", f"{a.used} of {a.most}") for a in rows),
        empty="No allowances.",
    )
    return None


def _allow(client: Client, given: argparse.Namespace) -> None:
    kind: AllowanceKind = "line" if given.line else "version" if given.version else "pool" if given.pool else "account"
    made = client.set_allowance(
        given.name, kind=kind, line=given.line, version=given.version,
        lines=given.pool.split(",") if given.pool else None, consumer=given.consumer, most=given.most,
    )  # fmt: skip
    _show([made], given) if not given.json else emit_json(made)


def _disallow(client: Client, given: argparse.Namespace) -> None:
    client.drop_allowance(given.name)
    emit_json({"removed": given.name}) if given.json else out(f"{given.name} removed")
