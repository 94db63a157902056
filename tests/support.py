"""The running system as tests see it: the demo, plus faults, kills and a look at the site from outside."""

from __future__ import annotations

import contextlib
import fcntl
import io
import json
import os
import pwd
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import httpx
import psycopg
import yaml
from moto.server import ThreadedMotoServer

from bathotype.cli.main import main
from bathotype.client import Client
from bathotype.core.disk.ranges import Ranges
from bathotype.core.store.buckets import BucketObject
from bathotype.core.store.region import RegionStore
from bathotype.demo.owner import hand_over
from bathotype.demo.system import DemoSystem
from bathotype.sites.standin import StandinSite
from bathotype.wire.operations import Operation
from tests.provider import CLIENT, SECRET, Provider


def damage_pack(store: Path, version_id: str) -> str:
    """Change a byte of a version's first pack in a store that is a folder; returns the pack's name."""
    manifest = RegionStore("damaged", f"file://{store}").get_manifest(version_id)
    pack = manifest.packs[0]
    path = store / "packs" / pack[:2] / pack
    raw = bytearray(path.read_bytes())
    raw[int(manifest.offset[manifest.pack == 0][0]) + 20] ^= 1
    path.write_bytes(raw)
    return pack


def until(condition: Callable[[], Any], *, seconds: float = 120.0, pause: float = 0.05) -> Any:
    """Wait for a condition and return what it returned; fail after ``seconds``."""
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        if found := condition():
            return found
        time.sleep(pause)
    raise AssertionError("what was waited for did not happen in time")


