"""Every mistake is answered with what is wrong and what to do, and with the exit code of its kind."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from tests.cli.conftest import Cli
from tests.office import OWNER, Office
from tests.support import command_line


@pytest.fixture(scope="module")
def shared(shared_office: Office) -> Iterator[Cli]:
    """The command line of an account that has one version."""
    shared_office.version("gauge@1.0.0")
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("bathotype.cli.main.connect", lambda given: shared_office.client(OWNER))
        yield command_line


@pytest.mark.parametrize(
    ("argv", "code", "told"),
    [
        (["versions", "show", "gauge-nothing@1.0.0"], 3, "no line"),
        (["machines", "show", "ghost"], 3, "no machine"),
        (["launch", "gauge-collector"], 2, "--region"),
        (["launch", "none@1.0.0", "--region", "atlantis"], 3, "no line"),
        (["sunset", "gauge-collector@1.0.0", "--until", "soon"], 2, "not a date"),
        (["capture", "gauge-seed-01", "--line", "x", "--profile", "./none.yaml"], 2, "cannot be read"),
        (["capture", "gauge-seed-01", "--line", "x", "--number", "one"], 3, "no machine"),
        (["operations", "show", "op-none"], 3, "no operation"),
        (["serve", "--tenancy", "x"], 2, "unrecognized"),
        (["packages"], 2, "No version is named. Give one, or --which PACKAGE."),
        (["versions", "hold", "gauge@1.0.0", "--name", "audit"], 2, "A hold needs a reason. Give --reason TEXT."),
        (["instances", "stop"], 2, "Name them, or give a filter"),
        (["instances", "stop", "a", "--behind"], 2, "Names and a filter are given. Give one of them."),
        (
            ["operations", "list", "--find", "x"],
            2,
            "bathotype operations list: error: unrecognized arguments: --find x",
        ),
        (["--nothing", "lines", "list"], 2, "unrecognized arguments: --nothing"),
        (["members", "add", "x", "--role", "boss"], 2, "(choose from 'viewer', 'operator', 'steward')"),
        (
            ["auth", "tokens", "make", "x", "--verb", "dance"],
            2,
            "(choose from 'read', 'run', 'operate', 'share', 'rule',",
        ),
        (["instances", "list", "--state", "nothing"], 2, "not valid: state: must be 'pending', 'starting',"),
        (["auth", "tokens", "make", "x", "--days", "0"], 2, "days: must be more than 0."),
        (["first-boot", "show", "nothing"], 3, "There are no saved first-boot settings 'nothing'."),
        (["marks", "set"], 2, "the following arguments are required: REF, MARK"),
        (
            ["launch", "gauge", "--region", "skerry-1", "--tag", "owner=a", "--tag", "owner=b"],
            2,
            "owner is given twice. Give owner once: only one value can hold.",
        ),
        (["launch", "gauge", "--region", "skerry-1", "--tag", "=a"], 2, "'=a' is not KEY=VALUE."),
        (["marks", "set", "gauge", "stable"], 2, "names no version by number"),
        (["lines", "create", "\udcff"], 2, "holds what is no UTF-8. Give it in that encoding."),
        (["lines", "create", "Gauge"], 2, "Use lower-case letters, digits and single hyphens"),
        (["lines", "demand", "gauge"], 2, "Give a severity, or --proven yes."),
        (["share", "gauge"], 2, "Give --with ACCOUNT, or --publish for every account."),
        (["share", "gauge", "--with", "nobody"], 3, "There is no account 'nobody'."),
        (["share", "gauge", "--with", "tide-core"], 4, "An account needs no share of its own lines."),
        (["share", "gauge", "--with", "chart-house", "--until", "2020-01-01"], 2, "Give a later last day."),
        (["replicate", "gauge@1.0.0", "--to", "nowhere"], 3, "The regions are fjord-2, lagoon-3, skerry-1."),
        (["replicate", "gauge@1.0.0", "--to", "fjord-2:x"], 2, "is not REGION[:COPIES]"),
        (["versions", "verify", "gauge@1.0.0", "--region", "lagoon-3"], 4, "It is in skerry-1: use it there, or"),
        (
            ["launch", "gauge", "--region", "skerry-1", "--zone", "skerry-1z", "--name", "h"],
            4,
            "Its zones are skerry-1a",
        ),
        (["launch", "gauge", "--region", "skerry-1", "--name", "UPPER"], 2, "which is not a host name"),
        (
            ["launch", "gauge", "--region", "skerry-1", "--name", "h", "--extra-disk", "100"],
            2,
            "in whole sectors of 512",
        ),
        (
            ["launch", "gauge", "--region", "skerry-1", "--name", "h", "--subnet", "x"],
            4,
            "Its subnets are quays, office.",
        ),
        (
            ["launch", "gauge", "--region", "skerry-1", "--name", "h", "--count", "500"],
            4,
            "exceed the site's quota (0 of 400",
        ),
        (["capture", "m", "--line", "gauge", "--at", "yesterday"], 2, "Write such as 2026-12-01T02:00."),
        (["capture", "m"], 2, "A capture needs --line."),
        (["export", "gauge@1.0.0", "--to", "/tmp/out"], 2, "does not say which format to write"),
        (["export", "gauge@1.0.0", "--to", "s3://nowhere/x.raw"], 4, "may not export to the bucket 'nowhere'"),
        (
            ["import", "s3://nowhere/x.raw", "--line", "gauge", "--bump", "minor"],
            4,
            "may not read the bucket 'nowhere'",
        ),
        (["secrets", "set", "licence"], 2, "Type it, or send it to standard input."),
        (
            ["messages", "set", "p", "--url", "https://hooks.tide.example/"],
            2,
            "The operator names hosts in the regions file.",
        ),
        (["messages", "set", "p", "--mail", "a@tide.example"], 2, "This service sends no mail."),
        (["repositories", "connect", "o", "https://git.tide.example/x"], 2, "may not be read"),
        (["help", "words", "xyzzy"], 3, "`bathotype help words` lists them all."),
        (["alerts", "acknowledge", "x", "--reason", "a reason"], 3, "There is no alert 'x'."),
    ],
    ids=lambda value: " ".join(value)[:60] if isinstance(value, list) else "",
)
def test_a_mistake_is_answered_with_what_to_do(shared: Cli, argv: list[str], code: int, told: str) -> None:
    answer = shared(*argv)
    assert (answer.returncode, answer.stdout) == (code, ""), answer.stderr
    assert told in " ".join(answer.stderr.split()) and "Traceback" not in answer.stderr, answer.stderr
