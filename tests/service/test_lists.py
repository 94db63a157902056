"""Lists: pages, orders, totals, and a whole list as CSV or NDJSON."""

from __future__ import annotations

import csv
import io
import json
from dataclasses import replace

import pytest

from bathotype.core.firstboot.settings import FirstBoot
from bathotype.core.lifecycle.rules import LaunchRule
from bathotype.service.routes.paging import Paging
from tests.office import Office

SHEET = """\
sheet: gauge
base: gauge@1.0.0
steps: [{id: a, do: restart}]
result: {line: gauge}
"""
NAMES = ["berth-2", "berth-10", "anchor", "buoy-1", "buoy-2"]


@pytest.fixture(scope="module")
def fleet(shared_office: Office) -> Office:
    """Five instances of two versions in two regions, one of them stopped."""
    for number in ("1.0.0", "1.1.0"):
        shared_office.version(f"gauge@{number}")
    with shared_office.core as client:
        client.wait(client.replicate("gauge@1.0.0", [{"region": "fjord-2", "copies": 1}])[0].id)
    shared_office.launched("gauge@1.0.0", *NAMES[:2])
    shared_office.launched("gauge@1.0.0", NAMES[2], region="fjord-2")
    shared_office.launched("gauge@1.1.0", *NAMES[3:])
    with shared_office.core as client:
        client.act_on_instance("buoy-2", "stop")
        for name in ("left", "right"):
            client.hold("gauge@1.0.0", name, "The dock is inspected.")
            client.set_secret(name, "an-invented-key")
            client.save_first_boot(name, FirstBoot(time_zone="Europe/Oslo"))
            client.set_allowance(name, kind="line", line="gauge", most=9)
            client.set_rule(LaunchRule(name=name, released_only=True))
        shared_office.settings.places.messages.hosts.append("127.0.0.1")
        client.subscribe("gauge", url="http://127.0.0.1:9/", events=["*"])
        client.test_subscription("gauge")
        client.save_sheet("gauge", SHEET)
    shared_office.shared("gauge")
    return shared_office


@pytest.mark.parametrize("limit", [1, 2, 5])
@pytest.mark.parametrize(
    ("sort", "first", "last"),
    [
        ("-launched", "buoy-2", "berth-2"),
        ("launched", "berth-2", "buoy-2"),
        ("name", "anchor", "buoy-2"),
        ("-state", "buoy-2", "berth-2"),
        ("region", "anchor", "buoy-2"),
        ("-version", "buoy-2", "berth-2"),
    ],
)
def test_an_order_holds_over_pages(sort: str, first: str, last: str, limit: int, fleet: Office) -> None:
    http = fleet.http()
    seen: list[str] = []
    params: dict[str, str | int] = {"sort": sort, "limit": limit, "total": "true"}
    while True:
        page = http.get("/instances", params=params).json()
        assert page["total"] == 5
        seen += [one["name"] for one in page["items"]]
        if page["next"] is None:
            break
        params["cursor"] = page["next"]
    assert sorted(seen) == sorted(NAMES), "each once"
    assert (seen[0], seen[-1]) == (first, last)


def test_a_whole_list_is_a_file(fleet: Office) -> None:
    http = fleet.http()
    answer = http.get("/instances", params={"format": "csv", "limit": 1, "version": "gauge@1.0.0"})
    assert answer.headers["content-type"].startswith("text/csv")
    assert answer.headers["content-disposition"] == 'attachment; filename="instances.csv"'
    rows = list(csv.DictReader(io.StringIO(answer.text, newline="")))
    assert [row["name"] for row in rows] == ["anchor", "berth-10", "berth-2"], "all, whatever the limit"
    assert json.loads(rows[0]["identity"])["host_name"] == "anchor"
    lines = http.get("/events", headers={"Accept": "application/x-ndjson"}).text.splitlines()
    events = [json.loads(line) for line in lines]
    with fleet.core as client:
        assert [e["id"] for e in events] == [e.id for e in client.events()]
        assert b"".join(client.instances_file("csv", version="gauge@1.0.0")) == answer.content
    assert http.get("/instances", params={"format": "csv", "cursor": "no"}).status_code == 422
    assert http.get("/instances", params={"format": "xls"}).status_code == 422


def test_a_spreadsheet_gets_text(fleet: Office) -> None:
    with fleet.core as client:
        client.create_line("charts", about='=HYPERLINK("http://tide.example")')
    text = fleet.http().get("/lines", params={"format": "csv"}).text
    [row] = [row for row in csv.DictReader(io.StringIO(text)) if row["name"] == "charts"]
    assert row["about"].startswith("'=")


