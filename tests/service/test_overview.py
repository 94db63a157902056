"""What a person sees first: sentences, what needs somebody, what can be done, and the history of a line."""

from __future__ import annotations

import ast
import secrets
from datetime import UTC, timedelta
from pathlib import Path
from typing import Any

import httpx
import pytest

from bathotype.core.generalize.residue import Finding
from bathotype.service import audit
from bathotype.service.answers.needs import _ALERTS, _DOING, _failure
from bathotype.service.builds.repositories import NOT_READ
from bathotype.service.builds.saved import NOT_STARTED
from bathotype.service.everykind import KINDS
from bathotype.service.history import take_sample, thin
from bathotype.service.instances import NOT_ADMITTED
from bathotype.service.records.base import utcnow
from bathotype.service.subscriptions import NOT_DELIVERED
from tests.office import Office

FOUND = Finding("f1", "private-key", "high", "/etc/tide/key.pem", 1, "-----BEGIN", "Remove it.")


def said(answer: dict[str, Any]) -> str:
    return "".join(part["text"] for part in answer["sentence"])


@pytest.fixture
def lived(office: Office) -> Office:
    """A line with two versions that run here and elsewhere, a staged one with a finding, and an offered share."""
    for number in ("1.0.0", "1.1.0"):
        office.version(f"gauge@{number}")
    office.version("gauge@1.2.0", release=False, findings=(FOUND,))
    office.shared("gauge")
    office.launched("gauge@1.0.0", "pier-1", "pier-2")
    office.launched("gauge@1.1.0", "quay-1")
    office.launched("tide-core/gauge@1.0.0", "watch-1", account="harbour-watch")
    return office


def test_the_overview_names_what_needs_somebody(lived: Office) -> None:
    with lived.client("chart-house") as charts, lived.core as client:
        charts.create_line("charts")
        charts.share(subject="charts", consumer="tide-core", note="for the tables")
        client.sunset("gauge@1.0.0", retire_on=(utcnow() + timedelta(days=9)).date())
        client.set_allowance("gauges", kind="line", line="gauge", most=4)
    answer = lived.http().get("/overview").json()
    needs = {need["kind"]: need for need in answer["needs"]}
    assert set(needs) == {"finding", "share", "date", "allowance"}
    assert needs["finding"]["subject"] == "gauge@1.2.0" and "/etc/tide/key.pem" in needs["finding"]["detail"]
    assert needs["share"]["title"] == "chart-house offers the line charts"
    assert "2 instances still run it" in needs["date"]["title"]
    assert said(answer).startswith("4 things need you, and 1 date comes near. 3 instances run on 2 versions")
    [line] = answer["lines"]
    assert (line["newest"], line["running"], line["behind"]) == ("1.1.0", 4, 3)
    [due] = answer["dates"]
    assert (due["running"], due["elsewhere"]) == (2, {"harbour-watch": 1})
    with lived.core as client:
        client.retire("gauge@1.0.0")
        [retired] = client.dates()
        assert (
            retired.purge_from and "3 instances" in retired.in_the_way[0] and retired.elsewhere == {"harbour-watch": 1}
        )
        [theirs] = lived.client("harbour-watch").dates()
        assert (theirs.running, theirs.elsewhere, theirs.purge_from) == (1, {}, None), "of others it is told nothing"
    other = lived.http("chart-house").get("/overview").json()
    assert other["needs"] == [] and "gauge" not in str(other["lines"]) and other["states"] == {}


