"""The HTTP API as its users meet it: problems, pages, repeated requests, ranges, progress, its own document."""

from __future__ import annotations

import base64
import json
import threading

import httpx
import pytest

from tests.office import Office


@pytest.fixture(scope="module")
def http(shared_office: Office) -> httpx.Client:
    """Plain HTTP, without our client."""
    return shared_office.http()


def test_errors_are_problem_documents(http: httpx.Client) -> None:
    cases = [
        (http.get("/lines/nothing"), 404, "not-found"),
        (http.get("/versions/Bad@x"), 422, "invalid"),
        (http.post("/captures", json={"machine": "gauge-seed-01"}), 422, "invalid"),
        (http.get("/nowhere"), 404, "not-found"),
        (http.get("/lines", headers={"Authorization": "Bearer wrong"}), 401, "not-signed-in"),
        (http.get("/lines", params={"cursor": "%%%"}), 422, "invalid"),
        (http.get("/events", params={"cursor": "ImFiYyI="}), 422, "invalid"),
        (http.get("/instances", params={"stat": "running"}), 422, "invalid"),
        (http.get("/machines", params={"region": "atlantis"}), 404, "not-found"),
        (http.put("/healthz"), 404, "not-found"),
    ]
    for answer, status, code in cases:
        assert answer.status_code == status, answer.text
        assert answer.headers["content-type"] == "application/problem+json"
        body = answer.json()
        assert body["code"] == code and body["status"] == status and body["detail"] and body["request_id"]
    assert "There is no parameter 'stat'" in cases[7][0].json()["detail"] and "state" in cases[7][0].json()["advice"]


def test_an_address_that_takes_no_such_method_says_which_it_takes(http: httpx.Client) -> None:
    for path, methods in (
        ("/lines/gauge", "DELETE, GET, HEAD"),
        ("/versions/gauge@1.0.0", "GET, HEAD, PATCH"),
        ("/lines", "GET, HEAD, POST"),
    ):
        answer = http.put(path)
        assert (answer.status_code, answer.headers["allow"]) == (405, methods)
        assert answer.json()["detail"] == f"PUT is not possible at /api/v1{path}."


@pytest.mark.parametrize(
    "path", ["/lines", "/lines/nothing", "/versions/gauge@1.0.0", "/versions/gauge@1.0.0/disk", "/lines?format=csv"]
)
def test_head_answers_what_get_answers_but_its_body(http: httpx.Client, path: str) -> None:
    head, got = http.head(path), http.get(path)
    assert head.status_code == got.status_code and head.content == b"" and got.content
    for each in (head, got):
        del each.headers["x-request-id"]
    assert head.headers == got.headers


def test_head_of_what_never_ends_ends(http: httpx.Client) -> None:
    answer = http.head("/feed")  # GET would go on for as long as somebody reads
    assert answer.status_code == 200 and answer.headers["content-type"].startswith("text/event-stream")
    assert http.head("/captures").status_code == 405


@pytest.mark.parametrize(
    ("body", "status", "detail"),
    [
        (b"{", 422, "The request is not valid: body: is not JSON."),
        (b'{"notes": "\xff"}', 400, "The body of this request cannot be read."),
        (b"[]", 422, "The request is not valid: body: must be a group of names and values."),
        (b'{"retire_on": 7}', 422, "The request is not valid: retire_on: must be a day, such as 2026-12-01, or 'never'."),
        (b'{"pin_only": 7, "colour": 1}', 422, "The request is not valid: pin_only: must be true or false; colour: is not known here."),
    ],
)  # fmt: skip
def test_a_body_that_does_not_fit_is_refused_in_plain_words(
    http: httpx.Client, body: bytes, status: int, detail: str
) -> None:
    answer = http.patch("/versions/gauge@1.0.0", content=body, headers={"Content-Type": "application/json"})
    assert (answer.status_code, answer.json()["detail"], answer.json()["title"]) == (status, detail, "Not valid")