def test_a_right_that_is_lost_ends_a_long_list(fleet: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    token, pages, following = fleet.token("viewer"), [0], Paging.next_page

    def next_page(paging: Paging, cursor: str | None) -> Paging:
        pages[0] += 1
        if pages[0] == 3:
            fleet.execute(
                "delete from api_tokens where user_id in (select id from users where name like 'viewer-of%%')"
            )
        return replace(following(paging, cursor), limit=1)

    monkeypatch.setattr(Paging, "next_page", next_page)
    answer = fleet.http(None).get("/instances?format=ndjson", headers={"Authorization": f"Bearer {token}"})
    assert pages[0] == 3 and len(answer.text.splitlines()) == 2, "two pages of one, of five"


def test_every_list_has_pages_and_orders_alike(fleet: Office) -> None:
    """Each list of the API's document, in each of its orders: page after page it is the whole, and a minus turns it."""
    http, walked = fleet.http(), 0
    for path, verbs in http.get("/openapi.json").json()["paths"].items():
        asked = {p["name"]: p["schema"] for p in verbs.get("get", {}).get("parameters", []) if p["in"] == "query"}
        if "cursor" not in asked:
            continue
        for of, is_ in (("{name}/", "gauge/"), ("{reference}", "gauge@1.0.0"), ("/packages/gauge/", "/packages/bash/")):
            path = path.replace(of, is_)
        path = path.removeprefix("/api/v1")
        wholes: dict[str, list[object]] = {}
        for sort in asked.get("sort", {}).get("enum", [""]):
            given = {"sort": sort} if sort else {}
            whole = http.get(path, params=given | {"total": "true", "limit": 500}).json()
            assert whole["total"] == len(whole["items"]) and whole["next"] is None, (path, sort)
            again, cursor, limit = [], None, max(1, len(whole["items"]) // 4)
            while True:
                page = http.get(path, params=given | {"limit": limit} | ({"cursor": cursor} if cursor else {})).json()
                again += page["items"]
                if (cursor := page["next"]) is None:
                    break
            assert again == whole["items"], (path, sort)
            wholes[sort] = again
        for sort in wholes:
            assert not sort or wholes["-" + sort.removeprefix("-")] == wholes[sort.removeprefix("-")][::-1], (
                path,
                sort,
            )
        walked += bool(next(iter(wholes.values())))
    assert walked > 15


def test_lists_are_narrowed(fleet: Office) -> None:
    fleet.token("viewer")
    with fleet.core as client:
        client.make_token(name="over")
        client.revoke_token(next(t.id for t in client.tokens() if t.name == "over"))

    def names(path: str, key: str, **params: str) -> set[str]:
        return {one[key] for one in fleet.http().get(path, params=params).json()["items"]}

    assert "over" in names("/tokens", "name") and "over" not in names("/tokens", "name", valid="true")
    assert names("/members", "role", role="viewer") == {"viewer"}
    assert names("/lines/gauge/versions", "state", state="staged") == set()
    packages = names("/versions/gauge@1.0.0/packages", "name")
    assert (
        {n for n in packages if "lib" in n} == names("/versions/gauge@1.0.0/packages", "name", find="LIB") != packages
    )
    assert names("/versions/gauge@1.0.0/packages", "name", find="%") == set()
    assert names("/operations", "kind", kind="launch", by="operator-of-tide-core") <= {"launch"}
    answer = fleet.http().get("/tokens", params={"sort": "colour"})
    assert answer.status_code == 422 and "sort" in answer.text


def test_machines_are_narrowed_and_asked_for_their_system(fleet: Office) -> None:
    http = fleet.http()
    machines = {m["name"] for m in http.get("/machines", params={"launched": "true"}).json()["items"]}
    assert machines == set(NAMES)
    assert not machines & {m["name"] for m in http.get("/machines", params={"launched": "false"}).json()["items"]}
    told = {m["name"]: m for m in http.get("/machines", params={"agents": "true", "find": "buoy"}).json()["items"]}
    assert set(told) == {"buoy-1", "buoy-2"}
    assert told["buoy-1"]["agent"] == "answers" and told["buoy-1"]["os"]
    assert told["buoy-2"]["agent"] is None, "it is off"


def test_where_a_line_is_kept_is_one_answer(fleet: Office) -> None:
    with fleet.core as client:
        rows = {row.reference: {r.region: r.standing for r in row.replicas} for row in client.replicas_of_line("gauge")}
        assert list(rows) == ["gauge@1.1.0", "gauge@1.0.0"]
        assert set(rows["gauge@1.0.0"]) == {"skerry-1", "fjord-2"} and rows["gauge@1.0.0"]["fjord-2"] >= 1
        assert client.replicas("gauge@1.0.0") == next(
            row.replicas for row in client.replicas_of_line("gauge") if row.reference == "gauge@1.0.0"
        )
