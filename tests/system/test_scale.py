"""Many processes as one, and statements that an index serves; how fast is for `make bench`."""

from __future__ import annotations

import os
import signal
import socket
import sys

import httpx
from bench.load import Fleet
from bench.scale import at_the_database, stage

from bathotype.client import Client, NotSignedIn
from bathotype.core.errors import BathotypeError
from tests.support import System, until


def test_every_question_about_a_fleet_is_served_by_an_index() -> None:
    kept = dict(os.environ)
    try:
        with stage(Fleet(accounts=5, lines=20, versions=1000, instances=20_000, events=10_000)) as made:
            _, scans = at_the_database(made, asked=5, forced=True)
    finally:
        os.environ.clear()
        os.environ.update(kept)
    assert scans == []


def test_several_serving_processes_behave_as_one(system: System) -> None:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    url = f"http://127.0.0.1:{port}"
    serving = next(c for c in system.supervisor.children if c.name == "serve")
    command = [sys.executable, "-m", "bathotype.cli.main", "serve", "--port", str(port), "--processes", "3"]
    process = system.spawn(command, serving.environment)
    try:
        until(lambda: _ready(url))
        token = system.token("operator")
        with Client(url, token) as client:
            made = [client.create_line("many-doors", key="one-key").created_at for _ in range(12)]
            assert len(set(made)) == 1, "whichever process answers, a repeated request gets the first answer"
            for _ in range(12):  # a new connection each, so that each process answers some
                with Client(url, token) as other:
                    assert other.line("many-doors").name == "many-doors"
        with system.core as client:
            row = next(t for t in client.tokens() if t.user == "operator-of-tide-core" and t.revoked_at is None)
            for t in client.tokens():
                if t.user == row.user:
                    client.revoke_token(t.id)
        for _ in range(12):
            with Client(url, token) as other:
                try:
                    other.line("many-doors")
                    raise AssertionError("a revoked token was good at one of the processes")
                except NotSignedIn:
                    pass
    finally:
        process.terminate()
        process.wait(20)


def _ready(url: str) -> bool:
    try:
        return httpx.get(f"{url}/readyz", trust_env=False).status_code == 200
    except httpx.HTTPError:
        return False


def test_two_workers_share_the_work(system: System) -> None:
    """One is stopped with work in hand; the other does what it did not take, and takes over when the first dies."""
    worker = next(c for c in system.supervisor.children if c.name == "worker")
    assert worker.process is not None
    second = system.spawn(worker.argv, worker.environment)
    reference = system.captured("shared-work", number="1.0.0")
    try:
        with system.core as client:
            started = [client.verify(reference, "skerry-1").id for _ in range(12)]
            os.kill(worker.process.pid, signal.SIGSTOP)
            started += [client.verify(reference, "skerry-1").id for _ in range(4)]
            # Stopped in a transaction, it holds locks until PostgreSQL ends its session.
            until(lambda: client.operation(started[-1]).state == "succeeded", seconds=90)
            os.kill(worker.process.pid, signal.SIGCONT)
            for operation in started:
                assert client.wait(operation).state == "succeeded"
    except BathotypeError:
        os.kill(worker.process.pid, signal.SIGCONT)
        raise
    finally:
        second.kill()
        second.wait()
