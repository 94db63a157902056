"""Callers that mean no good: what is too large or steers terminals, log-ins by the hundred, tokens that would outlive their
maker."""

from __future__ import annotations

import json
import threading
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest

from bathotype.cli.output import visible
from bathotype.core.confined.reader import ConfinedReader
from bathotype.core.errors import NotSignedIn
from bathotype.service.kinds.verify import Verify
from bathotype.service.limits import MOST_SIGNED, MOST_UNSIGNED
from bathotype.service.operations.context import LockLost
from tests.office import Office
from tests.service.test_access import PASSWORD, joined


def drops(size: int) -> Iterator[bytes]:
    """A body whose length nobody was told."""
    for _ in range(size // 65536 + 1):
        yield b" " * 65536


def test_a_body_is_bounded_before_it_is_read(office: Office) -> None:
    stranger, known = office.http(None), office.http()
    log_in = b'{"user": "mara", "password": "' + b"x" * MOST_UNSIGNED + b'"}'
    assert stranger.post("/session", content=log_in).json()["code"] == "too-large"
    assert stranger.post("/session", content=drops(MOST_UNSIGNED)).status_code == 413
    assert stranger.post("/captures", content=b"{" * 4_000_000).json()["code"] == "not-signed-in"
    assert known.post("/lines", content=b" " * (MOST_SIGNED + 1)).status_code == 413
    assert known.post("/lines", content=drops(MOST_SIGNED)).json()["code"] == "too-large"
    part = {"Content-Digest": "sha-256=:x:"}
    assert known.put("/uploads/up_x/parts/0", content=drops(9 * 1024 * 1024), headers=part).status_code == 413
    for told in ("-1", "9" * 40, "x"):
        assert known.post("/lines", content=b"{}", headers={"Content-Length": told}).status_code == 413


def test_every_answer_bears_its_headers(office: Office) -> None:
    for answer in (office.http().get("/lines"), office.http(None).get("/lines"), office.http().get("/nowhere")):
        assert answer.headers["x-content-type-options"] == "nosniff" and answer.headers["cache-control"] == "no-store"
        assert answer.headers["x-frame-options"] == "DENY" and answer.headers["referrer-policy"] == "no-referrer"
        assert "frame-ancestors 'none'" in answer.headers["content-security-policy"]


@pytest.mark.parametrize("text", ["a\x00b", "\x1b]0;owned\x07", "\x9b2J", "\x7f", "\ud800"])
def test_what_steers_a_terminal_is_refused_and_never_printed(text: str, office: Office) -> None:
    with office.http() as http:
        assert http.post("/lines", json={"name": "plain", "about": "two\nlines"}).status_code == 201
        body = json.dumps({"name": "steered", "about": text}).encode()
        assert http.post("/lines", content=body, headers={"Content-Type": "application/json"}).status_code == 422
        if text.isascii():
            assert http.get("/instances", params={"line": text}).status_code in (404, 422)
    assert visible(text).isprintable() and visible("two\nlines\tö") == "two\nlines\tö"


def test_a_key_for_one_request_does_not_answer_another(office: Office) -> None:
    for name in ("one@1.0.0", "two@1.0.0"):
        office.version(name)
    with office.http() as http:
        key, body = {"Idempotency-Key": "again"}, {"to": [{"region": "fjord-2"}]}
        first = http.post("/versions/one@1.0.0/replications", json=body, headers=key)
        assert first.status_code < 300, first.text
        assert http.post("/versions/one@1.0.0/replications", json=body, headers=key).json() == first.json()
        other = http.post("/versions/two@1.0.0/replications", json=body, headers=key)
        assert other.json()["code"] == "key-reused"


def test_a_token_ends_with_the_one_that_made_it(office: Office) -> None:
    with office.core as client:
        outer = client.make_token(name="outer", days=2)
        with office.with_token(outer.token) as second:
            inner = second.make_token(name="inner", days=700)
            assert inner.expires_at <= outer.expires_at
        with office.with_token(inner.token) as third:
            last = third.make_token(name="last", days=1)
            assert last.expires_at - outer.expires_at < timedelta(0)
        client.revoke_token(outer.id)
    for token in (outer, inner, last):
        with office.with_token(token.token) as ended, pytest.raises(NotSignedIn, match="revoked"):
            list(ended.lines())


def test_many_log_ins_at_once_are_told_to_wait(office: Office) -> None:
    joined(office, "tove")
    codes: list[int] = []

    def log_in() -> None:
        body = {"user": "tove", "password": PASSWORD}
        codes.append(office.http(None).post("/session", json=body).status_code)

    threads = [threading.Thread(target=log_in) for _ in range(40)]
    for thread in threads:
        thread.start()
    assert office.http().get("/lines").status_code == 200, "others are answered meanwhile"
    for thread in threads:
        thread.join()
    assert set(codes) == {200, 429} and codes.count(200) >= 10


def test_an_account_has_so_many_uploads_under_way(office: Office) -> None:
    with office.http() as http:
        one = {"name": "a.raw", "region": "skerry-1", "size": 4096}
        assert http.post("/uploads", json={**one, "size": 1 << 45}).json()["code"] == "too-large"
        codes = [http.post("/uploads", json=one).status_code for _ in range(66)]
    assert codes == [201] * 64 + [409] * 2


@pytest.mark.parametrize("given", ["bytes=" + "9" * 5000 + "-", "bytes=0-" + "9" * 5000, "bytes=5-1", "lines=1-2"])
def test_odd_ranges_are_refused(given: str, office: Office) -> None:
    office.version("ranged@1.0.0")
    with office.http() as http:
        answer = http.get("/versions/ranged@1.0.0/disk", headers={"Range": given})
    assert answer.status_code in (416, 422)


def test_a_step_that_ends_its_worker_each_time_is_given_up(office: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    reference = office.version("gauge@1.0.0")

    def die(_: Verify) -> None:
        raise LockLost

    monkeypatch.setattr(Verify, "read", die)
    with office.core as client:
        operation = client.verify(reference, "skerry-1")
        for _ in range(5):
            office.runner.run(operation.id)
            assert client.operation(operation.id).state == "running", "another worker may have more luck"
        office.runner.run(operation.id)
        failed = client.operation(operation.id)
        assert failed.state == "failed" and failed.error and failed.error.code == "worker-ended"
        monkeypatch.undo()
        client.retry(operation.id)
        assert client.wait(operation.id).state == "succeeded"


def test_what_the_database_cannot_keep_fails_at_once(office: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    reference = office.version("gauge@1.0.0")
    monkeypatch.setattr(office.cloud, "number", lambda prefix: f"{prefix}-\0")
    with office.core as client:
        operation = client.launch(reference=reference, region="skerry-1", name="odd")
        office.runner.run(operation.id)
        failed = client.operation(operation.id)
        assert failed.state == "failed" and failed.error and failed.error.code == "unrecordable"


def test_a_clean_up_that_breaks_does_not_keep_an_operation_for_ever(
    office: Office, monkeypatch: pytest.MonkeyPatch
) -> None:
    reference = office.version("gauge@1.0.0")

    def breaks(*_: object) -> None:
        raise KeyError("x")

    monkeypatch.setattr(Verify, "clean_up", breaks)
    with office.core as client:
        operation = client.verify(reference, "skerry-1")
        office.runner.run(operation.id)
        assert client.operation(operation.id).state == "succeeded"
        assert any("KeyError" in line.text for line in client.operation_log(operation.id))


def test_few_disks_are_looked_at_at_once(office: Office, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    active, peak, gate = 0, 0, threading.Lock()

    class Counted(ConfinedReader):
        def __enter__(self) -> ConfinedReader:
            nonlocal active, peak
            with gate:
                active, peak = active + 1, max(peak, active + 1)
            return super().__enter__()

        def __exit__(self, *error: Any) -> None:
            nonlocal active
            super().__exit__(*error)
            with gate:
                active -= 1

    monkeypatch.setattr("bathotype.service.state.ConfinedReader", Counted)
    (tmp_path / "disk").write_bytes(bytes(1 << 20))
    with office.core as client:
        client.create_line("many")
        upload = client.upload(tmp_path / "disk", region="skerry-1").id
    answers: list[int] = []

    def ask() -> None:
        body = {"upload": upload, "line": "many", "number": "1.0.0", "profile": None, "format": "raw"}
        answers.append(office.http().post("/import-inspections", json=body).status_code)

    threads = [threading.Thread(target=ask) for _ in range(24)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert peak <= 4 and set(answers) <= {200, 429} and answers.count(200) >= 4, (peak, answers)
