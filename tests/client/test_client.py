"""The client: errors as exceptions, pages, what is sent, and connections that break."""

from __future__ import annotations

import httpx
import pytest

from bathotype.client import Client, NotSignedIn
from bathotype.core.errors import (
    BathotypeError,
    Forbidden,
    Invalid,
    NotFound,
    OutOfSpace,
    Refused,
    Unavailable,
    class_for_status,
)
from tests.office import Office


def answering(*answers: httpx.Response | Exception) -> tuple[Client, list[httpx.Request]]:
    """A client whose calls get these answers, one after another."""
    seen: list[httpx.Request] = []

    def handle(request: httpx.Request) -> httpx.Response:
        seen.append(request)
        answer = answers[min(len(seen), len(answers)) - 1]
        if isinstance(answer, Exception):
            raise answer
        return answer

    http = httpx.Client(transport=httpx.MockTransport(handle))
    return Client("http://service", "bt_token", account="tide-core", http=http), seen


def problem(status: int, code: str) -> httpx.Response:
    return httpx.Response(status, json={"detail": "It is so.", "advice": "Do this.", "code": code})


@pytest.mark.parametrize(
    ("status", "kind"),
    [(401, NotSignedIn), (403, Forbidden), (404, NotFound), (409, Refused), (422, Invalid), (507, OutOfSpace)],
)
def test_a_problem_becomes_the_exception_of_its_class(status: int, kind: type[Exception]) -> None:
    client, _ = answering(problem(status, "some-code"))
    with pytest.raises(kind, match=r"It is so\. Do this\.") as caught:
        client.version("gauge@1.0.0")
    assert caught.value.code == "some-code" and class_for_status(status) is kind  # type: ignore[attr-defined]


def test_a_call_that_can_be_repeated_is_repeated_with_the_same_key() -> None:
    made = httpx.Response(201, json={"account": "a", "name": "x", "about": "", "newest": None, "versions": 0,
                                     "running": 0, "created_at": "2026-01-01T00:00:00Z"})  # fmt: skip
    client, seen = answering(httpx.ConnectError("down"), problem(503, "unavailable"), made)
    assert client.create_line("x").name == "x"
    assert len(seen) == 3 and len({r.headers["Idempotency-Key"] for r in seen}) == 1
    assert {r.headers["Bathotype-Account"] for r in seen} == {"tide-core"}
    client, seen = answering(httpx.ConnectError("down"))
    with pytest.raises(Unavailable, match="does not answer"):
        client.release("x@1.0.0")
    assert len(seen) == 1, "a change without a key is not repeated by itself"


@pytest.mark.parametrize(
    ("body", "why"),
    [
        (b"<html>Welcome</html>", "is no JSON"),
        (b"[]", "must be a group of names and values"),
        (b'{"account": "a"}', "name: is missing"),
    ],
)
def test_what_is_not_the_service_is_not_taken_for_it(body: bytes, why: str) -> None:
    client, _ = answering(httpx.Response(200, content=body))
    with pytest.raises(BathotypeError, match=r"^http://service does not answer as Bathotype does") as caught:
        client.line("gauge")
    assert why in caught.value.message and "Check BATHOTYPE_URL" in caught.value.advice
    with pytest.raises(BathotypeError, match="does not answer as Bathotype does"):
        list(client.lines())
    if body != b"[]":
        with pytest.raises(BathotypeError, match="does not answer as Bathotype does"):
            client.keys("tide-core")
    client, _ = answering(httpx.Response(403, content=body))
    with pytest.raises(Forbidden, match=r"The service answered 403\."):
        client.line("gauge")


@pytest.mark.parametrize("text", ["bt_\u00e9", "bt_\n", "\u200b"])
def test_what_is_no_token_is_not_sent(text: str) -> None:
    with pytest.raises(Invalid, match="The token holds a character that no token has"):
        Client("http://service", text)
    with pytest.raises(Invalid, match="account's name holds"):
        Client("http://service", "bt_x", account=text)


def test_pages_are_followed_and_filters_are_sent_as_they_are() -> None:
    pages = [
        httpx.Response(200, json={"items": [], "next": "abc"}),
        httpx.Response(200, json={"items": []} | {"next": None}),
    ]
    client, seen = answering(*pages)
    assert list(client.instances(state=["running", "lost"], behind=True)) == []
    assert seen[0].url.params.multi_items() == [
        ("state", "running"), ("state", "lost"), ("behind", "true"), ("limit", "500"),
    ]  # fmt: skip
    assert seen[1].url.params["cursor"] == "abc"
    with pytest.raises(TypeError):
        client.instances(stat="running")  # type: ignore[call-arg]


def test_without_a_service_or_token(monkeypatch: pytest.MonkeyPatch, tmp_path: object) -> None:
    for name in ("BATHOTYPE_URL", "BATHOTYPE_TOKEN", "BATHOTYPE_ACCOUNT"):
        monkeypatch.delenv(name, raising=False)
    monkeypatch.setenv("BATHOTYPE_CREDENTIALS", f"{tmp_path}/none.json")
    with pytest.raises(NotSignedIn, match="You are not signed in, and BATHOTYPE_URL and BATHOTYPE_TOKEN are not set"):
        Client.from_environment()


def test_every_call_for_reading_works_on_an_empty_service(office: Office) -> None:
    with office.core as client:
        for name in ("machines", "lines", "instances", "events", "operations"):
            list(getattr(client, name)())
        for name in ("alerts", "allowances", "calendar", "instance_counts", "members", "rules", "saved_first_boot",
                     "shared_versions", "shares", "tokens"):  # fmt: skip
            assert getattr(client, name)() is not None
        assert client.who_am_i().accounts[0].account == "tide-core"
