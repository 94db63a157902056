"""Region stores and sources in an S3-compatible store (moto's server), with the latency of a real one."""

from __future__ import annotations

import random
import threading
import time
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import httpx
import pytest
from moto.server import ThreadedMotoServer

from bathotype.core.disk.layout import read_layout, used_ranges
from bathotype.core.disk.source import FileSource, open_file
from bathotype.core.errors import Damaged, NotFound, Refused, Unavailable
from bathotype.core.formats.catalogue import lay_out, open_image
from bathotype.core.formats.ovf import Appliance
from bathotype.core.store.buckets import BucketObject
from bathotype.core.store.collect import plan_collect
from bathotype.core.store.ingest import ingest
from bathotype.core.store.manifest import ChunkIndex
from bathotype.core.store.materialise import StoredDisk, compare, damaged_rows, materialise
from bathotype.core.store.region import RegionStore

KEYS = {"access_key_id": "AKIDEXAMPLE", "secret_access_key": "not-a-secret"}


class Slow(BaseHTTPRequestHandler):
    """Passes calls on to the store behind it, each 20 ms later, and counts those under way at once."""

    behind = ""
    most = 0
    now = 0
    lock = threading.Lock()
    protocol_version = "HTTP/1.1"

    def _pass(self) -> None:
        with Slow.lock:
            Slow.now += 1
            Slow.most = max(Slow.most, Slow.now)
        time.sleep(0.02)
        try:
            body = self.rfile.read(int(self.headers.get("Content-Length") or 0))
            headers = {k: v for k, v in self.headers.items() if k.lower() not in ("host", "connection")}
            with httpx.Client(trust_env=False) as client:
                answer = client.request(self.command, Slow.behind + self.path, content=body, headers=headers)
        finally:
            with Slow.lock:
                Slow.now -= 1
        self.send_response(answer.status_code)
        for name, value in answer.headers.items():
            if name.lower() not in ("transfer-encoding", "content-length", "connection", "date", "server"):
                self.send_header(name, value)
        length = answer.headers.get("Content-Length", "0") if self.command == "HEAD" else str(len(answer.content))
        self.send_header("Content-Length", length)
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(answer.content)

    do_GET = do_PUT = do_HEAD = do_DELETE = do_POST = _pass

    def log_message(self, *_: object) -> None:
        """Quiet."""


@pytest.fixture(scope="module")
def endpoint() -> Iterator[str]:
    """An S3-compatible store with one bucket, 20 ms away."""
    server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
    server.start()
    host, port = server.get_host_and_port()
    Slow.behind = f"http://{host}:{port}"
    proxy = ThreadingHTTPServer(("127.0.0.1", 0), Slow)
    threading.Thread(target=proxy.serve_forever, daemon=True).start()
    httpx.put(f"{Slow.behind}/halvane-store", trust_env=False).raise_for_status()
    yield f"http://127.0.0.1:{proxy.server_port}"
    proxy.shutdown()
    server.stop()


@pytest.fixture
def store(endpoint: str, monkeypatch: pytest.MonkeyPatch) -> RegionStore:
    """A region store in that bucket, as the environment of a deployment names it."""
    for name, value in {
        "AWS_ENDPOINT": endpoint, "AWS_ALLOW_HTTP": "true", "AWS_REGION": "us-east-1",
        "AWS_ACCESS_KEY_ID": KEYS["access_key_id"], "AWS_SECRET_ACCESS_KEY": KEYS["secret_access_key"],
    }.items():  # fmt: skip
        monkeypatch.setenv(name, value)
    return RegionStore("lagoon-3", "s3://halvane-store")


def test_a_store_far_away_keeps_a_disk_as_a_near_one_does(store: RegionStore, demo_disk: Path, tmp_path: Path) -> None:
    near = RegionStore("near", f"file://{tmp_path}/near")
    with open_file(demo_disk) as source:
        used = used_ranges(source, read_layout(source))
        Slow.most = 0
        far = ingest(source, used, store, ChunkIndex([]))
        same = ingest(source, used, near, ChunkIndex([]))
    assert far.manifest.content_digest == same.manifest.content_digest and far.new_packs == same.new_packs
    store.put_manifest("ve-1", far.manifest)
    manifest = store.get_manifest("ve-1")
    target = tmp_path / "out"
    target.write_bytes(b"")
    target.open("r+b").truncate(manifest.size)
    writer = FileSource(target, writable=True)
    materialise(manifest, store, writer)
    assert compare(manifest, writer) == [] and damaged_rows(manifest, store)[1] == []
    assert Slow.most >= 2, "calls overlap: latency does not add up"
    assert {name for name, _ in store.packs()} == set(manifest.packs)
    assert plan_collect(store.packs(), [manifest]).dead == {}
    begun = time.monotonic()
    StoredDisk(manifest, store).read(0, 32 * 1024 * 1024)
    assert time.monotonic() - begun < 30
    store.delete_manifest("ve-1")
    for name in manifest.packs:
        store.delete_pack(name)
        store.delete_pack(name)
    with pytest.raises(NotFound):
        store.get_manifest("ve-1")
    with pytest.raises(Damaged, match="missing"):
        store.get_frames(manifest.packs[0], 8, 10)


