"""``bathotype demo`` as it is typed: ready, stopped cleanly, started again with nothing lost, killed with nothing left."""

from __future__ import annotations

import os
import pwd
import re
import shutil
import signal
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from bathotype.client import Client
from bathotype.demo.owner import service_user
from tests.support import until


@pytest.fixture
def folder() -> Iterator[Path]:
    path = Path(tempfile.mkdtemp(prefix="bathotype-demo-"))
    path.chmod(0o711)
    yield path
    shutil.rmtree(path, ignore_errors=True)


def _start(folder: Path) -> tuple[subprocess.Popen[str], Client]:
    command = [sys.executable, "-m", "bathotype.cli.main", "demo", "--data-dir", str(folder), "--port", "0"]
    environment = {k: v for k, v in os.environ.items() if not k.startswith("BATHOTYPE")}
    process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True, env=environment)
    assert process.stdout is not None
    ready = process.stdout.readline()
    assert re.fullmatch(r"ready http://127\.0\.0\.1:\d+\n", ready), ready
    told = dict(line.removeprefix("export ").split("=", 1) for line in (folder / "demo.env").read_text().splitlines())
    assert {"BATHOTYPE_TOKEN_TIDE_CORE", "BATHOTYPE_TOKEN_HARBOUR_WATCH", "BATHOTYPE_TOKEN_CHART_HOUSE"} <= set(told)
    return process, Client(told["BATHOTYPE_URL"], told["BATHOTYPE_TOKEN"])


def _running(folder: Path) -> list[str]:
    found = subprocess.run(["pgrep", "-af", str(folder)], capture_output=True, text=True, check=False).stdout
    return [line for line in found.splitlines() if "pgrep" not in line]


def test_the_demo_starts_stops_and_starts_again(folder: Path) -> None:
    process, client = _start(folder)
    with client:
        assert {x.name for x in client.lines()} == {"gauge-collector", "surge-model", "pilot-desk"}
        assert len(list(client.machines())) == 7
        digest = (client.wait(client.capture(machine="gauge-seed-01", line="gauge-collector").id).result or {})[
            "content_digest"
        ]
    # Who starts it as root does not run the service as root, where another user can read the project.
    if (user := service_user(folder)) is not None:
        for name in ("serve", "worker"):
            running = Path("/proc") / (folder / "logs" / f"{name}.pid").read_text().strip()
            assert running.stat().st_uid == pwd.getpwnam(user).pw_uid, name
    process.send_signal(signal.SIGINT)
    assert process.wait(30) == 0
    assert _running(folder) == []
    process, client = _start(folder)
    with client:
        assert client.version("gauge-collector@1.0.0").content_digest == digest
        client.wait(client.verify("gauge-collector@1.0.0", "skerry-1").id)
    process.kill()  # with SIGKILL: the others must not outlive it
    process.wait()
    until(lambda: _running(folder) == [], seconds=90)
