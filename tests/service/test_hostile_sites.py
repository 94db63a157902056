"""A site that is an enemy's: whatever it answers over HTTP, the adapter gives what was asked for or an error with words."""

from __future__ import annotations

import gzip
import json
import threading
from collections.abc import Callable, Iterator
from copy import deepcopy
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from bathotype.core.errors import BathotypeError, NotFound, OutOfSpace, Refused, Unavailable
from bathotype.sites.protocol import Site
from bathotype.sites.standin import site as adapter
from bathotype.sites.standin.site import StandinSite

DISK = {"id": "d-1", "name": "boot", "size": 1 << 30, "kind": "disk", "boot": True, "changes_known": False, "tags": {}}
MACHINE = {
    "id": "m-1", "name": "gauge-1", "region": "skerry-1", "zone": "skerry-1a", "size": "small", "state": "running",
    "address": "192.0.2.7", "tags": {"owner": "tide-core"}, "disks": [DISK], "created_from": None, "mac": "52:54:00:00:00:01",
    "created_at": "2026-11-26T10:00:00+00:00", "subnet": "quay", "firewalls": ["web"], "public_address": None,
}  # fmt: skip
REGION = {"zones": ["skerry-1a"], "machines": {"boot": ["uefi"], "architectures": ["x86_64"]}}
ABOUT = {
    "regions": {"skerry-1": REGION}, "sizes": {"small": {"processors": 1, "memory_mib": 512}},
    "largest_disk": 1 << 40, "demanded_tags": ["owner"],
}  # fmt: skip
NETWORKS = {
    "subnets": [{"name": "quay", "network": "harbour", "cidr": "192.0.2.0/24", "free": 200}],
    "firewalls": [{"name": "web", "openings": [{"protocol": "tcp", "first": 80, "last": 80, "source": "0.0.0.0/0"}]}],
    "public_addresses": [{"address": "198.51.100.9", "machine": None}],
}  # fmt: skip
QUOTA = {"machines": {"used": 1, "most": 10}}
EXPORT = {"id": "e-1", "address": "nbd://127.0.0.1:1/e-1"}


@dataclass
class Enemy:
    """A site of which a test says what it answers: ``(status, headers, body)`` by the path that is asked for."""

    url: str = ""
    answer: Callable[[str], tuple[int, dict[str, str], bytes]] = lambda path: (200, {}, b"{}")
    asked: list[str] = field(default_factory=list)

    def says(self, body: Any, status: int = 200, **headers: str) -> None:
        """Answer everything with that."""
        raw = body if isinstance(body, bytes) else json.dumps(body).encode()
        self.answer = lambda path: (status, {k.replace("_", "-"): v for k, v in headers.items()}, raw)


@pytest.fixture(scope="module")
def enemy() -> Iterator[Enemy]:
    made = Enemy()

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"
        wbufsize = 1 << 16  # headers and body leave together

        def do_GET(self) -> None:
            self.rfile.read(int(self.headers.get("Content-Length", 0)))
            made.asked.append(self.path)
            status, headers, body = made.answer(self.path)
            self.send_response(status)
            for name, value in {"Content-Length": str(len(body)), **headers}.items():
                self.send_header(name, value)
            self.end_headers()
            self.wfile.write(body)

        do_POST = do_PUT = do_DELETE = do_GET

        def log_message(self, *_: object) -> None:
            """Say nothing."""

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    server.daemon_threads = True
    threading.Thread(target=server.serve_forever, args=(0.01,), daemon=True).start()
    made.url = f"http://127.0.0.1:{server.server_port}"
    yield made
    server.shutdown()
    server.server_close()


@pytest.fixture(scope="module")
def site(enemy: Enemy) -> Iterator[StandinSite]:
    with_patience = StandinSite(enemy.url, "token", patience=0.5)
    yield with_patience
    with_patience.close()


def limits(site: Site) -> object:
    return site.limits("skerry-1")


