"""Commands as they are typed: what they print on a pipe, what they refuse, and their exit codes."""

from __future__ import annotations

import argparse
import json
from collections.abc import Iterator
from importlib import import_module
from pathlib import Path

import pytest

from bathotype.cli.completion import attach
from bathotype.cli.main import COMMANDS, build_parser
from bathotype.core.words import table
from tests.cli.conftest import Cli
from tests.office import Office
from tests.support import command_line

RULES = """rules:
- {name: only-released, released_only: true, signed: true}
- {name: quays-only, applies_to: 'tide-core/*', regions: [fjord-2], tags: [berth]}
"""


def done(answer: object) -> str:
    """What a command printed that must have succeeded."""
    assert answer.returncode == 0, answer.stderr  # type: ignore[attr-defined]
    return str(answer.stdout)  # type: ignore[attr-defined]


def test_lines_versions_and_marks(office: Office, cli: Cli) -> None:
    done(cli("lines", "create", "by-hnd"))
    dropped = cli("lines", "drop", "by-hnd")
    assert (done(dropped), dropped.stderr.strip()) == ("", "The line by-hnd is removed.")
    assert done(cli("lines", "create", "by-hand", "--about", "for tests")) == "by-hand\n"
    assert done(cli("lines", "describe", "by-hand", "for the test")) == "by-hand\tfor the test\n"
    office.version("by-hand@1.0.0", release=False)
    assert done(cli("versions", "release", "by-hand@1.0.0")) == "by-hand@1.0.0 released\n"
    assert done(cli("marks", "set", "by-hand@1.0.0", "stable")) == "by-hand@stable -> 1.0.0\n"
    assert done(cli("lines", "list")) == "by-hand\t1.0.0\t1\t0\tfor the test\n"
    told = done(cli("resolve", "by-hand@stable", "--region", "skerry-1", "--format", "env"))
    assert "BATHOTYPE_REFERENCE=tide-core/by-hand@1.0.0" in told
    assert json.loads(done(cli("versions", "show", "by-hand@1.0.0", "--json")))["state"] == "released"
    assert "openssl\t" in done(cli("packages", "by-hand@1.0.0"))
    assert "by-hand@1.0.0\treleased\topenssl" in done(cli("packages", "--which", "openssl"))


def test_launch_and_the_end_of_a_version(office: Office, cli: Cli, tmp_path: Path) -> None:
    office.version("ends@1.0.0")
    (tmp_path / "boot.yaml").write_text("domain: tide.example\nhost_name: 'h-{n}'\n")
    boot = ("--first-boot", str(tmp_path / "boot.yaml"))
    told = done(cli("launch", "ends", "--region", "skerry-1", "--count", "2", "--name", "hand-{n}", *boot))
    assert told.count("\trunning\t") == 2
    shown = done(cli("instances", "show", "hand-1"))
    assert "host name\th-1" in shown and "host key\tSHA256:" in shown
    assert done(cli("instances", "counts")) == "ends@1.0.0\treleased\t2 running\n"
    done(cli("versions", "hold", "ends@1.0.0", "--name", "audit", "--reason", "because of the audit"))
    done(cli("sunset", "ends@1.0.0", "--until", "2099-01-01"))
    assert "2 instances" in cli("retire", "ends@1.0.0", "--plan").stderr
    done(cli("retire", "ends@1.0.0"))
    refused = cli("purge", "ends@1.0.0")
    assert refused.returncode == 4 and "hold 'audit'" in refused.stderr and refused.stderr.count("\n") == 1
    assert "version.retired" in done(cli("events", "list", "--subject", "ends@1.0.0"))
    assert done(cli("events", "check")).startswith("whole")
    for name in ("hand-1", "hand-2"):
        assert done(cli("instances", "terminate", name)) == f"{name} terminated\n"
    done(cli("versions", "hold", "ends@1.0.0", "--name", "audit", "--lift"))
    assert "freed" in done(cli("purge", "ends@1.0.0", "--no-grace"))