class System(DemoSystem):
    """The demo with short periods, and with the means to hurt it."""

    def __init__(self, folder: Path, *, worker: bool = True) -> None:
        self._asleep = False
        quick = {"BATHOTYPE_RECONCILE_SECONDS": "3", "BATHOTYPE_FREEZE_SECONDS": "3"}
        self.bucket_server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
        self.bucket_server.start()
        host, port = self.bucket_server.get_host_and_port()
        self.bucket_url = f"http://{host}:{port}/halvane-images"
        httpx.put(self.bucket_url, trust_env=False).raise_for_status()
        keys = {"access_key_id": "AKIDEXAMPLE", "secret_access_key": "not-a-secret"}
        self._bucket_settings = {"region": "us-east-1", "endpoint": f"http://{host}:{port}", **keys}
        bucket = {**self._bucket_settings, "accounts": ["tide-core"], "writers": ["tide-core"]}
        self.provider = Provider()
        oidc = {"issuer": self.provider.issuer, "client_id": CLIENT, "client_secret": SECRET}
        super().__init__(
            folder, 0, durable=False, environment=quick, buckets={"halvane-images": bucket},
            places={"oidc": oidc}, worker=worker,
        )  # fmt: skip

    def stop(self) -> None:
        super().stop()
        self.bucket_server.stop()
        self.provider.stop()

    def from_bucket(self, address: str) -> bytes:
        """An object's bytes, past the service."""
        key = address.removeprefix("s3://halvane-images")
        return httpx.get(f"{self.bucket_url}{key}", trust_env=False).raise_for_status().content

    def to_bucket(self, address: str, data: bytes) -> None:
        """Write an object, past the service."""
        name, _, key = address.removeprefix("s3://").partition("/")
        BucketObject(name, key, self._bucket_settings).put([data], len(data))

    @property
    def core(self) -> Client:
        """The account that makes images."""
        return self.client("tide-core")

    def token(self, role: str, account: str = "tide-core", **options: Any) -> str:
        """A token of a robot with a role in an account."""
        name = f"{role}-of-{account}"
        with self.client(account) as client:
            if name not in {m.user for m in client.members()}:
                client.add_member(name, role, robot=True)
            return client.make_token(name="test", robot=name, **options).token

    def site(self, account: str = "tide-core") -> StandinSite:
        """The stand-in, past the service."""
        return StandinSite(self.site_url, self.secrets["site"][account])

    def fault(self, kind: str, **options: Any) -> None:
        """Ask the stand-in for a fault."""
        answer = httpx.post(
            f"{self.site_url}/v1/faults",
            json={"kind": kind, **options},
            trust_env=False,
            headers={"Authorization": f"Bearer {self.secrets['operator']}"},
        )
        answer.raise_for_status()

    def clear_faults(self) -> None:
        """No more faults."""
        httpx.delete(
            f"{self.site_url}/v1/faults",
            trust_env=False,
            headers={"Authorization": f"Bearer {self.secrets['operator']}"},
        ).raise_for_status()

    def spawn(self, command: list[str], environment: dict[str, str]) -> subprocess.Popen[bytes]:
        """One more process of the service, as its user."""
        owner = pwd.getpwnam(self.user) if self.user else None
        identity = {"user": owner.pw_uid, "group": owner.pw_gid, "extra_groups": [], "cwd": "/"} if owner else {}
        return subprocess.Popen(command, env={**os.environ, **environment}, **identity)  # type: ignore[call-overload]

    def give(self, place: Path) -> None:
        """Give files that a test made to the service's user."""
        hand_over(self.user, place)

    def kill(self, name: str) -> None:
        """kill -9 one process of the system."""
        child = next(c for c in self.supervisor.children if c.name == name)
        assert child.process is not None
        os.kill(child.process.pid, signal.SIGKILL)
        child.process.wait()

    def sleep(self, asleep: bool) -> None:
        """Stop the processes that do something without being asked, or let them go on."""
        if asleep == self._asleep:
            return
        self._asleep = asleep
        for child in self.supervisor.children:
            if child.name in ("standin", "worker") and child.process is not None:
                child.process.send_signal(signal.SIGSTOP if asleep else signal.SIGCONT)

    def revive(self) -> None:
        """Start again what was killed, and wait until it answers."""
        self.supervisor.look()
        for child in self.supervisor.children:
            if child.name == "postgres":
                self._revive_postgres()
            self.supervisor.wait_ready(child)

    def _revive_postgres(self) -> None:
        """PostgreSQL refuses to start until the last backend of its former life has noticed; try until it does."""

        def up() -> bool:
            self.supervisor.look()
            try:
                psycopg.connect(self.postgres.url("bathotype"), connect_timeout=1).close()
            except psycopg.OperationalError:
                return False
            return True

        until(up, pause=0.2)

    def limit_link(self, pair: str, rate: float | None) -> None:
        """Change the bandwidth limit between two regions; a worker reads it when it starts."""
        path = self.data / "regions.yaml"
        places = yaml.safe_load(path.read_text())
        places["links"][pair]["bytes_per_second"] = rate
        path.write_text(yaml.safe_dump(places))
        if rate is not None:
            self.kill("worker")
            self.revive()

    def query(self, sql: str, *values: Any) -> list[tuple[Any, ...]]:
        """Look into the service's database."""
        with psycopg.connect(self.postgres.url("bathotype")) as connection:
            return connection.execute(sql, values).fetchall()

    def execute(self, sql: str, *values: Any) -> None:
        """Change the service's database behind its back."""
        with psycopg.connect(self.postgres.url("bathotype")) as connection:
            connection.execute(sql, values)

    def when_running(self, operation: Operation, step: str) -> bool:
        """Wait until a step of an operation runs; False where the operation ended first."""
        deadline = time.monotonic() + 300
        with psycopg.connect(self.postgres.url("bathotype"), autocommit=True) as connection:
            while time.monotonic() < deadline:
                row = connection.execute(
                    "select s.state, o.state from operation_steps s join operations o on o.id = s.operation_id "
                    "where o.id = %s and s.name = %s",
                    (operation.id, step),
                ).fetchone()
                assert row is not None
                if row[0] == "running":
                    return True
                if row[0] in ("done", "skipped") or row[1] in ("succeeded", "failed", "cancelled"):
                    return False
                time.sleep(0.003)
        raise AssertionError(f"{step} never ran")

    def temporary_at_site(self, operation: str) -> list[str]:
        """Disks at the site that a capture left behind."""
        return [
            d.id for d in self.site().disks("skerry-1", tag=("bathotype-operation", operation)) if d.kind == "snapshot"
        ]

    def disk_file(self, machine: str) -> Path:
        """The file behind a machine's boot disk."""
        found = self.site().machine_named("skerry-1", machine)
        assert found is not None and found.boot_disk is not None
        return self.data / "standin" / "disks" / f"{found.boot_disk.id}.raw"

    def captured(self, line: str, *, machine: str = "gauge-seed-01", release: bool = True, **options: Any) -> str:
        """A fresh version of a line (made if need be); returns its reference."""
        with self.core as client:
            if line not in {x.name for x in client.lines()}:
                client.create_line(line)
            done = client.wait(client.capture(machine=machine, line=line, **options).id)
            reference = str((done.result or {})["reference"])
            if release:
                client.release(reference)
            return reference

    def imported_noise(self, line: str, folder: Path, *, size: int) -> str:
        """A released version of random bytes: no other version shares a chunk, or a damage, with it."""
        image = folder / f"{line}.raw"
        image.write_bytes(os.urandom(size))
        with self.core as client:
            client.create_line(line)
            upload = client.upload(image, region="skerry-1").id
            request = {"upload": upload, "line": line, "number": "1.0.0", "region": "skerry-1", "profile": None,
                       "format": "raw"}  # fmt: skip
            client.wait(client.import_image(**request).id)
            reference = f"{line}@1.0.0"
            for finding in client.findings(reference):
                if finding.severity == "high":
                    client.accept(reference, finding.id, "made up for the test")
            client.release(reference)
            return reference


