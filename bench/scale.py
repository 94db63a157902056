"""How the service answers over a large fleet.

200 lines, 20,000 versions, 1,000,000 instance records over 50 accounts and 5 regions.  Each question is asked by a caller of
a random account about random things; its time at the database is that of all its statements, and no statement may
read a large table from end to end.  Then 16 clients ask two processes of the service behind one address.
"""

from __future__ import annotations

import json
import os
import random
import re
import signal
import socket
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from http.client import HTTPConnection
from pathlib import Path
from typing import Any
from unittest import mock
from urllib.parse import quote, urlencode

import httpx
import psycopg
import uvicorn
import yaml

from bathotype.demo.postgres import LocalPostgres
from bathotype.demo.supervisor import Child, Supervisor
from bathotype.service import schema
from bathotype.service.access.principals import add_token, make_user, set_role
from bathotype.service.database import Database
from bathotype.service.records import Account
from bench import chunks, costs
from bench.load import Fleet, fill, line, number_of
from bench.report import Row

REGIONS = ["skerry-1", "fjord-2", "lagoon-3", "delta-4", "cape-5"]
_LARGE = ("instances", "versions", "events", "replicas", "shares")
_ASKED = 200
_CLIENTS, _SECONDS, _PAUSE = 16, 15.0, 0.5
DATABASE_LIMIT, API_LIMIT, PAGE_LIMIT = 0.025, 0.060, 0.250

Ask = tuple[str, dict[str, Any]]


