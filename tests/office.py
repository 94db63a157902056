"""The service in this process: the application over ASGI, a database of its own, a site in memory, the runner called.

Nothing of the product is replaced but the site at its protocol.  `Office.work` runs what is queued, `Office.upkeep` takes
a turn of a duty.
"""

from __future__ import annotations

import os
import pwd
import secrets
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import httpx
import psycopg
from fastapi.testclient import TestClient
from sqlalchemy import select

from bathotype.client import Client
from bathotype.client.operations import Watcher
from bathotype.core.access.roles import Role
from bathotype.core.contents.inventory import Contents, Package
from bathotype.core.disk.ranges import Ranges
from bathotype.core.generalize.residue import Finding
from bathotype.core.store.ingest import ingest
from bathotype.core.store.manifest import ChunkIndex
from bathotype.core.store.region import RegionStore
from bathotype.demo.postgres import LocalPostgres
from bathotype.service import schema
from bathotype.service.access.principals import add_token, make_account, make_token, make_user, set_role
from bathotype.service.app import create_app
from bathotype.service.database import Database
from bathotype.service.everykind import KINDS
from bathotype.service.kinds.capture import Capture, CaptureParams
from bathotype.service.kinds.making import MakingMemo, Stored, seal
from bathotype.service.operations.context import WorkContext
from bathotype.service.operations.runner import Runner
from bathotype.service.operations.start import start_operation, unattended_principal
from bathotype.service.reach import Reach
from bathotype.service.records import Account, Operation
from bathotype.service.records.base import new_id, utcnow
from bathotype.service.settings import Settings
from bathotype.service.state import Service
from bathotype.service.upkeep import DUTIES
from bathotype.service.upkeep.duty import take_turn
from bathotype.sites.factory import SiteAddress
from bathotype.wire.operations import Operation as OperationAnswer
from tests.memorysite import MemoryCloud, MemorySite
from tests.support import Memory, damage_pack

ACCOUNTS = ("tide-core", "harbour-watch", "chart-house")
REGIONS = ("skerry-1", "fjord-2", "lagoon-3")
OWNER = ACCOUNTS[0]


@dataclass
class Cluster:
    """A PostgreSQL server for a whole run, with a database from which others are copied."""

    server: LocalPostgres

    def copy(self, name: str, template: str) -> str:
        """A fresh database; returns its address."""
        with psycopg.connect(self.server.url("postgres"), autocommit=True) as connection:
            connection.execute(f'create database "{name}" template "{template}" strategy file_copy')
        return self.server.url(name)

    def drop(self, name: str) -> None:
        """Remove one, with whoever is connected."""
        with psycopg.connect(self.server.url("postgres"), autocommit=True) as connection:
            connection.execute(f'drop database if exists "{name}" with (force)')


class WorkingClient(Client):
    """A client that has queued work done before it waits for it."""

    def __init__(self, office: Office, token: str) -> None:
        super().__init__("http://office", token, http=TestClient(office.app, raise_server_exceptions=False))
        self._office = office

    def wait(self, operation_id: str, *, on_progress: Watcher | None = None) -> OperationAnswer:
        self._office.work()
        return super().wait(operation_id, on_progress=on_progress)


