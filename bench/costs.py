"""What an answer costs in processor time, beside the floor: Starlette and psycopg alone, sending as many bytes.

Both are asked by turns in short rounds, so that a machine which slows down slows both.
"""

from __future__ import annotations

import random
import socket
import statistics
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

import httpx

from bench.report import Row

if TYPE_CHECKING:
    from bench.scale import Stage

_ROUNDS, _ASKED = 12, 40
_MOST = 2.5


def rows(made: Stage) -> list[Row]:
    """One for each question."""
    from bench.scale import questions

    with (
        _process(made, "bathotype.service.serving:application") as ours,
        _process(made, "bench.plain:application") as plain,
    ):
        return [_row(made, name, question, ours, plain) for name, question in questions(made.fleet).items()]


def _row(made: Stage, name: str, question: Callable[..., Any], ours: _Process, plain: _Process) -> Row:
    chance = random.Random(5)

    def ask() -> int:
        who = chance.randrange(made.fleet.accounts)
        path, query = question(chance, who)
        answer = ours.http.get(f"/api/v1{path}", params=query, headers={"Authorization": f"Bearer {made.tokens[who]}"})
        assert answer.status_code in (200, 409), answer.text
        return len(answer.content)

    size = int(statistics.mean(ask() for _ in range(2 * _ASKED)))
    mine = floor = 0.0
    for _ in range(_ROUNDS):
        began = ours.spent()
        for _ in range(_ASKED):
            ask()
        mine += ours.spent() - began
        began = plain.spent()
        for _ in range(_ASKED):
            plain.http.get("/", params={"bytes": size})
        floor += plain.spent() - began
    asked = _ROUNDS * _ASKED / 1000
    work = f"{name}, processor time of an answer of {size / 1024:.1f} KiB"
    floor_of = "Starlette and one query"
    return Row(work, f"{mine / asked:.2f} ms", floor_of, f"{floor / asked:.2f} ms", mine / floor, _MOST)


class _Process:
    def __init__(self, pid: int, http: httpx.Client) -> None:
        self.pid, self.http = pid, http

    def spent(self) -> float:
        """Its processor time so far, in seconds: by its own clock (clock_getcpuclockid(3)), since what `/proc` says is
        counted in hundredths of a second."""
        return time.clock_gettime(~self.pid << 3 | 2)


@contextmanager
def _process(made: Stage, application: str) -> Iterator[_Process]:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    command = [sys.executable, "-m", "uvicorn", "--factory", application, "--port", str(port), "--log-level", "warning"]
    process = subprocess.Popen(command, env=made.environment)
    try:
        with httpx.Client(base_url=f"http://127.0.0.1:{port}", trust_env=False, timeout=30) as http:
            for _ in range(300):
                try:
                    http.get("/readyz")
                    break
                except httpx.HTTPError:
                    time.sleep(0.1)
            yield _Process(process.pid, http)
    finally:
        process.terminate()
        process.wait(20)
