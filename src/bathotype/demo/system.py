"""The demo: the scenario's accounts, regions and machines, and everything that runs them."""

from __future__ import annotations

import json
import os
import random
import secrets
import signal
import socket
import sys
from contextlib import suppress
from pathlib import Path
from typing import Any

import httpx
import yaml
from sqlalchemy import make_url

from bathotype.client import Client
from bathotype.core.errors import Refused
from bathotype.core.firstboot.settings import FirstBoot
from bathotype.demo.owner import hand_over, service_user
from bathotype.demo.people import PEOPLE, new_password
from bathotype.demo.postgres import LocalPostgres
from bathotype.demo.repository import make_repository
from bathotype.demo.supervisor import Child, Supervisor

ACCOUNTS = ("tide-core", "harbour-watch", "chart-house")
REGIONS = ("skerry-1", "fjord-2", "lagoon-3")
#: The profile for desktops, whose own tool generalizes them; the demo puts it beside `demo.env`.
DESK_PROFILE = Path(__file__).with_name("pilot-desk.yaml")
#: Build sheets, and the files of their payload.
SHEETS = Path(__file__).with_name("sheets")
_PORTS = range(20_000, 32_000)
_LINES = {
    "gauge-collector": "Small Linux that reads tide gauges; hundreds of instances.",
    "surge-model": "Large Linux that computes storm surges.",
    "pilot-desk": "Desktops of the pilots.",
}