def test_each_value_that_is_not_valid_is_pointed_at(http: httpx.Client) -> None:
    body = {"domain": "tide.example", "users": [{"name": "ada"}, {"name": "B b"}], "hold/off~": 1}
    refused = http.put("/first-boot/tide", json=body).json()
    assert {one["pointer"]: one["detail"] for one in refused["errors"]} == {
        "#/users/1/name": "must be lower-case letters, digits, _ and -, beginning with a letter or _, 32 at most",
        "#/hold~1off~0": "is not known here",
    }
    assert all(f"{one['detail']}" in refused["detail"] for one in refused["errors"])
    refused = http.get("/lines", params={"limit": 0}).json()
    assert refused["errors"] == [{"detail": "must be 1 or more", "parameter": "limit"}]
    assert "errors" not in http.get("/lines/nothing").json()


def test_a_parameter_that_counts_once_is_given_once(http: httpx.Client) -> None:
    refused = http.get("/instances", params={"region": ["skerry-1", "fjord-2"]}).json()
    assert (refused["detail"], refused["advice"]) == ("The parameter 'region' is given 2 times.", "Give it once.")
    assert http.get("/rules/explanation", params={"reference": "x", "region": "skerry-1", "tag": ["a", "b"]}).json()["code"] == "not-found"  # fmt: skip


def test_another_account_sees_nothing(shared_office: Office, http: httpx.Client) -> None:
    reference = shared_office.version("private-line@1.0.0")
    operation = http.get("/operations").json()["items"][0]["id"]
    stranger = shared_office.http("harbour-watch")
    for path in (
        f"/versions/{reference}",
        f"/versions/tide-core/{reference}",
        f"/operations/{operation}",
        "/lines/private-line",
        f"/versions/{reference}/disk",
        f"/versions/{reference}/findings",
    ):
        assert stranger.get(path).status_code == 404, path
    event = http.get("/events", params={"action": "version.released"}).json()["items"][0]
    assert event["source"] == "testclient", "the trail says from where"
    assert stranger.get("/events").json()["items"] != http.get("/events").json()["items"]


def test_a_repeated_request_gets_the_first_answer(shared_office: Office, http: httpx.Client) -> None:
    key = {"Idempotency-Key": "create-once"}
    first = http.post("/lines", json={"name": "once-only"}, headers=key)
    again = http.post("/lines", json={"name": "once-only"}, headers=key)
    assert first.status_code == 201 and again.json() == first.json()
    assert http.post("/lines", json={"name": "once-only"}).json()["code"] == "exists"
    other = http.post("/lines", json={"name": "something-else"}, headers=key)
    assert other.status_code == 409 and other.json()["code"] == "key-reused"
    shared_office.execute("update idempotent_answers set created_at = now() - interval '30 days'")
    shared_office.upkeep("answers")
    assert shared_office.query("select count(*) from idempotent_answers") == [(0,)], "nobody repeats them any more"


