"""``bathotype demo`` as it is typed: ready, stopped cleanly, started again with nothing lost, killed with nothing left."""

from __future__ import annotations

import http.server
import os
import pwd
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from bathotype.client import Client
from bathotype.core.errors import Refused
from bathotype.demo.life import PatientTransport
from bathotype.demo.owner import service_user
from bathotype.demo.postgres import LocalPostgres
from tests.support import until


@pytest.fixture
def folder() -> Iterator[Path]:
    path = Path(tempfile.mkdtemp(prefix="bathotype-demo-"))
    path.chmod(0o711)
    yield path
    shutil.rmtree(path, ignore_errors=True)


def _start(folder: Path, *more: str) -> tuple[subprocess.Popen[str], Client]:
    command = [sys.executable, "-m", "bathotype.cli.main", "demo", "--data-dir", str(folder), "--port", "0", *more]
    environment = {k: v for k, v in os.environ.items() if not k.startswith("BATHOTYPE")}
    with (folder / "said").open("w") as said:
        process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=said, text=True, env=environment)
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
    (folder / "life").write_text("begun\n")  # as a demo leaves it that is stopped while it is filled
    process, client = _start(folder, "--lived-in")
    assert "life was not made to its end" in (folder / "said").read_text()
    with client:
        assert client.version("gauge-collector@1.0.0").content_digest == digest
        client.wait(client.verify("gauge-collector@1.0.0", "skerry-1").id)
    process.kill()  # with SIGKILL: the others must not outlive it
    process.wait()
    until(lambda: _running(folder) == [], seconds=90)


def test_calls_that_fill_the_demo_wait_for_a_service_that_starts_again() -> None:
    given: list[tuple[str, str]] = []

    class Away(http.server.BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            given.append((self.path, self.rfile.read(int(self.headers["Content-Length"])).decode()))
            self.send_response(503 if len(given) < 3 else 204)
            self.send_header("Content-Length", "0")
            self.end_headers()

        def log_message(self, *_: object) -> None:
            pass

    with http.server.HTTPServer(("127.0.0.1", 0), Away) as server, httpx.Client(transport=PatientTransport()) as client:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        answer = client.post(f"http://127.0.0.1:{server.server_port}/share", json={"subject": "gauge"})
        server.shutdown()
    assert answer.status_code == 204
    assert given == [("/share", '{"subject":"gauge"}')] * 3


@pytest.mark.skipif(os.geteuid() != 0, reason="only root's folders are out of reach for the database's user")
def test_a_removed_demo_leaves_nothing_in_the_way_of_the_next(folder: Path) -> None:
    folder.chmod(0o700)  # so that the cluster lies elsewhere
    data = folder / "demo"
    first = LocalPostgres(data, durable=False)
    try:
        first.prepare()
        assert folder not in first.data.parents
        password = (data / "postgres.password").read_text()
        shutil.rmtree(data)
        second = LocalPostgres(data, durable=False)
        second.prepare()
        assert second.data == first.data
        assert (data / "postgres.password").read_text() != password
    finally:
        shutil.rmtree(first.data.parent)


def test_a_database_without_its_password_is_kept(folder: Path) -> None:
    server = LocalPostgres(folder, durable=False)
    server.prepare()
    (folder / "postgres.password").unlink()
    server.prepare()
    with pytest.raises(Refused, match=r"postgres\.password is missing") as refused:
        server.url("bathotype")
    assert "Put the file back" in refused.value.advice
    assert (server.data / "PG_VERSION").exists()