class Office:
    """One installation of the service."""

    def __init__(self, folder: Path, url: str, tokens: dict[str, str]) -> None:
        self.folder, self.tokens, self.cloud = folder, tokens, MemoryCloud()
        places = {
            "regions": {name: {"site": "memory://", "store": f"file://{folder}/stores/{name}"} for name in REGIONS},
            "accounts": {name: {"token": name, "tags": {"owner": name, "purpose": "images"}} for name in ACCOUNTS},
            "links": {"skerry-1/fjord-2": {"distance_ms": 18.0}, "skerry-1/lagoon-3": {"distance_ms": 95.0}},
            "repositories": {"hosts": ["127.0.0.1"], "folders": [f"{folder}/git"]},
            "host_account": OWNER,
        }
        (folder / "regions.yaml").write_text(str(places))  # a mapping of plain values reads the same as YAML
        self.settings = Settings(
            database_url=url,
            regions_file=folder / "regions.yaml",
            scratch_dir=folder / "scratch",
            scrub_at_once=4,
            metrics_token="of the office",
        )
        self.settings.scratch_dir.mkdir()
        self.database = Database(url, pool_size=4)
        self.reach = Reach(self.database, self.settings.places, patience=1.0, open_site=self._open)
        self.service = Service(self.settings, self.database, self.reach)
        self.app = create_app(self.service)
        self.runner = Runner(self.database, self.settings, self.reach, KINDS)

    def _open(self, address: SiteAddress, patience: float) -> MemorySite:
        return MemorySite(self.cloud, address.token)

    def close(self) -> None:
        """Disconnect."""
        self.service.close()

    # Calling

    def client(self, account: str = OWNER) -> WorkingClient:
        """A client for an account's steward."""
        return WorkingClient(self, self.tokens[account])

    @property
    def core(self) -> WorkingClient:
        """The account that makes images."""
        return self.client()

    def with_token(self, token: str) -> WorkingClient:
        """A client with any token."""
        return WorkingClient(self, token)

    def http(self, account: str | None = OWNER) -> httpx.Client:
        """Plain HTTP, without our client."""
        http = TestClient(self.app, base_url="http://office/api/v1", raise_server_exceptions=False)
        if account:
            http.headers["Authorization"] = f"Bearer {self.tokens[account]}"
        return http

    def token(self, role: str, account: str = OWNER, **options: Any) -> str:
        """A token of a robot with a role in an account."""
        days = options.pop("days", 1)
        with self.database.sessions.begin() as session:
            user = make_user(session, f"{role}-of-{account}", "robot")
            set_role(session, make_account(session, account), user, Role(role))
            return add_token(session, user, "test", made_by="the test", days=days, **options)[1]

    def site(self, account: str = OWNER) -> MemorySite:
        """The site, past the service."""
        return MemorySite(self.cloud, account)

    # Working

    def work(self) -> None:
        """Run everything that is queued, and what that queues."""
        while True:
            with self.database.reads() as session:
                waiting = session.scalars(
                    select(Operation.id)
                    .where(
                        Operation.state == "queued",
                        Operation.start_at.is_(None) | (Operation.start_at <= utcnow()) | Operation.cancel_requested,
                    )
                    .order_by(Operation.id)
                ).all()
            if not waiting:
                return
            for operation in waiting:
                self.runner.run(operation)

    def upkeep(self, name: str) -> None:
        """One turn of a duty; what it starts is not run."""
        duty = next(d for d in DUTIES if d.name == name)
        assert take_turn(duty, self.database, self.reach, self.settings)

    # Looking and changing behind the service's back

    def query(self, sql: str, *values: Any) -> list[tuple[Any, ...]]:
        """Look into the database."""
        with psycopg.connect(self.settings.database_url) as connection:
            return connection.execute(sql, values).fetchall()

    def execute(self, sql: str, *values: Any) -> None:
        """Change the database."""
        with psycopg.connect(self.settings.database_url) as connection:
            connection.execute(sql, values)

    def store(self, region: str) -> RegionStore:
        """A region's store."""
        return self.reach.store(region)

    def damage(self, region: str, reference: str) -> str:
        """Change a byte of a version's first pack; returns the pack's name."""
        return damage_pack(self.folder / "stores" / region, self.core.version(reference).id)

    # Versions, made without a capture

    def version(
        self, reference: str, *, release: bool = True, account: str = OWNER, data: bytes | None = None,
        findings: tuple[Finding, ...] = (), region: str = "skerry-1", mode: str = "live", **source: Any,
    ) -> str:  # fmt: skip
        """A version with content of its own (or ``data``), recorded as the end of a capture records it."""
        line, _, number = reference.partition("@")
        content = data if data is not None else secrets.token_bytes(300_000)
        with self.client(account) as client:
            if line not in {x.name for x in client.lines()}:
                client.create_line(line)
        with self.database.sessions.begin() as session:
            owner = session.scalars(select(Account).where(Account.name == account)).one()
            line_id = self.query("select id from lines where name = %s and account_id = %s", line, owner.id)[0][0]
            principal = unattended_principal(session, owner.id, "test")
            params = CaptureParams(
                machine_id="m-test", region=region, line_id=line_id, line=line, number=number, version_id=new_id("ve")
            )
            operation = start_operation(session, principal, Capture, reference, params)
            operation.state, operation.ended_at, operation.leftovers_removed = "succeeded", utcnow(), True
        stored = ingest(Memory(content), Ranges.of([(0, len(content))]), self.store(region), ChunkIndex([]))
        self.store(region).put_manifest(params.version_id, stored.manifest)
        memo = MakingMemo(
            source={"machine": "gauge-seed-01", "machine_id": "m-test", "machine_size": "small", **source},
            identity={"host_name": "gauge-seed-01"},
            profile=None if mode == "as-is" else {"name": "linux", "digest": "0"},
            stored=Stored(
                digest=stored.manifest.content_digest, virtual=len(content), used=len(content),
                stored=stored.manifest.stored_bytes, new=stored.new_bytes,
            ),
        )  # fmt: skip
        packages = (Package("openssl", "3.0.15-1", "amd64", "dpkg"), Package("tide-gauge", "2.3.1", "amd64", "dpkg"))
        memo.judge(list(findings), Contents({"id": "halvane"}, packages, ("gauge-collector.service",), ("mara",)))
        with self.database.held_connection() as connection, self.database.sessions.begin() as session:
            context = WorkContext(self.database, self.settings, self.reach, operation, connection)
            seal(session, context, params, memo, mode, source.get("parent"), "gauge-seed-01")
        if release:
            with self.client(account) as client:
                client.release(reference)
        return reference

    def launched(self, reference: str, *names: str, account: str = OWNER, region: str = "skerry-1") -> None:
        """Instances of a version that run."""
        with self.client(account) as client:
            for name in names:
                client.wait(client.launch(reference=reference, region=region, name=name).id)

    def shared(self, subject: str, consumer: str = "harbour-watch", **options: Any) -> str:
        """An accepted share; returns its id."""
        with self.core as client, self.client(consumer) as other:
            return other.accept_share(client.share(subject=subject, consumer=consumer, **options).id).id