def test_equal_requests_at_once_are_done_once(shared_office: Office) -> None:
    answers: list[str] = []

    def create() -> None:
        made = shared_office.http().post("/lines", json={"name": "together"}, headers={"Idempotency-Key": "together"})
        answers.append(made.text)

    threads = [threading.Thread(target=create) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(set(answers)) == 1 and "together" in answers[0]


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


def test_progress_comes_as_server_sent_events(shared_office: Office, http: httpx.Client) -> None:
    reference = shared_office.version("watched@1.0.0")
    operation = http.post(f"/versions/{reference}/verify", params={"region": "skerry-1"}).json()["id"]
    assert http.get(f"/operations/{operation}").json()["state"] == "queued"
    shared_office.work()
    answer = http.get(f"/operations/{operation}/events")
    assert answer.headers["content-type"].startswith("text/event-stream")
    lines = [line for line in answer.text.splitlines() if line]
    assert lines[0] == "event: operation"
    last = json.loads(lines[-1].removeprefix("data: "))
    assert last["state"] == "succeeded" and last["percent"] == 100.0
    assert {s["state"] for s in last["steps"]} <= {"done", "skipped"}


def test_the_disk_comes_by_range(shared_office: Office, http: httpx.Client) -> None:
    content = bytes(range(256)) * 1000
    reference = shared_office.version("ranged@1.0.0", data=content)
    part = http.get(f"/versions/{reference}/disk", headers={"Range": "bytes=510-511"})
    assert part.status_code == 206 and part.content == content[510:512]
    assert part.headers["content-range"] == f"bytes 510-511/{len(content)}"
    assert http.get(f"/versions/{reference}/disk", headers={"Range": "bytes=99999999999-"}).status_code == 416
    assert http.get(f"/versions/{reference}/disk").content == content


def test_the_openapi_document_is_complete(http: httpx.Client) -> None:
    document = http.get("/openapi.json").json()
    for path, methods in document["paths"].items():
        for method, operation in methods.items():
            assert operation.get("description"), f"{method} {path} has no description"
            body = operation.get("requestBody", {}).get("content", {}).get("application/json", {}).get("schema", {})
            if "$ref" in body and not path.endswith("/first-boot/{name}"):
                assert document["components"]["schemas"][body["$ref"].rsplit("/", 1)[1]]["examples"], path
            assert "401" in operation["responses"] or path.endswith("/profiles"), path


def test_a_parameter_that_is_left_out_has_the_default_of_the_document(
    shared_office: Office, http: httpx.Client
) -> None:
    shared_office.version("default@1.0.0")
    asked = 0
    for path, item in http.get("/openapi.json").json()["paths"].items():
        given = [p for p in item.get("get", {}).get("parameters", []) if p["in"] == "query"]
        defaults = {p["name"]: p["schema"]["default"] for p in given if p["schema"].get("default") is not None}
        if not defaults or "{" in path or path.endswith("/feed"):
            continue
        bare = http.get(path.removeprefix("/api/v1"))
        if bare.status_code == 200:
            assert http.get(path.removeprefix("/api/v1"), params=defaults).json() == bare.json(), path
            asked += 1
    assert asked > 12


def test_health_and_metrics(shared_office: Office) -> None:
    shared_office.version("measured@1.0.0")
    http = shared_office.http(None)
    assert http.get("http://office/readyz").text == "ready\n"
    assert http.get("http://office/metrics").status_code == 401
    assert http.get("http://office/metrics", headers={"Authorization": "Bearer of another"}).status_code == 401
    text = http.get("http://office/metrics", headers={"Authorization": "Bearer of the office"}).text
    assert 'bathotype_operations{kind="capture",state="succeeded"}' in text and "bathotype_stored_bytes" in text
    assert "Bathotype" in http.get("http://office/").text


def test_a_connection_that_was_lost_costs_one_answer(office: Office) -> None:
    office.version("lost@1.0.0")
    with office.http() as http:
        assert http.get("/lines").status_code == 200
        office.execute(
            "select pg_terminate_backend(pid) from pg_stat_activity "
            "where datname = current_database() and pid <> pg_backend_pid()"
        )
        lost = http.get("/lines")
        assert lost.status_code in (200, 503) and (lost.status_code == 200 or lost.json()["code"] == "unavailable")
        assert [http.get("/lines").status_code for _ in range(3)] == [200, 200, 200]


def test_a_stranger_is_told_to_sign_in_before_anything_else(office: Office) -> None:
    with office.http(None) as http:
        assert http.get("/instances", params={"state": "nonsense"}).status_code == 401
        assert http.get("/lines", params={"limit": 0}).status_code == 401
    with office.http() as http:
        assert http.get("/instances", params={"state": "nonsense"}).status_code == 422


def test_what_the_database_cannot_hold_is_not_valid(office: Office) -> None:
    office.version("held@1.0.0")
    cursors = [base64.urlsafe_b64encode(json.dumps(value).encode()).decode() for value in ("a\x00b", 10**30)]
    with office.http() as http:
        for path, query in (
            ("/events", {"subject": "a\x00b"}),
            ("/events", {"action": "a\x00"}),
            ("/events", {"cursor": cursors[1]}),
            ("/lines", {"cursor": cursors[0]}),
            ("/instances", {"cursor": cursors[0]}),
            ("/instances/counts", {"line": "a\x00b"}),
            ("/lines/held/versions", {"cursor": cursors[0]}),
            ("/lines/a%00b/versions", {}),
            ("/operations", {"cursor": cursors[0]}),
        ):
            answer = http.get(path, params=query)
            assert (answer.status_code, answer.json()["code"]) == (422, "invalid"), (path, query, answer.text)
