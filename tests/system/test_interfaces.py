"""The HTTP API and the command line as their users meet them."""

from __future__ import annotations

import json
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import httpx
import pytest

from tests.support import System, e2fsck


@pytest.fixture(scope="module")
def http(system: System) -> httpx.Client:
    """Plain HTTP, without our client."""
    return httpx.Client(
        base_url=f"{system.url}/api/v1",
        trust_env=False,
        timeout=60,
        headers={"Authorization": f"Bearer {system.secrets['api']['tide-core']}"},
    )


def test_a_service_that_is_away_is_waited_for_and_it_is_said_once(system: System, cli: Any) -> None:
    system.kill("serve")
    with ThreadPoolExecutor(1) as pool:
        asking = pool.submit(cli, "machines", "list")
        time.sleep(2)
        system.revive()
        done = asking.result()
    assert done.returncode == 0 and "gauge-seed-01" in done.stdout
    [told] = done.stderr.splitlines()
    assert told.startswith("bathotype: The service at") and told.endswith("Trying again.")


def test_errors_are_problem_documents(system: System, http: httpx.Client) -> None:
    cases = [
        (http.get("/lines/nothing"), 404, "not-found"),
        (http.get("/versions/Bad@x"), 422, "invalid"),
        (http.post("/captures", json={"machine": "gauge-seed-01"}), 422, "invalid"),
        (http.get("/nowhere"), 404, "not-found"),
        (http.get("/lines", headers={"Authorization": "Bearer wrong"}), 401, "not-signed-in"),
        (http.get("/lines", params={"cursor": "%%%"}), 422, "invalid"),
        (http.get("/machines", params={"region": "atlantis"}), 404, "not-found"),
        (http.post("/captures", json={"machine": "surge-vault-01", "line": "surge-model"}), 409, "preflight"),
    ]
    for answer, status, code in cases:
        assert answer.status_code == status, answer.text
        assert answer.headers["content-type"] == "application/problem+json"
        body = answer.json()
        assert body["code"] == code and body["status"] == status and body["detail"] and body["request_id"]
    assert "LUKS" in cases[-1][0].json()["detail"] and "inside the machine" in cases[-1][0].json()["advice"]


def test_another_account_sees_nothing(system: System, http: httpx.Client) -> None:
    reference = system.captured("private-line", number="1.0.0")
    operation = http.get("/operations").json()["items"][0]["id"]
    stranger = {"Authorization": f"Bearer {system.secrets['api']['harbour-watch']}"}
    for path in (
        f"/versions/{reference}",
        f"/versions/tide-core/{reference}",
        f"/operations/{operation}",
        "/lines/private-line",
        f"/versions/{reference}/disk",
        f"/versions/{reference}/findings",
    ):
        assert http.get(path, headers=stranger).status_code == 404, path
    event = http.get("/events", params={"action": "version.released"}).json()["items"][0]
    assert event["source"] == "127.0.0.1", "the trail says from where"
    assert system.query("select request_id from operations where id = %s", operation)[0][0]
    assert http.get("/events", headers=stranger).json()["items"] != http.get("/events").json()["items"]


def test_a_repeated_request_gets_the_first_answer(http: httpx.Client) -> None:
    key = {"Idempotency-Key": "create-once"}
    first = http.post("/lines", json={"name": "once-only"}, headers=key)
    again = http.post("/lines", json={"name": "once-only"}, headers=key)
    assert first.status_code == 201 and again.json() == first.json()
    assert http.post("/lines", json={"name": "once-only"}).json()["code"] == "exists"
    other = http.post("/lines", json={"name": "something-else"}, headers=key)
    assert other.status_code == 409 and other.json()["code"] == "key-reused"


def test_lists_are_paged_whole_and_in_order(http: httpx.Client) -> None:
    for number in range(7):
        http.post("/lines", json={"name": f"paged-{number}"})
    names, cursor = [], None
    while True:
        page = http.get("/lines", params={"limit": 3, **({"cursor": cursor} if cursor else {})}).json()
        assert len(page["items"]) <= 3
        names += [x["name"] for x in page["items"]]
        cursor = page["next"]
        if cursor is None:
            break
    assert names == sorted(set(names)) and {f"paged-{n}" for n in range(7)} <= set(names)