ASKED: dict[str, tuple[Callable[[Site], object], dict[str, Any]]] = {
    "machines": (lambda s: list(s.machines("skerry-1")), {"/v1/machines": {"items": [MACHINE], "after": None}}),
    "machine": (lambda s: s.machine("m-1"), {"/v1/machines/m-1": MACHINE}),
    "by name": (lambda s: s.machine_named("skerry-1", "x"), {"/v1/machines": {"items": [MACHINE], "after": None}}),
    "disks": (lambda s: list(s.disks("skerry-1", tag=("a", "b"))), {"/v1/disks": {"items": [DISK], "after": None}}),
    "snapshot": (lambda s: s.snapshot("d-1", key="k", name="n", tags={}), {"/v1/disks/d-1/snapshots": DISK}),
    "limits": (limits, {"/v1/site": ABOUT, "/v1/quota": QUOTA}),
    "networks": (lambda s: s.networks("skerry-1"), {"/v1/networks": NETWORKS}),
}


def by_path(answers: dict[str, Any]) -> Callable[[str], tuple[int, dict[str, str], bytes]]:
    return lambda path: (200, {}, json.dumps(answers[path.partition("?")[0]]).encode())


def leaves(data: Any, at: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """The way to everything in a JSON document."""
    yield at
    for key, value in data.items() if isinstance(data, dict) else enumerate(data) if isinstance(data, list) else ():
        yield from leaves(value, (*at, key))


def replaced(data: Any, at: tuple[Any, ...], value: Any) -> Any:
    if not at:
        return value
    changed = deepcopy(data)
    place = changed
    for key in at[:-1]:
        place = place[key]
    place[at[-1]] = value
    return changed


JSON = st.recursive(
    st.none() | st.booleans() | st.integers(-(1 << 70), 1 << 70) | st.floats() | st.text(max_size=20),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=8), inner, max_size=3),
    max_leaves=6,
)


@pytest.mark.parametrize("name", ASKED)
def test_the_right_answer_is_understood(enemy: Enemy, name: str) -> None:
    ask, answers = ASKED[name]
    enemy.answer = by_path(answers)
    patient = StandinSite(enemy.url, "token", patience=60)
    try:
        assert ask(patient)
    finally:
        patient.close()


@pytest.mark.parametrize("name", ASKED)
@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(data=st.data())
def test_a_right_answer_of_which_something_is_replaced(enemy: Enemy, site: StandinSite, name: str, data: Any) -> None:
    ask, answers = ASKED[name]
    path = data.draw(st.sampled_from(sorted(answers)))
    at = data.draw(st.sampled_from(list(leaves(answers[path]))))
    enemy.answer = by_path({**answers, path: replaced(answers[path], at, data.draw(JSON))})
    adapter_pages = adapter._MOST_PAGES
    adapter._MOST_PAGES = 3
    try:
        ask(site)
    except BathotypeError as error:
        assert "not what its interface says" in error.message
    finally:
        adapter._MOST_PAGES = adapter_pages


@pytest.mark.parametrize(
    ("field", "value"),
    [
        ("size", -1), ("size", 1 << 63), ("size", "large"), ("id", "../../v1/quota"), ("id", "m-1\n"), ("id", "x" * 101),
        ("name", "x" * 1001), ("tags", {str(n): "" for n in range(1001)}), ("name", None),
    ],
)  # fmt: skip
def test_what_is_out_of_bounds_is_refused(enemy: Enemy, site: StandinSite, field: str, value: Any) -> None:
    enemy.says({"items": [{**DISK, field: value}], "after": None})
    with pytest.raises(Unavailable, match="GET /v1/disks is not what its interface says"):
        list(site.disks("skerry-1", tag=("a", "b")))


@pytest.mark.parametrize("body", [b"", b"<html>sign in</html>", b'{"id": "m-1"', b"[" * 100_000, b"\xff\xfe", b"null"])
def test_what_is_no_answer_is_refused(enemy: Enemy, site: StandinSite, body: bytes) -> None:
    enemy.says(body)
    with pytest.raises(Unavailable, match="not what its interface says"):
        site.machine("m-1")


