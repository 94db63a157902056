"""The HTTP API and the command line as their users meet them."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import pytest

from tests.support import System, e2fsck


def test_a_service_that_is_away_is_waited_for_and_it_is_said_once(system: System) -> None:
    environment = {
        "BATHOTYPE_URL": system.url,
        "BATHOTYPE_TOKEN": system.secrets["api"]["tide-core"],
        "PATH": "/usr/bin",
        "BATHOTYPE_PATIENCE": "soon",
    }
    command = [sys.executable, "-m", "bathotype.cli.main", "machines", "list"]
    done = subprocess.run(command, env=environment, capture_output=True, text=True, check=False)
    assert done.returncode == 2 and "'soon', which is no number of seconds" in done.stderr
    environment["BATHOTYPE_PATIENCE"] = "300"  # real guests may boot beside, and hold the service up
    system.kill("serve")
    asking = subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    assert asking.stderr is not None
    told = asking.stderr.readline().rstrip()  # it is known to wait
    system.revive()
    out, errors = asking.communicate(timeout=300)
    assert asking.returncode == 0 and "gauge-seed-01" in out and not errors
    assert told.startswith("bathotype: The service at") and told.endswith("Trying again.")


def test_the_command_line_does_the_whole_job(cli, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    def ok(*argv: str) -> str:
        done = cli(*argv)
        assert done.returncode == 0, done.stderr
        return str(done.stdout)

    assert "gauge-seed-01\tskerry-1\tskerry-1a\trunning" in ok("machines", "list")
    assert "warning\tupdates\t3 package updates" in ok("machines", "inspect", "gauge-seed-01")
    ok("lines", "create", "by-hand", "--about", "for the test")
    planned = ok("capture", "gauge-seed-01", "--line", "by-hand", "--plan")
    assert "histories\tremove\t/home/mara/.bash_history" in planned
    assert json.loads(ok("capture", "gauge-seed-01", "--line", "by-hand", "--plan", "--json"))["bytes"] > 0
    captured = ok("capture", "gauge-seed-01", "--line", "by-hand", "--number", "1.0.0", "--notes", "hello")
    assert "captured\tby-hand@1.0.0" in captured
    assert "source-host-name" in ok("residue", "by-hand@1.0.0")
    assert ok("versions", "release", "by-hand@1.0.0") == "by-hand@1.0.0 released\n"
    assert ok("marks", "set", "by-hand@1.0.0", "stable") == "by-hand@stable -> 1.0.0\n"
    assert "BATHOTYPE_REFERENCE=tide-core/by-hand@1.0.0" in ok(
        "resolve", "by-hand@stable", "--region", "skerry-1", "--format", "env"
    )
    (tmp_path / "boot.yaml").write_text("domain: tide.example\nhost_name: 'h-{n}'\n")
    launched = ok(
        "launch",
        "by-hand",
        "--region",
        "skerry-1",
        "--count",
        "2",
        "--name",
        "hand-{n}",
        "--first-boot",
        str(tmp_path / "boot.yaml"),
    )
    assert launched.count("\trunning\t") == 2
    shown = ok("instances", "show", "hand-1")
    assert "host name\th-1" in shown and "host key\tSHA256:" in shown
    ok("export", "by-hand@1.0.0", "--to", str(tmp_path / "disk.raw"))
    there = (tmp_path / "disk.raw").stat().st_mtime_ns
    for argv in (("--to", str(tmp_path / "disk.raw")), ("--to", str(tmp_path / "disk.foo"))):
        assert cli("export", "by-hand@1.0.0", *argv).returncode in (2, 4), "it replaces nothing, and guesses no format"
    assert (tmp_path / "disk.raw").stat().st_mtime_ns == there and not (tmp_path / "disk.foo").exists()
    ok("export", "by-hand@1.0.0", "--to", str(tmp_path / "disk.raw"), "--force")
    e2fsck(tmp_path / "disk.raw")
    assert "openssl\t" in ok("packages", "by-hand@1.0.0")
    assert "by-hand@1.0.0\treleased\topenssl" in ok("packages", "--which", "openssl")
    ok("versions", "hold", "by-hand@1.0.0", "--name", "audit", "--reason", "because of the audit")
    ok("sunset", "by-hand@1.0.0", "--until", "2099-01-01")
    ok("marks", "drop", "by-hand", "stable")
    assert "2 instances" in cli("retire", "by-hand@1.0.0", "--plan").stderr
    ok("retire", "by-hand@1.0.0")
    refused = cli("purge", "by-hand@1.0.0")
    assert refused.returncode == 4 and "hold 'audit'" in refused.stderr and refused.stderr.count("\n") == 1
    assert "version.retired" in ok("events", "list", "--subject", "by-hand@1.0.0")
    assert ok("events", "check").startswith("whole")
    for name in ("hand-1", "hand-2"):
        ok("instances", "terminate", name)


@pytest.mark.parametrize(
    ("argv", "code", "told"),
    [
        (["versions", "show", "gauge-nothing@1.0.0"], 3, "no line"),
        (["machines", "show", "ghost"], 3, "no machine"),
        (["machines", "inspect", "surge-vault-01"], 4, "cannot be captured"),
        (["launch", "gauge-collector"], 2, "--region"),
        (["capture", "gauge-seed-01", "--line", "gauge-collector", "--number", "one"], 2, "not a version number"),
        (["capture", "gauge-seed-02", "--line", "gauge-collector"], 4, "Add --stopped"),
        (["capture", "quay-gauge-01", "--line", "gauge-collector"], 3, "no machine"),
        (["capture", "gauge-seed-01", "--line", "gauge-collector", "--region", "fjord-2"], 3, "is in region skerry-1"),
        (["sunset", "gauge-collector@1.0.0", "--until", "soon"], 2, "not a date"),
        (["capture", "gauge-seed-01", "--line", "gauge-collector", "--profile", "./none.yaml"], 2, "cannot be read"),
        (["operations", "show", "op-none"], 3, "no operation"),
    ],
)
def test_the_command_line_says_what_is_wrong(cli, argv: list[str], code: int, told: str) -> None:  # type: ignore[no-untyped-def]
    done = cli(*argv)
    assert done.returncode == code, done.stderr
    assert told in done.stderr and "Traceback" not in done.stderr


def test_the_standin_gets_its_own_options() -> None:
    command = [sys.executable, "-m", "bathotype.cli.main"]
    helped = subprocess.run([*command, "standin", "--help"], capture_output=True, text=True, check=True)
    assert "--tenancy" in helped.stdout
    other = subprocess.run([*command, "serve", "--tenancy", "x"], capture_output=True, text=True, check=False)
    assert other.returncode == 2 and "unrecognized" in other.stderr


def test_without_a_service_or_token() -> None:
    command = [sys.executable, "-m", "bathotype.cli.main", "lines", "list"]
    bare = subprocess.run(command, capture_output=True, text=True, env={"PATH": "/usr/bin"}, check=False)
    assert bare.returncode == 5 and "BATHOTYPE_URL and BATHOTYPE_TOKEN are not set" in bare.stderr


def test_secrets_are_nowhere_they_should_not_be(system: System) -> None:
    logs = b"".join(p.read_bytes() for p in (system.data / "logs").glob("*.log"))
    for token in (*system.secrets["api"].values(), *system.secrets["site"].values()):
        assert token.encode() not in logs
        assert system.query("select count(*) from api_tokens where digest like %s", f"%{token}%") == [(0,)]
        assert system.query(
            "select count(*) from operations where params::text || memo::text like %s", f"%{token}%"
        ) == [(0,)]
    for name in ("secrets.json", "demo.env", "regions.yaml", "tenancy.json"):
        assert (system.data / name).stat().st_mode & 0o077 == 0