def test_progress_comes_as_server_sent_events(system: System, http: httpx.Client) -> None:
    system.captured("watched", number="1.0.0")
    operation = http.get("/operations").json()["items"][0]["id"]
    with http.stream("GET", f"/operations/{operation}/events") as answer:
        assert answer.headers["content-type"].startswith("text/event-stream")
        lines = [line for line in answer.iter_lines() if line]
    assert lines[0] == "event: operation"
    last = json.loads(lines[-1].removeprefix("data: "))
    assert (
        last["state"] == "succeeded"
        and last["percent"] == 100.0
        and {s["state"] for s in last["steps"]} <= {"done", "skipped"}
    )


def test_the_disk_comes_by_range(system: System, http: httpx.Client) -> None:
    reference = system.captured("ranged", number="1.0.0")
    part = http.get(f"/versions/{reference}/disk", headers={"Range": "bytes=510-511"})
    assert (
        part.status_code == 206
        and part.content == b"\x55\xaa"
        and part.headers["content-range"].startswith("bytes 510-511/")
    )
    assert http.get(f"/versions/{reference}/disk", headers={"Range": "bytes=99999999999-"}).status_code == 416


def test_the_openapi_document_is_complete(http: httpx.Client) -> None:
    document = http.get("/openapi.json").json()
    for path, methods in document["paths"].items():
        for method, operation in methods.items():
            assert operation.get("description"), f"{method} {path} has no description"
            body = operation.get("requestBody", {}).get("content", {}).get("application/json", {}).get("schema", {})
            if "$ref" in body and not path.endswith("/first-boot/{name}"):
                assert document["components"]["schemas"][body["$ref"].rsplit("/", 1)[1]]["examples"], path
            assert "401" in operation["responses"] or path.endswith("/profiles"), path


def test_health_and_metrics(system: System) -> None:
    assert httpx.get(f"{system.url}/readyz", trust_env=False).text == "ready\n"
    text = httpx.get(f"{system.url}/metrics", trust_env=False).text
    assert 'bathotype_operations{kind="capture",state="succeeded"}' in text and "bathotype_stored_bytes" in text
    assert "Bathotype" in httpx.get(system.url, trust_env=False).text


