"""``prove`` and ``checks``: whether versions and instances are as they should be."""

from __future__ import annotations

import argparse
from itertools import product
from pathlib import Path
from typing import TYPE_CHECKING

from bathotype.cli.options import Subparsers, command, group, reference, tags, tags_of
from bathotype.cli.output import emit_json, facts, follow, say, table
from bathotype.core.errors import FAILED, Invalid
from bathotype.core.units import plural

if TYPE_CHECKING:
    from bathotype.client import Client
    from bathotype.core.checks.check import Check
    from bathotype.wire.checks import CheckRun
    from bathotype.wire.operations import Operation


def register(parsers: Subparsers) -> None:
    """Add the commands."""
    parser = command(
        parsers,
        "prove",
        _prove,
        "judge a version by checks on a throwaway instance of it",
        examples="  bathotype prove gauge-collector@1.1.0 --checks gauge.checks.yaml\n"
        "  bathotype prove gauge-collector@1.1.0 --junit results.xml\n"
        "  bathotype prove gauge-collector --region skerry-1 --region fjord-2 --size lab-small --size lab-medium",
    )
    reference(parser)
    _given(parser)
    parser.add_argument(
        "--region", action="append", help="where it runs (default: where the version is); may be given several times"
    )
    parser.add_argument(
        "--size", action="append", help="machine size (default: the source machine's); may be given several times"
    )
    parser.add_argument("--ready", type=int, default=900, metavar="SECONDS", help="how long its first boot may take")
    tags(parser)

    inner = group(parsers, "checks", "runs of checks")
    parser = command(
        inner,
        "run",
        _run,
        "judge an instance that runs",
        examples="  bathotype checks run quay-01 --checks gauge.checks.yaml",
    )
    parser.add_argument("instance", help="its name or id")
    _given(parser)
    parser = command(
        inner, "list", _list, "list the runs of checks on a version and its instances",
        examples="  bathotype checks list gauge-collector@1.1.0",
    )  # fmt: skip
    reference(parser)
    parser = command(
        inner, "show", _show, "show a run and what was seen",
        examples="  bathotype checks show op-01a21acec4fc-5a0f64ac --junit results.xml",
    )  # fmt: skip
    parser.add_argument("operation", metavar="ID", help="the run's operation")
    parser.add_argument("--junit", metavar="FILE", help="write the results as JUnit XML")


def _given(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--checks", metavar="FILE", help="YAML with a list of checks (docs/checks.md; default: those of the last run)"
    )
    parser.add_argument("--junit", metavar="FILE", help="write the results as JUnit XML")


def _checks(given: argparse.Namespace) -> list[Check] | None:
    if given.checks is None:
        return None
    from bathotype.core.checks.check import read_checks

    try:
        return read_checks(Path(given.checks).read_text())
    except (OSError, UnicodeDecodeError) as error:
        raise Invalid(f"{given.checks} cannot be read.", advice="Name a file of checks.") from error


def _prove(client: Client, given: argparse.Namespace) -> int | None:
    """Judge it in each region with each size.  All begin at once, so that what cannot begin is known at once."""
    checks, tagged = _checks(given), tags_of(given)
    started = [
        client.prove(
            given.reference, checks=checks, region=region, machine_size=size, ready_seconds=given.ready, tags=tagged
        )
        for region, size in product(given.region or [None], given.size or [None])
    ]
    return _ended(client, started, given)


def _run(client: Client, given: argparse.Namespace) -> int | None:
    return _ended(client, [client.check_instance(given.instance, checks=_checks(given))], given)


def _ended(client: Client, started: list[Operation], given: argparse.Namespace) -> int | None:
    from bathotype.client import OperationFailed

    for operation in started:
        try:
            follow(client, operation, quiet=given.json)
        except OperationFailed as error:
            if error.code != "not-proven":
                raise
    return _shown([client.check_run(operation.id) for operation in started], given)


def _show(client: Client, given: argparse.Namespace) -> int | None:
    _shown([client.check_run(given.operation)], given)
    return None


def _shown(runs: list[CheckRun], given: argparse.Namespace) -> int | None:
    """Show runs of checks on one version or instance; returns the exit code."""
    if given.junit:
        from bathotype.core.checks.report import Judgement, junit

        found = [
            Judgement(f"{_place(run)}: {j.id}" if len(runs) > 1 else j.id, j.demands, j.passed, j.seconds, j.evidence)
            for run in runs
            for j in run.judgements
        ]
        Path(given.junit).write_text(junit(runs[0].reference, found))
    if given.json:
        emit_json(runs if len(runs) > 1 else runs[0])
    else:
        for run in runs:
            _one_shown(run)
    return 0 if all(run.passed for run in runs) else FAILED


def _place(run: CheckRun) -> str:
    return f"{run.machine_size} in {run.region}"


def _one_shown(run: CheckRun) -> None:
    facts(
        [
            ("version", run.reference),
            ("instance", run.instance or f"a throwaway one, {_place(run)}"),
            ("first boot", f"{run.boot_seconds:.1f} s" if run.boot_seconds is not None else None),
        ]
    )
    table(
        ("check", "result", "demands", "seen"),
        ((j.id, "pass" if j.passed else "failed", j.demands, j.evidence) for j in run.judgements),
    )
    failed = sum(not j.passed for j in run.judgements)
    if run.passed is None:
        say(f"The run is {run.state}.")
    elif failed:
        say(f"{plural(failed, 'check')} of {len(run.judgements)} did not pass.", style="red")
    else:
        say(f"All {plural(len(run.judgements), 'check')} passed.")


def _list(client: Client, given: argparse.Namespace) -> None:
    rows = list(client.check_runs(given.reference))
    if given.json:
        return emit_json(rows)
    table(
        ("run", "judged", "result", "checks", "region", "size", "at"),
        (
            (
                r.operation, r.instance or "throwaway", _result(r), len(r.judgements) or None, r.region,
                r.machine_size, r.at,
            )
            for r in rows
        ),
        empty="No check has been run.",
    )  # fmt: skip


def _result(run: CheckRun) -> str:
    return str(run.state) if run.passed is None else "pass" if run.passed else "failed"