def run_id() -> str:
    """Names this test run, in each of its processes."""
    return os.environ.get("PYTEST_XDIST_TESTRUNUID") or str(os.getpid())


def prepared() -> Path:
    """A system that was started once in this run, and stopped: others are copied from it.

    Databases are made and demo disks built once, whatever the number of systems and of processes that test.
    """
    folder = Path(tempfile.gettempdir()) / f"bathotype-prepared-{run_id()}"
    lock = folder.with_suffix(".lock")
    with lock.open("w") as file:
        fcntl.flock(file, fcntl.LOCK_EX)
        if not folder.exists():
            making = folder.with_suffix(".making")
            making.mkdir()
            making.chmod(0o711)  # the database server's user must be able to walk there
            system = System(making)
            try:
                system.start()
            finally:
                system.stop()
            making.rename(folder)
    return folder


def forget_prepared() -> None:
    """Remove it: the run is over."""
    folder = Path(tempfile.gettempdir()) / f"bathotype-prepared-{run_id()}"
    folder.with_suffix(".lock").unlink(missing_ok=True)
    shutil.rmtree(folder, ignore_errors=True)


@contextmanager
def running_system(*, worker: bool = True) -> Iterator[System]:
    """PostgreSQL, stand-in, service and, where wanted, a worker, all real, in a folder of their own."""
    folder = Path(tempfile.mkdtemp(prefix="bathotype-tests-"))
    subprocess.run(["cp", "-a", "--sparse=always", f"{prepared()}/.", str(folder)], check=True)
    running = System(folder, worker=worker)
    try:
        running.start()
        yield running
    finally:
        running.stop()
        if os.environ.get("BATHOTYPE_KEEP_TESTS") is None:
            subprocess.Popen(["rm", "-rf", str(folder)])  # a gigabyte of disks: nobody need wait


def command_line(*argv: str, given: str = "", **environment: str) -> subprocess.CompletedProcess[str]:
    """Run the command line in this process as a user does in another; what it prints and its exit code."""
    out, errors = (io.TextIOWrapper(io.BytesIO(), "utf-8", write_through=True) for _ in range(2))
    kept, keyboard = dict(os.environ), sys.stdin
    for name in [n for n in os.environ if n.startswith("BATHOTYPE_")]:
        del os.environ[name]
    os.environ.update(environment)
    sys.stdin = io.StringIO(given)
    try:
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(errors):
            code = main(list(argv))
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else 1
    finally:
        sys.stdin = keyboard
        os.environ.clear()
        os.environ.update(kept)
    printed, said = (stream.buffer.getvalue().decode() for stream in (out, errors))  # type: ignore[attr-defined]
    return subprocess.CompletedProcess(argv, code, printed, said)


class Memory:
    """Bytes as a file that counts what is read of it."""

    def __init__(self, data: bytes) -> None:
        self._data, self.taken = data, 0

    @property
    def size(self) -> int:
        return len(self._data)

    def read(self, offset: int, length: int) -> bytes:
        assert offset >= 0 and length >= 0 and offset + length <= len(self._data), "a read outside the file"
        self.taken += length
        return self._data[offset : offset + length]

    def allocated(self) -> Ranges:
        return Ranges.of([(0, len(self._data))])


def e2fsck(image: Path) -> None:
    """Judge every ext4 partition of a raw image by e2fsck."""
    table = json.loads(
        subprocess.run(["/usr/sbin/sfdisk", "--json", str(image)], capture_output=True, check=True).stdout
    )
    for part in table["partitiontable"]["partitions"]:
        target = f"{image}?offset={part['start'] * 512}"
        if subprocess.run(["/usr/sbin/dumpe2fs", "-h", target], capture_output=True, check=False).returncode == 0:
            done = subprocess.run(["/usr/sbin/e2fsck", "-fn", target], capture_output=True, text=True, check=False)
            assert done.returncode == 0, done.stdout


def sparse_copy(source: Path, target: Path) -> None:
    """Copy a disk; its holes stay holes."""
    subprocess.run(["cp", "--sparse=always", str(source), str(target)], check=True)


def holds(image: Path, needle: bytes) -> bool:
    """Whether the raw bytes of an image hold something, by grep."""
    # Bytes, not characters, and holes passed over: eight times as fast.
    command = ["grep", "-qF", needle.decode(), str(image)]
    return subprocess.run(command, check=False, env={**os.environ, "LC_ALL": "C"}).returncode == 0