def test_the_command_line_does_the_whole_job(cli, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    def ok(*argv: str) -> str:
        done = cli(*argv)
        assert done.returncode == 0, done.stderr
        return str(done.stdout)

    assert "gauge-seed-01\tskerry-1\tskerry-1a\trunning" in ok("machines", "list")
    assert "warning\tupdates\t3 package updates" in ok("machines", "inspect", "gauge-seed-01")
    ok("lines", "create", "by-hand", "--about", "for the test")
    planned = ok("capture", "gauge-seed-01", "--line", "by-hand", "--plan")
    assert "histories\tremove\t/home/mara/.bash_history" in planned
    assert json.loads(ok("capture", "gauge-seed-01", "--line", "by-hand", "--plan", "--json"))["bytes"] > 0
    captured = ok("capture", "gauge-seed-01", "--line", "by-hand", "--number", "1.0.0", "--notes", "hello")
    assert "captured\tby-hand@1.0.0" in captured
    assert "source-host-name" in ok("residue", "by-hand@1.0.0")
    assert ok("versions", "release", "by-hand@1.0.0") == "by-hand@1.0.0 released\n"
    assert ok("marks", "set", "by-hand@1.0.0", "stable") == "by-hand@stable -> 1.0.0\n"
    assert "BATHOTYPE_REFERENCE=tide-core/by-hand@1.0.0" in ok(
        "resolve", "by-hand@stable", "--region", "skerry-1", "--format", "env"
    )
    (tmp_path / "boot.yaml").write_text("domain: tide.example\nhost_name: 'h-{n}'\n")
    launched = ok(
        "launch",
        "by-hand",
        "--region",
        "skerry-1",
        "--count",
        "2",
        "--name",
        "hand-{n}",
        "--first-boot",
        str(tmp_path / "boot.yaml"),
    )
    assert launched.count("\trunning\t") == 2
    shown = ok("instances", "show", "hand-1")
    assert "host name\th-1" in shown and "host key\tSHA256:" in shown
    ok("export", "by-hand@1.0.0", "--to", str(tmp_path / "disk.raw"))
    e2fsck(tmp_path / "disk.raw")
    assert "openssl\t" in ok("packages", "by-hand@1.0.0")
    assert "by-hand@1.0.0\treleased\topenssl" in ok("packages", "--which", "openssl")
    ok("versions", "hold", "by-hand@1.0.0", "--name", "audit", "--reason", "because of the audit")
    ok("sunset", "by-hand@1.0.0", "--retire-on", "2099-01-01")
    ok("marks", "drop", "by-hand", "stable")
    assert "2 instances" in cli("retire", "by-hand@1.0.0", "--plan").stderr
    ok("retire", "by-hand@1.0.0")
    refused = cli("purge", "by-hand@1.0.0")
    assert refused.returncode == 4 and "hold 'audit'" in refused.stderr and refused.stderr.count("\n") == 1
    assert "version.retired" in ok("events", "list", "--subject", "by-hand@1.0.0")
    assert ok("events", "check").startswith("whole")
    for name in ("hand-1", "hand-2"):
        ok("instances", "terminate", name)


@pytest.mark.parametrize(
    ("argv", "code", "told"),
    [
        (["versions", "show", "gauge-nothing@1.0.0"], 3, "no line"),
        (["machines", "show", "ghost"], 3, "no machine"),
        (["machines", "inspect", "surge-vault-01"], 4, "cannot be captured"),
        (["launch", "gauge-collector"], 2, "--region"),
        (["capture", "gauge-seed-01", "--line", "gauge-collector", "--number", "one"], 2, "not a version number"),
        (["capture", "gauge-seed-02", "--line", "gauge-collector"], 4, "Add --stopped"),
        (["capture", "quay-gauge-01", "--line", "gauge-collector"], 3, "no machine"),
        (["capture", "gauge-seed-01", "--line", "gauge-collector", "--region", "fjord-2"], 3, "is in region skerry-1"),
        (["sunset", "gauge-collector@1.0.0", "--retire-on", "soon"], 2, "not a date"),
        (["capture", "gauge-seed-01", "--line", "gauge-collector", "--profile", "./none.yaml"], 2, "cannot be read"),
        (["operations", "show", "op-none"], 3, "no operation"),
    ],
)
def test_the_command_line_says_what_is_wrong(cli, argv: list[str], code: int, told: str) -> None:  # type: ignore[no-untyped-def]
    done = cli(*argv)
    assert done.returncode == code, done.stderr
    assert told in done.stderr and "Traceback" not in done.stderr


def test_the_standin_gets_its_own_options() -> None:
    command = [sys.executable, "-m", "bathotype.cli.main"]
    helped = subprocess.run([*command, "standin", "--help"], capture_output=True, text=True, check=True)
    assert "--tenancy" in helped.stdout
    other = subprocess.run([*command, "serve", "--tenancy", "x"], capture_output=True, text=True, check=False)
    assert other.returncode == 2 and "unrecognized" in other.stderr


def test_without_a_service_or_token() -> None:
    command = [sys.executable, "-m", "bathotype.cli.main", "lines", "list"]
    bare = subprocess.run(command, capture_output=True, text=True, env={"PATH": "/usr/bin"}, check=False)
    assert bare.returncode == 1 and "BATHOTYPE_URL and BATHOTYPE_TOKEN not set" in bare.stderr


def test_secrets_are_nowhere_they_should_not_be(system: System) -> None:
    logs = b"".join(p.read_bytes() for p in (system.data / "logs").glob("*.log"))
    for token in (*system.secrets["api"].values(), *system.secrets["site"].values()):
        assert token.encode() not in logs
        assert system.query("select count(*) from api_tokens where digest like %s", f"%{token}%") == [(0,)]
        assert system.query(
            "select count(*) from operations where params::text || memo::text like %s", f"%{token}%"
        ) == [(0,)]
    for name in ("secrets.json", "demo.env", "regions.yaml", "tenancy.json"):
        assert (system.data / name).stat().st_mode & 0o077 == 0


def test_the_audit_trail_cannot_be_rewritten(system: System) -> None:
    import psycopg

    for statement in ("update events set actor = 'nobody'", "delete from events", "truncate events"):
        with (
            pytest.raises(psycopg.errors.RaiseException, match="append-only"),
            psycopg.connect(system.postgres.url("bathotype")) as c,
        ):
            c.execute(statement)