def questions(fleet: Fleet) -> dict[str, Callable[[random.Random, int], Ask]]:
    """Each question: given a caller's account, a path and its query."""

    def own(chance: random.Random, who: int) -> int:
        return who + fleet.accounts * chance.randrange(fleet.lines // fleet.accounts)

    def released(chance: random.Random) -> str:
        tenth = fleet.per_line // 10
        return number_of(chance.randrange(tenth, fleet.per_line - tenth))

    return {
        "instances of a version": lambda c, w: (
            "/instances", {"version": f"{line(own(c, w))}@{number_of(fleet.per_line - fleet.per_line // 10 - 1)}"}),
        "versions behind in an account": lambda c, w: ("/instances", {"behind": "true"}),
        "counts per version of a line": lambda c, w: ("/instances/counts", {"line": line(own(c, w))}),
        "resolve": lambda c, w: (f"/versions/{line(own(c, w))}@{released(c)}/resolution", {}),
        "rule decision": lambda c, w: (
            "/rules/explanation", {"reference": f"{line(own(c, w))}@{released(c)}", "region": "skerry-1"}),
        "event search": lambda c, w: (
            "/events", c.choice(({"action": "version"}, {"subject": f"{line(c.randrange(fleet.lines))}@{released(c)}"}))),
        "one version": lambda c, w: (f"/versions/{line(own(c, w))}@{released(c)}", {}),
        "a line's versions": lambda c, w: (f"/lines/{line(own(c, w))}/versions", {}),
        "lines": lambda c, w: ("/lines", {}),
    }  # fmt: skip


def first_pages() -> dict[str, Callable[[random.Random, int], Ask]]:
    """What is asked once when the console is opened: not hot, but somebody waits for it."""
    return {"overview of an account": lambda c, w: ("/overview", {})}


class Stage:
    """PostgreSQL with the fleet, and tokens for every account."""

    def __init__(self, folder: Path, fleet: Fleet) -> None:
        self.fleet, self.folder = fleet, folder
        self._supervisor = Supervisor(folder / "logs")
        postgres = LocalPostgres(folder, durable=False)
        postgres.prepare()
        server = postgres.command
        self._supervisor.add(Child("postgres", server.argv, user=server.user, stop_signal=signal.SIGINT))
        postgres.wait()
        self.url = postgres.create_database("fleet")
        self.database = Database(self.url)
        schema.prepare(self.database)
        with psycopg.connect(self.url) as connection:
            fill(connection, fleet, REGIONS)
        self.tokens = self._tokens()
        places = {
            "regions": {r: {"site": "http://127.0.0.1:1", "store": f"file://{folder}/stores/{r}"} for r in REGIONS},
            "accounts": {},
        }
        self.places = folder / "regions.yaml"
        self.places.write_text(yaml.safe_dump(places))
        self.environment = {
            **os.environ, "BATHOTYPE_DATABASE_URL": self.url, "BATHOTYPE_REGIONS_FILE": str(self.places),
            "BATHOTYPE_SCRATCH_DIR": str(folder / "scratch"),
        }  # fmt: skip

    def _tokens(self) -> list[str]:
        out = []
        with self.database.sessions.begin() as session:
            for number in range(self.fleet.accounts):
                row = session.get_one(Account, f"ac-{number}")
                user = make_user(session, f"asker-{number}", "robot")
                set_role(session, row, user, "steward")  # type: ignore[arg-type]
                out.append(add_token(session, user, "bench", made_by="bench", days=1)[1])
        return out

    def stop(self) -> None:
        """Stop PostgreSQL."""
        self.database.close()
        self._supervisor.stop()


@contextmanager
def stage(fleet: Fleet) -> Iterator[Stage]:
    """A stage for the time of the block."""
    with tempfile.TemporaryDirectory(prefix="bathotype-scale-") as name:
        Path(name).chmod(0o711)
        made = Stage(Path(name), fleet)
        try:
            yield made
        finally:
            made.stop()


def p95(times: list[float]) -> float:
    """The 95th percentile."""
    return statistics.quantiles(times, n=20)[-1]


def at_the_database(made: Stage, asked: int = _ASKED, *, forced: bool = False) -> tuple[dict[str, float], list[str]]:
    """p95 of each question's time in statements, and every statement that reads a large table from end to end.

    ``forced`` looks for statements that no index can serve, whatever PostgreSQL would choose for little data.
    """
    from bathotype.service.app import create_app
    from bathotype.service.state import Service

    os.environ.update({k: v for k, v in made.environment.items() if k.startswith("BATHOTYPE_")})
    service = Service.from_environment(patience=1)
    spent = [0.0]
    statements: dict[str | bytes, Any] = {}
    execute = psycopg.Cursor.execute

    def timed(cursor: psycopg.Cursor[Any], query: Any, params: Any = None, **more: Any) -> psycopg.Cursor[Any]:
        text = query.decode() if isinstance(query, bytes) else str(query)
        if text.lstrip().lower().startswith(("select", "with")):
            key = query if isinstance(query, bytes) else re.sub(r"IN \([^)]*\)", "IN (...)", query)
            statements.setdefault(key, (query, params))
        began = time.perf_counter()
        execute(cursor, query, params, **more)
        spent[0] += time.perf_counter() - began
        return cursor

    chance, out = random.Random(5), {}
    # Of every cursor: those of sessions, and those of `Statement`, which sends its bytes as they are.
    with mock.patch.object(psycopg.Cursor, "execute", timed), _serving(create_app(service)) as client:
        for name, question in (questions(made.fleet) | first_pages()).items():
            times = []
            for number in range(asked + 20):
                who = chance.randrange(made.fleet.accounts)
                path, query = question(chance, who)
                spent[0] = 0.0
                answer = client.get(
                    f"/api/v1{path}", params=query, headers={"Authorization": f"Bearer {made.tokens[who]}"}
                )
                assert answer.status_code in (200, 409), answer.text
                if number >= 20:
                    times.append(spent[0])
            assert all(times), f"no statement of {name} was seen"
            out[name] = p95(times)
    return out, _without_index(made, list(statements.values()), forced)


@contextmanager
def _serving(app: Any) -> Iterator[httpx.Client]:
    """The application in a thread of this process, so that its statements can be timed."""
    server = uvicorn.Server(uvicorn.Config(app, port=0, log_level="warning"))
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    while not server.started:
        time.sleep(0.05)
    port = server.servers[0].sockets[0].getsockname()[1]
    with httpx.Client(base_url=f"http://127.0.0.1:{port}", trust_env=False, timeout=60) as client:
        yield client
    server.should_exit = True
    thread.join()


def _without_index(made: Stage, statements: list[tuple[str | bytes, Any]], forced: bool) -> list[str]:
    found = []
    with psycopg.connect(made.url) as connection:
        if forced:
            connection.execute("set enable_seqscan = off")
        for statement, parameters in statements:
            if isinstance(statement, bytes):
                cursor: psycopg.Cursor[Any] = psycopg.RawCursor(connection)
                text = statement.decode()
                cursor.execute(b"explain (format json) " + statement, parameters)
            else:
                cursor, text = connection.cursor(), statement
                cursor.execute(f"explain (format json) {statement}", parameters)
            [(plan,)] = cursor.fetchall()
            found += [f"{table}: {' '.join(text.split())[:300]}" for table in _scanned(plan[0]["Plan"])]
    return found


def _scanned(plan: dict[str, Any]) -> list[str]:
    here = [plan["Relation Name"]] if plan["Node Type"] == "Seq Scan" and plan["Relation Name"] in _LARGE else []
    return here + [table for below in plan.get("Plans", []) for table in _scanned(below)]


def through_the_api(made: Stage, pauses: Sequence[float]) -> list[tuple[dict[str, float], float]]:
    """p95 of each question over HTTP, 16 clients asking two processes behind one address; and answers a second.

    Measured for each pause that a client makes between two questions.  The clients run in a process of their own.
    """
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    url = f"http://127.0.0.1:{port}"
    command = [sys.executable, "-m", "bathotype.cli.main", "serve", "--port", str(port), "--processes", "2"]
    server = subprocess.Popen(command, env=made.environment)
    try:
        _wait(url)
        out = []
        for pause in pauses:
            given = {
                "address": ("127.0.0.1", port),
                "tokens": made.tokens,
                "seconds": _SECONDS,
                "pause": pause,
                "fleet": vars(made.fleet),
            }
            done = subprocess.run(
                [sys.executable, "-m", "bench.scale"],
                input=json.dumps(given),
                capture_output=True,
                text=True,
                check=True,
            )
            told = json.loads(done.stdout)
            out.append((told["p95"], told["rate"]))
        return out
    finally:
        server.terminate()
        server.wait(20)


def _wait(url: str) -> None:
    for _ in range(300):
        try:
            httpx.get(f"{url}/readyz", trust_env=False).raise_for_status()
            return
        except httpx.HTTPError:
            time.sleep(0.1)
    raise RuntimeError("The service does not start.")


def clients(given: dict[str, Any]) -> dict[str, Any]:
    """Ask for some seconds, each client one question after another, all kinds in turn, with a pause after each."""
    fleet = Fleet(**given["fleet"])
    times: dict[str, list[float]] = {name: [] for name in questions(fleet)}
    lock, stop = threading.Lock(), time.monotonic() + given["seconds"] + 3
    warm = time.monotonic() + 3

    def ask(number: int) -> None:
        chance = random.Random(number)
        # The plainest client there is: what clients take of the machine is not what is measured.
        http = HTTPConnection(*given["address"])
        while time.monotonic() < stop:
            for name, question in questions(fleet).items():
                who = chance.randrange(fleet.accounts)
                path, query = question(chance, who)
                began = time.perf_counter()
                http.request(
                    "GET",
                    f"/api/v1{quote(path)}?{urlencode(query)}",
                    headers={"Authorization": f"Bearer {given['tokens'][who]}"},
                )
                answer = http.getresponse()
                text = answer.read()
                took = time.perf_counter() - began
                assert answer.status in (200, 409), text
                if time.monotonic() > warm:
                    with lock:
                        times[name].append(took)
                if given["pause"]:
                    time.sleep(given["pause"] * chance.uniform(0.5, 1.5))

    threads = [threading.Thread(target=ask, args=(n,)) for n in range(_CLIENTS)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return {
        "p95": {name: p95(t) for name, t in times.items()},
        "rate": sum(map(len, times.values())) / given["seconds"],
    }


def rows() -> tuple[list[Row], float]:
    """The table's rows, and the most answers a second through the API."""
    with stage(Fleet()) as made:
        out = [*costs.rows(made), *chunks.rows(made)]
        inside, scans = at_the_database(made)
        (paced, _), (most, rate) = through_the_api(made, (_PAUSE, 0.0))
    for name in first_pages():
        told, value = f"{PAGE_LIMIT * 1000:.0f} ms", inside.pop(name)
        out.append(Row(f"{name}, p95 at the database", f"{value * 1000:.1f} ms", told, "", value / PAGE_LIMIT, 1.0))
    for name in inside:
        for place, value, limit in (
            ("at the database", inside[name], DATABASE_LIMIT),
            (f"through the API, {_CLIENTS} clients, two questions a second each", paced[name], API_LIMIT),
            (f"through the API, {_CLIENTS} clients without a pause", most[name], API_LIMIT),
        ):
            told = f"{limit * 1000:.0f} ms"
            out.append(Row(f"{name}, p95 {place}", f"{value * 1000:.1f} ms", told, "", value / limit, 1.0))
    out.append(Row("statements of these that use no index", str(len(scans)), "0", "", float(len(scans) > 0) * 2, 1.0))
    return out, rate


def main() -> None:
    """The clients' side, in a process of its own."""
    print(json.dumps(clients(json.load(sys.stdin))))


if __name__ == "__main__":
    main()