@contextmanager
def running_cluster(folder: Path) -> Iterator[Cluster]:
    """PostgreSQL on loopback until the end of the block, with the template `office`."""
    server = LocalPostgres(folder, durable=False)
    server.prepare()
    entry = server.command
    identity: dict[str, Any] = {}
    if entry.user:
        user = pwd.getpwnam(entry.user)
        identity = {"user": user.pw_uid, "group": user.pw_gid, "extra_groups": [], "cwd": "/"}
    with (folder / "postgres.log").open("wb") as log:
        process = subprocess.Popen(entry.argv, stdout=log, stderr=log, **identity)
    try:
        server.wait()
        made = Database(server.create_database("office"), pool_size=1)
        schema.prepare(made)
        with made.sessions.begin() as session:
            for name in ACCOUNTS:
                make_token(session, name, "demo", token=f"bt_{name}-of-the-tests")
        made.close()
        yield Cluster(server)
    finally:
        process.terminate()
        process.wait(20)


@contextmanager
def open_office(cluster: Cluster, folder: Path) -> Iterator[Office]:
    """An office with an empty database and an empty site, until the end of the block."""
    name = f"office-{os.getpid()}-{secrets.token_hex(4)}"
    office = Office(folder, cluster.copy(name, "office"), {n: f"bt_{n}-of-the-tests" for n in ACCOUNTS})
    try:
        yield office
    finally:
        office.close()
        cluster.drop(name)