class DemoSystem:
    """All processes of the demo over one data directory."""

    def __init__(
        self,
        data: Path,
        port: int,
        *,
        seed: str = "halvane",
        durable: bool = True,
        environment: dict[str, str] | None = None,
        buckets: dict[str, Any] | None = None,
        places: dict[str, Any] | None = None,
        worker: bool = True,
    ) -> None:
        self.data, self.port, self._seed = data.resolve(), port or _free_port(), seed
        self._extra, self._buckets, self._places = environment or {}, buckets or {}, places or {}
        self._has_worker = worker
        self.data.mkdir(parents=True, exist_ok=True)
        self.supervisor = Supervisor(self.data / "logs")
        given = os.environ.get("BATHOTYPE_DATABASE_URL", "")
        self._external = None if environment is not None else (given or None)
        self.postgres = LocalPostgres(self.data, durable=durable)
        self.site_port = _kept_port(self.data / "site-port")
        #: Who runs the service; None for whoever starts the demo.
        self.user = service_user(self.data)
        self.secrets = self._secrets()
        self.environment: dict[str, str] = {}

    @property
    def url(self) -> str:
        """The service's address."""
        return f"http://127.0.0.1:{self.port}"

    @property
    def site_url(self) -> str:
        """The stand-in's address."""
        return f"http://127.0.0.1:{self.site_port}"

    def _secrets(self) -> dict[str, Any]:
        """Tokens, made once for a data directory."""
        path = self.data / "secrets.json"
        if not path.exists():
            made = {
                "operator": secrets.token_urlsafe(24),
                "site": {name: secrets.token_urlsafe(24) for name in ACCOUNTS},
                "api": {name: "bt_" + secrets.token_urlsafe(32) for name in ACCOUNTS},
            }
            _write_secret(path, json.dumps(made))
        found: dict[str, Any] = json.loads(path.read_text())
        if "people" not in found:
            found["people"] = {name: new_password() for name in PEOPLE}
            _write_secret(path, json.dumps(found))
        for name in ("metrics", "database"):
            if name not in found:
                found[name] = secrets.token_urlsafe(24)
                _write_secret(path, json.dumps(found))
        return found

    def start(self) -> None:
        """Start everything and load the scenario.  Raises where something does not start."""
        if _in_use(self.port):
            raise Refused(f"Port {self.port} is in use.", advice="Give another --port, or stop what uses it.")
        database, site_database = self._databases()
        self._give()
        #: For the demo itself, which writes history: the role that owns the tables.
        self.owner_database = database
        self.environment = environment = {
            "BATHOTYPE_DATABASE_URL": self._working(database),
            "BATHOTYPE_REGIONS_FILE": str(self.data / "regions.yaml"),
            "BATHOTYPE_SECRET_FILE": str(self.data / "service" / "bathotype.secret"),
            "BATHOTYPE_SCRATCH_DIR": str(self.data / "scratch"),
            "BATHOTYPE_METRICS_TOKEN": self.secrets["metrics"],
            "BATHOTYPE_PUBLIC_URL": self.url,
            **self._extra,
        }
        self._prepare(database)
        standin = [
            sys.executable,
            "-m",
            "standin",
            "--data-dir",
            str(self.data / "standin"),
            "--port",
            str(self.site_port),
            "--tenancy",
            str(self.data / "tenancy.json"),
            "--demo",
            self._seed,
        ]
        command = [sys.executable, "-m", "bathotype.cli.main"]
        self.supervisor.add(
            Child(
                "standin",
                standin,
                {"STANDIN_DATABASE_URL": site_database.replace("postgresql:", "postgresql+psycopg:", 1)},
                ready=lambda: _answers(f"{self.site_url}/healthz"),
            ),
            Child(
                "serve",
                [*command, "serve", "--port", str(self.port)],
                environment,
                user=self.user,
                ready=lambda: _answers(f"{self.url}/readyz"),
            ),
            *([Child("worker", [*command, "worker"], environment, user=self.user)] if self._has_worker else []),
        )
        self._write_env()
        self._load()

    def _give(self) -> None:
        """What the service's user keeps and reads."""
        self._write_places()
        own = [self.data / name for name in ("service", "stores", "scratch", "bucket")]
        for folder in own:
            folder.mkdir(mode=0o700, exist_ok=True)
        for name in ("bathotype.secret", "bathotype.trail"):
            if (before := self.data / name).exists():  # where it lay until now
                before.rename(self.data / "service" / name)
        hand_over(self.user, self.data / "regions.yaml", *own)

    def _databases(self) -> tuple[str, str]:
        if self._external:
            base, _, name = self._external.rpartition("/")
            return self._external, f"{base}/{name}_standin"
        self.postgres.prepare()
        server = self.postgres.command
        self.supervisor.add(Child("postgres", server.argv, user=server.user, stop_signal=signal.SIGINT))
        self.postgres.wait()
        return self.postgres.create_database("bathotype"), self.postgres.create_database("standin")

    def _write_places(self) -> None:
        tenancy = {
            "operator_token": self.secrets["operator"],
            "accounts": {
                name: {"token": self.secrets["site"][name], "demanded_tags": ["owner", "purpose"]} for name in ACCOUNTS
            },
        }
        _write_secret(self.data / "tenancy.json", json.dumps(tenancy))
        places = {
            "regions": {
                name: {"site": self.site_url, "store": f"file://{self.data}/stores/{name}"} for name in REGIONS
            },
            "accounts": {
                name: {"token": self.secrets["site"][name], "tags": {"owner": name, "purpose": "images"}}
                for name in ACCOUNTS
            },
            "buckets": self._buckets or {"halvane-images": self._bucket()},
            "links": {
                "skerry-1/fjord-2": {"distance_ms": 18.0},
                "skerry-1/lagoon-3": {"distance_ms": 95.0},
                "fjord-2/lagoon-3": {"distance_ms": 70.0},
            },
            "host_account": ACCOUNTS[0],
            "messages": {"hosts": ["127.0.0.1"]},
            "repositories": {"hosts": ["127.0.0.1"], "folders": [str((self.data / "git").resolve())]},
            **self._places,
        }
        _write_secret(self.data / "regions.yaml", yaml.safe_dump(places))

    def _working(self, database: str) -> str:
        """The same database for the service, whose role owns nothing; a database from outside is used as it is given."""
        return database if self._external else self.postgres.working_url("bathotype", self.secrets["database"])

    def _prepare(self, database_url: str) -> None:
        from bathotype.service import schema
        from bathotype.service.access.principals import make_token
        from bathotype.service.database import Database

        database = Database(database_url, pool_size=2)
        role = make_url(self.environment["BATHOTYPE_DATABASE_URL"]).username
        schema.prepare(database, working_role="" if self._external else str(role))
        with database.sessions.begin() as session:
            for name in ACCOUNTS:
                make_token(session, name, "demo", token=self.secrets["api"][name])
        database.close()

    def _write_env(self) -> None:
        lines = [f"BATHOTYPE_URL={self.url}", f"BATHOTYPE_TOKEN={self.secrets['api'][ACCOUNTS[0]]}"]
        lines += [f"BATHOTYPE_TOKEN_{name.upper().replace('-', '_')}={self.secrets['api'][name]}" for name in ACCOUNTS]
        lines += [f"STANDIN_URL={self.site_url}", f"STANDIN_OPERATOR_TOKEN={self.secrets['operator']}"]
        _write_secret(self.data / "demo.env", "".join(f"export {line}\n" for line in lines))
        (self.data / DESK_PROFILE.name).write_text(DESK_PROFILE.read_text())
        (self.data / "sheets").mkdir(exist_ok=True)
        for file in SHEETS.iterdir():
            (self.data / "sheets" / file.name).write_text(file.read_text())
        (self.data / "git").mkdir(exist_ok=True)
        self.repository = make_repository(self.data / "git")

    def _bucket(self) -> dict[str, Any]:
        """A folder that is named like a bucket."""
        return {"folder": str(self.data / "bucket"), "accounts": [ACCOUNTS[0]], "writers": [ACCOUNTS[0]]}

    def client(self, account: str = ACCOUNTS[0]) -> Client:
        """A client for one of the demo's accounts."""
        return Client(self.url, self.secrets["api"][account])

    def _load(self) -> None:
        """The scenario's lines and saved first-boot settings; what is there already stays."""
        with self.client() as client:
            present = {line.name for line in client.lines()}
            for name, about in _LINES.items():
                if name not in present:
                    client.create_line(name, about=about)
            if not client.saved_first_boot():
                client.save_first_boot(
                    "tide-station", FirstBoot(domain="tide.example", time_zone="Etc/UTC", locale="en_GB.UTF-8")
                )

    def stop(self) -> None:
        """Stop everything."""
        self.supervisor.stop()