def test_an_alert_that_somebody_has_seen_needs_nobody_else(office: Office) -> None:
    [(account,)] = office.query("select id from accounts where name = 'tide-core'")
    with office.database.sessions.begin() as session:
        audit.raise_alert(session, account, "replica-damaged", "gauge@1.0.0 in skerry-1", "A pack is damaged.")
    http = office.http()
    [need] = http.get("/overview").json()["needs"]
    assert need["title"] == "A replica is damaged: gauge@1.0.0 in skerry-1"
    assert office.http("chart-house").post(f"/alerts/{need['alert']}/acknowledgement", json={}).status_code == 404
    with office.core as client:
        assert client.acknowledge(need["alert"]).acknowledged_by == "tide-core-demo"
        assert client.overview().needs == [] and [a.subject for a in client.alerts()] == ["gauge@1.0.0 in skerry-1"]
        assert [e.action for e in client.events(action="alert.acknowledged")] == ["alert.acknowledged"]
    with office.database.sessions.begin() as session:
        audit.clear_alert(session, account, "replica-damaged", "gauge@1.0.0 in skerry-1")
    with office.database.sessions.begin() as session:
        audit.raise_alert(session, account, "replica-damaged", "gauge@1.0.0 in skerry-1", "Again.")
    assert len(http.get("/overview").json()["needs"]) == 1, "it is another one"


@pytest.mark.parametrize(
    ("kind", "subject", "leads", "to"),
    [
        ("identity-twice", "machine-id 0a1b", "alert", "machine-id 0a1b"),
        ("replica-damaged", "gauge@1.0.0 in skerry-1", "version", "gauge@1.0.0"),
        ("deleted-at-site", "pier-01 in skerry-1", "instance", "pier-01"),
        ("first-boot-differs", "pier-01 in skerry-1", "instance", "pier-01"),
        ("not-admitted", "pier-01 in skerry-1", "allowance", "pier-01 in skerry-1"),
        ("mark-dropped", "gauge@stable", "line", "gauge"),
        ("not-proven", "gauge@1.0.0 checks", "version", "gauge@1.0.0"),
        ("site-silent", "skerry-1", "region", "skerry-1"),
        ("sheet-not-started", "logging", "sheet", "logging"),
        ("repository-not-read", "office", "repository", "office"),
        ("messages-not-delivered", "pipeline", "messages", "pipeline"),
    ],
)
def test_each_alert_is_said_in_words_and_leads_to_what_it_is_about(
    shared_office: Office, kind: str, subject: str, leads: str, to: str
) -> None:
    [(account,)] = shared_office.query("select id from accounts where name = 'tide-core'")
    with shared_office.database.sessions.begin() as session:
        audit.raise_alert(session, account, kind, subject, "Look.")
    needs = shared_office.http().get("/overview").json()["needs"]
    [need] = [one for one in needs if one["title"].endswith(f": {subject}") and one["kind"] == leads]
    assert need["subject"] == to and kind not in need["title"]
    with shared_office.database.sessions.begin() as session:
        audit.clear_alert(session, account, kind, subject)


def test_what_failed_is_said_in_words_whatever_it_was() -> None:
    assert set(_DOING) == set(KINDS)
    assert _failure("replicate", "gauge@1.0.0 to fjord-2") == "Replication of gauge@1.0.0 to fjord-2 failed"
    assert _failure("change-instances", "terminate 2 instances") == "Terminate 2 instances: failed"


def test_every_kind_of_alert_is_among_them() -> None:
    raised = set()
    for file in Path("src/bathotype/service").rglob("*.py"):
        for call in ast.walk(ast.parse(file.read_text())):
            if isinstance(call, ast.Call) and getattr(call.func, "attr", "") == "raise_alert":
                kind = call.args[2]
                raised.add(kind.value if isinstance(kind, ast.Constant) else kind.id)  # type: ignore[attr-defined]
    constants = {
        "NOT_ADMITTED": NOT_ADMITTED,
        "NOT_DELIVERED": NOT_DELIVERED,
        "NOT_READ": NOT_READ,
        "NOT_STARTED": NOT_STARTED,
    }
    assert {constants.get(one, one) for one in raised} == set(_ALERTS)