def test_regions_and_shares(office: Office, cli: Cli) -> None:
    office.version("lent@1.0.0")
    assert "fjord-2\tready\tskerry-1" in done(cli("replicate", "lent@1.0.0", "--to", "fjord-2:2", "--multi-zone"))
    planned = done(cli("placement", "set", "lent", "--to", "skerry-1,fjord-2:3", "--plan"))
    assert "lent@1.0.0 in fjord-2: 2 copies over all zones now, 3 copies then." in planned
    refused = cli("share", "lent", "--publish")
    assert refused.returncode == 4 and "every account" in refused.stderr
    share = json.loads(done(cli("share", "lent", "--with", "harbour-watch", "--regions", "fjord-2", "--json")))["id"]
    assert "active" in done(cli("shares", "accept", share, account="harbour-watch"))
    told = cli("launch", "tide-core/lent", "--region", "skerry-1", "--name", "x", account="harbour-watch")
    assert told.returncode == 4 and "is not shared for skerry-1" in told.stderr
    done(cli("launch", "tide-core/lent", "--region", "fjord-2", "--name", "berth-1", account="harbour-watch"))
    assert done(cli("shares", "consumers", "lent")) == "harbour-watch\tlent@1.0.0\tfjord-2\t1\n"
    assert done(cli("calendar", account="harbour-watch")) == ""


def test_rules_are_set_explained_and_removed(office: Office, cli: Cli, tmp_path: Path) -> None:
    office.version("ruled@1.0.0")
    office.shared("ruled", "chart-house")
    sheet = tmp_path / "rules.yaml"
    sheet.write_text(RULES)
    done(cli("rules", "set", str(sheet), account="chart-house"))
    told = cli("rules", "explain", "tide-core/ruled@1.0.0", "--region", "skerry-1", account="chart-house")
    assert told.returncode == 4 and "only-released" in told.stdout and "pass" in told.stdout
    done(cli("allowances", "set", "few", "--pool", "ruled", "--most", "3"))
    assert "few\ttide-core\tpool\truled\tall\t0 of 3" in done(cli("allowances", "list"))


def test_the_help_names_every_command_as_its_module_does() -> None:
    found: dict[str, tuple[str, str]] = {}
    for module in {module for module, _ in COMMANDS.values()}:
        parsers = argparse.ArgumentParser().add_subparsers()
        import_module(f"bathotype.cli.commands.{module}").register(parsers)
        found |= {action.dest: (module, str(action.help)) for action in parsers._choices_actions}
    assert found == COMMANDS


def test_what_there_is_to_choose_from(office: Office, cli: Cli) -> None:
    assert "skerry-1\tanswers\tskerry-1a, skerry-1b" in done(cli("regions", "list"))
    assert "machines boot by\tbios\n" in done(cli("regions", "show", "lagoon-3"))
    assert "fjord-2\tlarge\t8\t16.0 GiB" in done(cli("regions", "sizes"))
    assert "skerry-1\tlagoon-3\t95 ms\tnone\tnot yet" in done(cli("regions", "links"))
    assert done(cli("regions", "buckets")) == ""
    assert "linux\t" in done(cli("profiles", "list"))
    assert "Clones with one host key" in done(cli("profiles", "show", "linux"))
    assert "vdi\t.vdi\t\tyes" in done(cli("formats")) and "ova\t.ova\tyes\tyes" in done(cli("formats"))
    assert "sunset\tThe state of a version whose end is announced" in done(cli("help", "words", "sunset"))


def test_lists_for_programs(office: Office, cli: Cli) -> None:
    office.version("ends@1.0.0")
    office.version("ends@1.1.0")
    lines = done(cli("versions", "list", "ends", "--ndjson")).splitlines()
    assert [json.loads(line)["number"] for line in lines] == ["1.1.0", "1.0.0"]
    assert done(cli("versions", "list", "ends", "--header")).startswith("version\tstate\tmarks")
    sourced = done(cli("resolve", "ends", "--format", "env"))
    assert "export BATHOTYPE_REFERENCE=tide-core/ends@1.1.0\n" in sourced and "{" not in sourced