def _write_secret(path: Path, text: str) -> None:
    path.touch(mode=0o600)
    path.write_text(text)


def _answers(url: str) -> bool:
    try:
        return httpx.get(url, timeout=2, trust_env=False).status_code == 200
    except httpx.TransportError:
        return False


def _kept_port(file: Path) -> int:
    """The same port at each start, if nobody else has it meanwhile: addresses that were printed before stay right.

    A folder that was copied from another takes a port of its own.
    """
    with suppress(OSError, ValueError, OverflowError), socket.socket() as probe:
        place, _, kept = file.read_text().partition("\n")
        if place == str(file):
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            probe.bind(("127.0.0.1", int(kept)))
            return int(kept)
    port = _free_port()
    file.parent.mkdir(parents=True, exist_ok=True)
    file.write_text(f"{file}\n{port}")
    return port


def _free_port() -> int:
    """A port on which nobody listens, below those that Linux gives to connections: one of these may be taken by anybody
    before the process that it is for has started."""
    for port in random.SystemRandom().sample(_PORTS, 100):
        with suppress(OSError), socket.socket() as probe:
            probe.bind(("127.0.0.1", port))
            return port
    raise RuntimeError(f"Of 100 ports between {_PORTS[0]} and {_PORTS[-1]} none is free.")


def _in_use(port: int) -> bool:
    with socket.socket() as probe:
        probe.settimeout(1)
        return probe.connect_ex(("127.0.0.1", port)) == 0