def test_what_is_seen_first_of_a_line_and_its_versions(lived: Office) -> None:
    http = lived.http()
    line = http.get("/lines/gauge/overview").json()
    assert said(line) == "gauge 1.1.0 is the newest release. 4 instances run in 1 region; 3 are behind."
    assert {(r["number"], r["account"], r["running"]) for r in line["runs"]} == {
        ("1.0.0", "tide-core", 2), ("1.0.0", "harbour-watch", 1), ("1.1.0", "tide-core", 1),
    }  # fmt: skip
    staged = http.get("/versions/gauge@1.2.0/overview").json()
    release = next(o for o in staged["offers"] if o["name"] == "release")
    assert not release["possible"] and release["way"]["name"] == "findings"
    assert http.post("/versions/gauge@1.2.0/release").status_code == 409, "the route says the same as the offer"
    theirs = lived.http("harbour-watch").get("/versions/tide-core/gauge@1.0.0/overview").json()
    assert [o["name"] for o in theirs["offers"]] == ["launch", "export"] and theirs["version"]["source"] == {}
    assert {r["account"] for r in theirs["runs"]} == {"harbour-watch"}, "who else runs it is the owner's affair"
    assert lived.http("chart-house").get("/versions/tide-core/gauge@1.0.0/overview").status_code == 404


def test_an_offer_is_what_the_caller_may(lived: Office) -> None:
    http = lived.http(None)
    http.headers["Authorization"] = f"Bearer {lived.token('viewer')}"
    for path in ("/lines/gauge/overview", "/versions/gauge@1.1.0/overview"):
        offers = http.get(path).json()["offers"]
        assert offers and all("viewer" in o["says"][0] for o in offers if o["name"] != "behind" and not o["possible"])
        assert [o["name"] for o in offers if o["possible"]] in ([], ["behind"])


def test_what_is_seen_first_of_an_instance(lived: Office) -> None:
    with lived.core as client:
        one = client.instance("pier-1")
    answer = lived.http().get(f"/instances/{one.id}/overview").json()
    assert said(answer).startswith("pier-1 runs gauge@1.0.0 in skerry-1") and "1.1.0 is newer" in said(answer)
    assert {o["name"]: o["possible"] for o in answer["offers"]} == {"stop": True, "start": False, "terminate": True}
    assert answer["operation"].startswith("op-")
    found = lived.http().get("/instances", params={"find": "pier"}).json()["items"]
    assert {i["name"] for i in found} == {"pier-1", "pier-2"}
    assert lived.http().get("/instances", params={"find": "pi%r"}).json()["items"] == [], "no pattern but text"


def test_counts_are_kept_by_day_and_thinned(lived: Office) -> None:
    lived.upkeep("history")
    lived.upkeep("history")  # within the hour: nothing to do
    assert lived.query("select count(*) from count_samples") == [(1,)]
    now = utcnow()
    with lived.database.sessions.begin() as session:
        for hours in range(1, 24 * 6):
            take_sample(session, now - timedelta(hours=hours))
    with lived.database.sessions.begin() as session:
        thin(session, now)
    old = now - timedelta(days=3)
    kept = [at for (at,) in lived.query("select at from count_samples order by at")]
    days = [at.astimezone(UTC).date() for at in kept if at < old]
    assert len(days) == len(set(days)) <= 4 and sum(at >= old for at in kept) == 73
    history = lived.http().get("/lines/gauge/history", params={"days": 10}).json()
    assert history["days"] == sorted(set(history["days"])) and history["days"][-1] == str(now.date())
    bands = {band["number"]: band for band in history["bands"]}
    assert bands["1.0.0"]["counts"][-1] == 3 and bands["1.1.0"]["counts"][-1] == 1
    assert all(len(band["counts"]) == len(history["days"]) for band in bands.values())
    assert lived.http("chart-house").get("/lines/gauge/history").status_code == 404


def test_a_region_that_is_out_does_not_hide_the_others(lived: Office) -> None:
    lived.cloud.out.add("fjord-2")
    regions = {r["name"]: r for r in lived.http().get("/regions").json()}
    assert not regions["fjord-2"]["reachable"] and regions["fjord-2"]["problem"]
    assert regions["skerry-1"]["reachable"] and regions["skerry-1"]["running"] == 3
    assert regions["skerry-1"]["quotas"] and regions["skerry-1"]["zones"]
    machines = lived.http().get("/machines").json()
    assert set(machines["problems"]) == {"fjord-2"} and machines["items"]
    assert lived.http().get("/machines", params={"region": "fjord-2"}).status_code == 503