def test_nothing_that_steers_a_terminal_comes_through(enemy: Enemy, site: StandinSite) -> None:
    enemy.says({**MACHINE, "name": "gauge\x1b[2J\x00", "tags": {"a\nb": "\x9b"}})
    machine = site.machine("m-1")
    assert (machine.name, machine.tags) == ("gauge\ufffd[2J\ufffd", {"a\ufffdb": "\ufffd"})
    enemy.says({"detail": "no\x1b[31m", "code": "Bad Code"}, 409)
    with pytest.raises(Refused) as refused:
        site.power("m-1", "stop")
    assert (refused.value.message, refused.value.code) == ("The site refuses: HTTP 409", "site-refused")
    enemy.says({"detail": "no\x1b[31m", "code": "busy"}, 409)
    with pytest.raises(Refused) as refused:
        site.power("m-1", "stop")
    assert (refused.value.message, refused.value.code) == ("The site refuses: no\ufffd[31m", "site-busy")


def test_pages_come_to_an_end(enemy: Enemy, site: StandinSite, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(adapter, "_MOST_PAGES", 20)
    enemy.says({"items": [MACHINE], "after": "m-1"})
    enemy.asked.clear()
    with pytest.raises(Unavailable, match="not what its interface says"):
        list(site.machines("skerry-1"))
    assert len(enemy.asked) == 20


def test_an_answer_is_no_longer_than_memory_allows(
    enemy: Enemy, site: StandinSite, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(adapter, "_MOST_BODY", 1 << 20)
    bomb = gzip.compress(bytes(64 << 20))
    assert len(bomb) < 1 << 20
    enemy.says(bomb, Content_Encoding="gzip")
    with pytest.raises(Unavailable, match="not what its interface says"):
        site.console("m-1")
    enemy.says(b"no gzip", Content_Encoding="gzip")
    with pytest.raises(Unavailable, match="does not answer"):
        site.console("m-1")


@pytest.mark.parametrize("told", ["soon", "-1", "nan", "1e300", "Wed, 21 Oct 2026 07:28:00 GMT", "٣", ""])
def test_a_call_that_came_too_soon_is_repeated(enemy: Enemy, site: StandinSite, told: str) -> None:
    turns = iter(
        [(429, {"Retry-After": told.encode().decode("latin-1")}, b""), (200, {}, json.dumps(MACHINE).encode())]
    )
    enemy.answer = lambda path: next(turns)
    assert site.machine("m-1").id == "m-1"


def test_no_other_address_is_gone_to(enemy: Enemy, site: StandinSite) -> None:
    enemy.says(b"", 302, Location=f"{enemy.url}/v1/elsewhere")
    enemy.asked.clear()
    with pytest.raises(Unavailable, match="not what its interface says"):
        site.machine("m-1")
    assert enemy.asked == ["/v1/machines/m-1"]
    enemy.asked.clear()
    for name in ("../quota", "m-1\n", "", "m 1", "x" * 101):
        with pytest.raises(NotFound):
            site.machine(name)
    assert not enemy.asked


@pytest.mark.parametrize("address", ["nbd+unix:///x?socket=/run/postgresql/s", "file:///etc/passwd", "", " nbd://h/x"])
def test_a_disk_is_offered_by_a_host(enemy: Enemy, site: StandinSite, address: str) -> None:
    enemy.says({**EXPORT, "address": address})
    with pytest.raises(Unavailable, match="not what its interface says"), site.open_disk("d-1"):
        pass


def test_what_a_site_refuses_is_said_as_it_says_it(enemy: Enemy, site: StandinSite) -> None:
    for status, kind in ((404, NotFound), (507, OutOfSpace), (403, Refused), (418, Refused)):
        enemy.says({"detail": "not today"}, status)
        with pytest.raises(kind, match="not today"):
            site.machine("m-1")
    enemy.says([], 503)
    with pytest.raises(Unavailable, match="does not answer"):
        site.machine("m-1")