def test_an_image_is_opened_where_it_lies(endpoint: str, demo_disk: Path, tmp_path: Path) -> None:
    with open_file(demo_disk) as disk:
        file = lay_out("vmdk", disk, appliance=Appliance("g", "g", "1"), identity=bytes(16))
        httpx.put(f"{Slow.behind}/halvane-store/images/g.vmdk", content=file.read(0, file.size), trust_env=False)
        settings = {"region": "us-east-1", "endpoint": endpoint, **KEYS}
        opened = open_image(BucketObject("halvane-store", "images/g.vmdk", settings).open())
        assert opened.format == "vmdk" and opened.disk.size == disk.size
        assert [v.filesystem for v in read_layout(opened.disk).volumes] == ["boot-code", "swap", "ext4"]
        at = 200 * 1024 * 1024
        assert opened.disk.read(at, 300_000) == disk.read(at, 300_000)


@pytest.mark.parametrize("kind", ["store", "folder"])
def test_an_object_is_there_when_it_is_whole(kind: str, endpoint: str, tmp_path: Path) -> None:
    settings = {"folder": str(tmp_path)} if kind == "folder" else {"region": "us-east-1", "endpoint": endpoint, **KEYS}
    target = BucketObject("halvane-store", f"made/{kind}.raw", settings)
    data = random.Random(7).randbytes(19 * 1024 * 1024 + 5)
    pieces = [data[at : at + 1024 * 1024] for at in range(0, len(data), 1024 * 1024)]

    def broken() -> Iterator[bytes]:
        yield from pieces[:12]
        raise KeyError("stopped")

    with pytest.raises(KeyError, match="stopped"):
        target.put(broken(), len(data))
    assert not target.exists(), "nothing of what was cut short is seen"
    target.put(iter(pieces), len(data))
    assert target.exists() and target.size() == len(data) and target.open().read(0, len(data)) == data
    target.put(iter(pieces[:1]), len(pieces[0]))
    assert target.size() == len(pieces[0]), "and it can be replaced"
    with pytest.raises(Refused, match="an object has"):
        target.put(iter(()), 6 << 40)


def refusing(status: int, code: str) -> str:
    """A store that refuses everything, as S3 says it."""

    class Handler(BaseHTTPRequestHandler):
        def _no(self) -> None:
            body = f"<?xml version='1.0'?><Error><Code>{code}</Code><Message>no</Message></Error>".encode()
            self.send_response(status)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            if self.command != "HEAD":
                self.wfile.write(body)

        do_GET = do_HEAD = _no

        def log_message(self, *_: object) -> None:
            """Quiet."""

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    return f"http://127.0.0.1:{server.server_port}"


def test_what_is_wrong_is_told_at_once(endpoint: str) -> None:
    def opened(**settings: str) -> None:
        known = {"region": "us-east-1", "endpoint": endpoint, **KEYS, **settings}
        BucketObject("halvane-store", "g.vmdk", known).open()

    cases = (
        ({}, NotFound, "There is no s3://halvane-store/g.vmdk"),
        ({"endpoint": refusing(403, "InvalidAccessKeyId")}, Refused, "does not accept our key"),
        ({"endpoint": refusing(301, "PermanentRedirect")}, Refused, "not in region us-east-1"),
        ({"endpoint": refusing(400, "AuthorizationHeaderMalformed")}, Refused, "not in region us-east-1"),
        ({"endpoint": "http://127.0.0.1:1"}, Unavailable, "cannot be reached"),
    )
    for settings, kind, told in cases:
        begun = time.monotonic()
        with pytest.raises(kind, match=told):
            opened(**settings)
        assert time.monotonic() - begun < 9