def test_purpose_and_proof_from_the_command_line(office: Office, cli: Cli, tmp_path: Path, demo_disk: Path) -> None:
    (tmp_path / "for.yaml").write_text("least: {processors: 2}\nexcluded_sizes: [large]\nlabels: {team: gauges}\n")
    office.core.create_line("piers")
    made = ("--purpose", str(tmp_path / "for.yaml"), "--until", "2099-01-01", "--region", "skerry-1")
    done(cli("import", str(demo_disk), "--line", "piers", "--number", "1.0.0", *made))
    told = done(cli("versions", "show", "piers@1.0.0"))
    for part in ("needs at least\t2 processors", "not for sizes\tlarge", "labels\tteam=gauges", "retires on\t2099-01-01",
                 "boots by\tbios", "can drive\tsata, virtio-blk, virtio-net"):  # fmt: skip
        assert part in told, part
    assert "with no end date" in done(cli("versions", "until", "piers@1.0.0", "never"))
    sheet = done(cli("versions", "proof", "piers@1.0.0"))
    assert "SSH host keys\t4 paths" in sheet and "ssh-host-keys: 4 removed\tnothing\tgone" in sheet
    done(cli("versions", "proof", "piers@1.0.0", "--to", str(tmp_path / "proof.html")))
    page = (tmp_path / "proof.html").read_text()
    assert page.startswith("<!doctype html>") and "Proof sheet of piers@1.0.0" in page and "<script" not in page
    (tmp_path / "wrong.yaml").write_text("least: {processors: none}\ncolour: red\n")
    refused = cli("versions", "purpose", "piers@1.0.0", str(tmp_path / "wrong.yaml"))
    assert refused.returncode == 2 and "least.processors" in refused.stderr and "colour" in refused.stderr


def test_the_list_of_words_is_the_docs() -> None:
    assert table() in Path("docs/words.md").read_text()


def commands_of(parser: argparse.ArgumentParser, name: str = "") -> Iterator[tuple[str, argparse.ArgumentParser]]:
    inner = [action for action in parser._actions if isinstance(action, argparse._SubParsersAction)]
    if not inner:
        yield name, parser
    for action in inner:
        for word, below in action.choices.items():
            yield from commands_of(below, f"{name} {word}".strip())


@pytest.mark.parametrize("word", [word for word in COMMANDS if word not in ("standin", "lab")])
def test_every_command_shows_an_example_and_says_what_each_option_is(word: str) -> None:
    seen = [(name, parser) for name, parser in commands_of(build_parser(word)) if name.partition(" ")[0] == word]
    assert seen
    for name, parser in seen:
        assert parser.epilog and "bathotype " in parser.epilog, name
        for action in parser._actions:
            assert action.help, f"{name}: {action.option_strings or action.dest}"


def test_the_account_may_be_named_before_the_command_and_versions_end_below_versions(
    office: Office, cli: Cli, monkeypatch: pytest.MonkeyPatch
) -> None:
    office.version("ends@1.0.0")
    assert "2099-01-01" in done(cli("versions", "sunset", "ends@1.0.0", "--until", "2099-01-01"))
    assert done(cli("versions", "sunset", "ends@1.0.0", "--lift")) == "ends@1.0.0 released\n"
    assert "retired" in done(cli("versions", "retire", "ends@1.0.0"))
    asked: list[str] = []

    def connect(given: argparse.Namespace) -> object:
        asked.append(given.acting_as or given.account_first)
        return office.client("harbour-watch")

    monkeypatch.setattr("bathotype.cli.main.connect", connect)
    assert command_line("--account", "harbour-watch", "lines", "list").returncode == 0
    assert command_line("lines", "list", "--account", "chart-house").returncode == 0
    assert asked == ["harbour-watch", "chart-house"]


def test_a_shell_is_offered_the_names_there_are_and_nothing_where_nobody_answers(
    office: Office, monkeypatch: pytest.MonkeyPatch
) -> None:
    office.version("gauge@1.0.0")
    parser = build_parser("versions")
    attach(parser)
    show = next(below for name, below in commands_of(parser) if name == "versions show")
    offer = next(action.completer for action in show._actions if action.dest == "reference")  # type: ignore[attr-defined]
    monkeypatch.setenv("BATHOTYPE_URL", "http://127.0.0.1:9")
    monkeypatch.setenv("BATHOTYPE_TOKEN", "of nobody")
    assert offer("ga", argparse.Namespace()) == []
    monkeypatch.setattr("bathotype.client.Client.from_environment", lambda **_: office.core)
    assert offer("ga", argparse.Namespace()) == ["gauge"]
    assert offer("gauge@", argparse.Namespace()) == ["gauge@1.0.0"]