def test_the_csrf_token_can_be_asked_for_again(office: Office) -> None:
    with office.core as client:
        code = client.add_member("ines", "operator").invitation
    http = office.http(None)
    http.post("/invitations/acceptance", json={"code": code, "password": "nine grey herons wade"})
    signed = http.post("/session", json={"user": "ines", "password": "nine grey herons wade"}).json()
    again = http.get("/session").json()
    assert again["csrf"] == signed["csrf"] and len(again["csrf"]) > 30
    assert http.post("/lines", json={"name": "made"}).json()["code"] == "csrf"
    assert http.post("/lines", json={"name": "made"}, headers={"X-CSRF-Token": again["csrf"]}).status_code == 201
    assert office.http().get("/session").json()["csrf"] is None, "a token needs none"


def test_the_console_is_served_with_a_strict_policy(office: Office) -> None:
    http: httpx.Client = office.http(None)
    page = http.get("http://office/lines/gauge")
    policy = page.headers["content-security-policy"]
    nonce = policy.partition("'nonce-")[2].partition("'")[0]
    assert page.status_code == 200 and page.headers["cache-control"] == "no-store" and len(nonce) > 20
    assert "unsafe" not in policy and "default-src 'none'" in policy and page.headers["x-frame-options"] == "DENY"
    assert nonce in page.text and nonce not in http.get("http://office/").text, "another one with each answer"
    script = page.text.partition('src="')[2].partition('"')[0]
    for wanted, encoding in (("br", "br"), ("gzip", "gzip"), ("identity", None)):
        answer = http.get(f"http://office{script}", headers={"Accept-Encoding": wanted})
        assert answer.status_code == 200 and answer.headers.get("content-encoding") == encoding
        assert "immutable" in answer.headers["cache-control"] and answer.headers["x-content-type-options"] == "nosniff"
    assert http.get("http://office/assets/../../../etc/passwd").status_code in (200, 404)
    assert "root:" not in http.get("http://office/assets/%2e%2e/%2e%2e/%2e%2e/etc/passwd").text
    missing = http.get("http://office/api/v1/nothing")
    assert missing.status_code == 404 and missing.headers["content-type"] == "application/problem+json"
    assert http.post("http://office/lines").status_code in (404, 405)


def test_what_is_stored_is_measured_once_a_day(office: Office) -> None:
    shared, own = secrets.token_bytes(200_000), secrets.token_bytes(100_000)
    office.version("gauge@1.0.0", data=shared)
    office.version("gauge@1.1.0", data=shared)
    office.version("surge@1.0.0", data=shared[: 2 * 65536] + own)
    office.version("charts@1.0.0", account="chart-house", data=shared)
    with office.core as client:
        assert client.storage().measured_at is None
        office.upkeep("storage")
        office.upkeep("storage")
        stored = client.storage()
        assert len(stored.days) == 1, "once a day"
        found = {(s.region, s.line): (s.alone[0], s.shared[0]) for s in stored.series}
        assert set(found) == {("skerry-1", None), ("skerry-1", "gauge"), ("skerry-1", "surge")}
        alone, with_others = found["skerry-1", "gauge"]
        assert alone == 0 and 200_000 <= with_others < 201_000, "chart-house needs all of it as well"
        alone, with_others = found["skerry-1", "surge"]
        assert 100_000 <= alone < 103_000 and 131_000 <= with_others < 132_000
        assert sum(found["skerry-1", None]) == pytest.approx(300_000, rel=0.02)
        office.execute("update stored_bytes set at = at - interval '2 days'")
        (office.folder / "stores" / "skerry-1" / "manifests").rename(office.folder / "gone")
        office.upkeep("storage")  # what cannot be read is left out
        (office.folder / "gone").rename(office.folder / "stores" / "skerry-1" / "manifests")
        office.execute("delete from stored_bytes where at > now() - interval '1 day'")
        office.upkeep("storage")
        assert len(client.storage().days) == 2
