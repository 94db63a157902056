"""Who may do what: every route with every role and a stranger, tokens, passwords, sessions, an outside log-in."""

from __future__ import annotations

import json
import re
import threading
import time
from pathlib import Path
from typing import Any

import httpx
import psycopg
import pytest
from fastapi.routing import APIRoute

from bathotype.client import NotSignedIn
from bathotype.core.access.roles import ALLOWS, Role, Verb, least_role
from bathotype.core.errors import Forbidden, NotFound, Refused
from bathotype.core.firstboot.settings import FirstBoot
from bathotype.service.access.principals import digest_of
from bathotype.service.app import create_app
from bathotype.service.audit import raise_alert
from bathotype.service.routes.route import Given, query_names
from tests.office import Office

# Streams of events, which do not end by themselves.
ENDLESS = re.compile("/events$(?<!/v1/events)|/feed$")
# Without a token by their nature: they are how one gets one.
OPEN = {"/session/ways", "/session", "/session/oidc", "/session/oidc/callback", "/invitations/acceptance"}
# Git hosts sign what they send with a repository's key.
OPEN |= {"/pushes/{repository}"}
PASSWORD = "nine grey herons wade"


def needed(route: APIRoute) -> Verb | None:
    """The verb that a route says it needs; None where being signed in is enough."""
    found: list[Any] = [route.dependant]
    while found:
        now = found.pop()
        if verb := getattr(now.call, "verb", None):
            return Verb(verb)
        found += now.dependencies
    return None


def signed_in(route: APIRoute) -> bool:
    return any(isinstance(d.call, Given) and d.call.is_caller for d in route.dependant.dependencies)


ROUTES = [
    (route, method)
    for route in create_app(None).routes  # type: ignore[arg-type]
    if isinstance(route, APIRoute) and route.include_in_schema
    for method in sorted(route.methods)
]


@pytest.fixture(scope="module")
def ours(shared_office: Office) -> dict[str, str]:
    """Things of tide-core that path parameters can name."""
    reference = shared_office.version("walked@1.0.0")
    with shared_office.core as client:
        operation = client.wait(client.launch(reference=reference, region="skerry-1", name="walked-01").id)
        share = client.share(subject="walked", consumer="harbour-watch")
        client.save_first_boot("walked", FirstBoot())
        token = client.make_token(name="walked", robot="tide-core-demo", days=1)
        repository = client.connect_repository("walked", f"file://{shared_office.folder}/git/walked")
        upload = shared_office.http().post("/uploads", json={"name": "x", "size": 9, "region": "skerry-1"}).json()
    with shared_office.database.sessions.begin() as session:
        raise_alert(
            session, shared_office.query("select id from accounts where name = 'tide-core'")[0][0], "x", "y", "z"
        )
    [(alert,)] = shared_office.query("select id from alerts where kind = 'x'")
    return {
        "reference": reference, "name": "walked", "machine": "gauge-seed-01", "region": "skerry-1", "operation_id": operation.id,
        "instance": "walked-01", "share": share.id, "token": token.id, "upload": upload["id"], "user": "tide-core-demo",
        "mark": "stable", "finding": "none", "number": "0", "key": "0123456789abcdef", "account": "tide-core",
        "alert": alert, "operation": operation.id, "repository": repository.id,
    }  # fmt: skip


def call(
    office: Office, route: APIRoute, method: str, token: str, names: dict[str, str], body: Any = None
) -> tuple[int, str]:
    path = re.sub(r"\{(\w+)(?::path)?\}", lambda m: names[m[1]], route.path).removeprefix("/api/v1")
    query = {"region": "skerry-1", "to": names["reference"], "reference": names["reference"]}
    taken = {k: v for k, v in query.items() if k in query_names(route.dependant)}
    http = office.http(None)
    answer = http.request(
        method, path, json=body, params=taken, headers={"Authorization": f"Bearer {token}"} if token else {},
        follow_redirects=False,
    )  # fmt: skip
    kind = answer.headers.get("content-type", "")
    return answer.status_code, answer.text if "json" in kind else ""


def test_every_route_says_what_it_needs() -> None:
    for route, method in ROUTES:
        path = route.path.removeprefix("/api/v1")
        assert path in OPEN or signed_in(route), f"{method} {path} asks nobody who calls"
        if needed(route) is None and method != "GET":
            own = path in ("/tokens", "/session/password") or path.startswith("/memberships/")
            assert path in OPEN or own, f"{method} {path} changes something and needs no verb"


def rights() -> str:
    """The table of docs/rights.md: what each call of the API needs."""
    lines = ["| call | needs |", "| --- | --- |"]
    for route, method in sorted(ROUTES, key=lambda pair: (pair[0].path, pair[1])):
        verb = needed(route)
        who = "a token" if signed_in(route) else "nothing"
        what = f"{verb}: {least_role(verb)}" if verb else who
        lines.append(f"| `{method} {route.path.removeprefix('/api/v1')}` | {what} |")
    return "\n".join(lines)


def test_the_rights_are_written_down() -> None:
    told = (Path(__file__).parents[2] / "docs/rights.md").read_text()
    assert rights() in told, "docs/rights.md shows what each call needs: print `rights()`"


def test_nobody_gets_in_without_a_token(shared_office: Office, ours: dict[str, str]) -> None:
    for route, method in ROUTES:
        if signed_in(route):
            assert call(shared_office, route, method, "", ours, {})[0] == 401, f"{method} {route.path}"


@pytest.mark.parametrize("role", ["viewer", "operator"])
def test_what_a_role_may_not_do_is_forbidden_with_the_reason(
    shared_office: Office, ours: dict[str, str], role: str
) -> None:
    token = shared_office.token(role)
    for route, method in ROUTES:
        verb = needed(route)
        if verb is None or verb in ALLOWS[Role(role)]:
            continue
        status, text = call(shared_office, route, method, token, ours, {})
        assert status == 403, f"{method} {route.path}: {status}"
        assert f"is {role} in tide-core; this needs" in json.loads(text)["detail"]


def test_what_a_role_may_do_is_not_forbidden(shared_office: Office, ours: dict[str, str]) -> None:
    token = shared_office.token("viewer")
    for route, method in ROUTES:
        if needed(route) == Verb.READ and not ENDLESS.search(route.path):
            assert call(shared_office, route, method, token, ours, {})[0] not in (401, 403, 500), (
                f"{method} {route.path}"
            )


def test_a_stranger_finds_and_changes_nothing(shared_office: Office, ours: dict[str, str]) -> None:
    """The steward of another account, with references written both ways; only what is public by design is told."""
    token = shared_office.token("steward", "chart-house")
    before = shared_office.query(
        "select count(*) from events e join accounts a on a.id = e.account_id where a.name = 'tide-core'"
    )
    secret = re.compile(
        "walked|gauge-seed|" + "|".join(v for k, v in ours.items() if k in ("share", "token", "upload"))
    )
    walks = [(owner, route, method) for owner in ("", "tide-core/") for route, method in ROUTES]
    # First what only reads: later the stranger has things of its own by the same names.
    for owner, route, method in sorted(walks, key=lambda walk: walk[2] != "GET"):
        names = {**ours, "reference": f"{owner}{ours['reference']}"}
        path = route.path.removeprefix("/api/v1")
        if path in OPEN or path == "/accounts/{account}/keys" or ENDLESS.search(path):
            continue
        bodies = [
            {},
            {"reference": names["reference"], "region": "skerry-1"},
            {"subject": "walked", "consumer": "harbour-watch"},
        ]
        for body in bodies if method != "GET" else [None]:
            status, text = call(shared_office, route, method, token, names, body)
            assert status != 500, f"{method} {path} {text}"
            told = json.loads(text).get("detail", "") if status >= 400 and text else text
            # A refusal may repeat what was asked for; an answer may not show it, but of what the stranger names itself.
            own = method != "GET" and route.path.endswith(("{name}", "/distrust"))
            assert status >= 400 or own or not secret.search(told), f"{method} {path}: {text[:300]}"
            if status < 400 and method != "GET":
                assert own or "{" not in route.path, path
    after = shared_office.query(
        "select count(*) from events e join accounts a on a.id = e.account_id where a.name = 'tide-core'"
    )
    assert after == before, "nothing happened in the account"
    with shared_office.client("chart-house") as client, pytest.raises(NotFound):
        client.version(f"tide-core/{ours['reference']}")


def test_tokens_are_narrow_expire_and_end_at_once(office: Office) -> None:
    reader = office.token("operator", verbs=["read"])
    with office.with_token(reader) as client:
        list(client.lines())
        with pytest.raises(Forbidden, match="does not cover operate"):
            client.create_line("no")
        with pytest.raises(Forbidden):
            client.make_token(name="wider", verbs=["read", "operate"])
        narrow = client.make_token(name="mine", days=1)
        assert narrow.verbs == ["read"]
    with office.core as client:
        row = next(t for t in client.tokens() if t.name == "test" and t.verbs == ["read"])
        assert row.last_used_at is not None and row.last_used_from == "testclient"
        client.revoke_token(row.id)
    with office.with_token(reader) as client, pytest.raises(NotSignedIn, match="revoked"):
        list(client.lines())
    short = office.token("viewer")
    office.execute("update api_tokens set expires_at = now() where digest = %s", digest_of(short))
    with office.with_token(short) as client, pytest.raises(NotSignedIn, match="expired"):
        list(client.lines())
    digests = {row[0] for row in office.query("select digest from api_tokens")}
    assert not any(t in digests for t in (reader, short)), "only digests are kept"


def joined(office: Office, name: str, role: str = "viewer") -> None:
    """A person who has used the invitation and has the password `PASSWORD`."""
    with office.core as client:
        code = client.add_member(name, role).invitation
    body = {"code": code, "password": PASSWORD}
    assert office.http(None).post("/invitations/acceptance", json=body).status_code == 200


def browser_of(office: Office, name: str, password: str = PASSWORD) -> httpx.Client:
    """Where a person has signed in."""
    signed = office.http(None).post("/session", json={"user": name, "password": password})
    assert signed.status_code == 200, signed.text
    browser = office.http(None)
    browser.cookies.set("bathotype_session", signed.cookies["bathotype_session"])
    browser.headers["X-CSRF-Token"] = signed.json()["csrf"]
    return browser


def test_a_person_changes_the_password_and_every_other_session_ends(office: Office) -> None:
    joined(office, "orla", "operator")
    here, elsewhere = browser_of(office, "orla"), browser_of(office, "orla")
    token = here.post("/tokens", json={"name": "mine"}).json()["token"]

    def change(http: httpx.Client, old: str, new: str) -> tuple[int, str]:
        answer = http.put("/session/password", json={"old": old, "new": new})
        return answer.status_code, answer.json()["detail"] if answer.content else ""

    assert change(here, PASSWORD, "short") == (422, "A password has 12 characters or more.")
    assert change(here, "not it at all", "ten red knots feed") == (409, "The old password is wrong.")
    assert elsewhere.get("/lines").status_code == 200, "nothing is changed by these"
    assert change(here, PASSWORD, "ten red knots feed") == (204, "")
    assert [browser.get("/lines").status_code for browser in (here, elsewhere)] == [200, 401]
    assert office.http(None).post("/session", json={"user": "orla", "password": PASSWORD}).status_code == 401
    browser_of(office, "orla", "ten red knots feed")
    with office.with_token(token) as client:
        client.change_password("ten red knots feed", PASSWORD)
        assert here.get("/lines").status_code == 401
        [event, _] = client.events(action="member.password-changed")
        assert (event.actor, event.subject) == ("orla", "orla") and PASSWORD not in str(event)
        for _ in range(5):
            with pytest.raises(Refused, match="The old password is wrong"):
                client.change_password("not it at all", "ten red knots feed")
        office.execute("update sign_in_failures set locked_until = locked_until + interval '1 hour'")  # tests are slow
        with pytest.raises(Refused, match="Too many wrong passwords"):
            client.change_password(PASSWORD, "ten red knots feed")
    narrow = (
        browser_of_later(office, "orla").post("/tokens", json={"name": "narrow", "verbs": ["read"]}).json()["token"]
    )
    with office.with_token(narrow) as client, pytest.raises(Forbidden, match="may do less"):
        client.change_password(PASSWORD, "ten red knots feed")
    with office.core as client, pytest.raises(Refused, match="is a robot"):
        client.change_password(PASSWORD, "ten red knots feed")


def browser_of_later(office: Office, name: str) -> httpx.Client:
    """The same, when its wrong passwords are forgotten."""
    office.execute("delete from sign_in_failures")
    return browser_of(office, name)


def test_a_forgotten_password_is_replaced_by_who_manages_every_account_of_the_person(office: Office) -> None:
    joined(office, "orla")
    browser, new = browser_of(office, "orla"), "ten red knots feed"

    def use(code: str | None) -> int:
        return office.http(None).post("/invitations/acceptance", json={"code": code, "password": new}).status_code

    with office.core as core, office.client("chart-house") as other:
        assert use(core.invite("orla").invitation) == 200
        assert browser.get("/lines").status_code == 401
        browser = browser_of(office, "orla", new)
        early = core.invite("orla").invitation
        with pytest.raises(Refused, match="open invitation"):
            other.add_member("orla", "steward")  # whoever has the code would accept it
        office.execute("update invitations set expires_at = now()")
        other.add_member("orla", "steward")
        for client, why in ((core, "accounts that you do not manage"), (other, "has not accepted the membership")):
            with pytest.raises(Refused, match=why):
                client.invite("orla")
        office.execute("update invitations set expires_at = now() + interval '1 day'")
        assert browser.post("/memberships/chart-house/acceptance").status_code == 200
        assert use(early) == 401, "it was made when the person had one account"
        for client in (core, other):
            with pytest.raises(Refused, match="accounts that you do not manage"):
                client.invite("orla")
        core.add_member("tide-builder", "operator", robot=True)
        with pytest.raises(Refused, match="is a robot"):
            core.invite("tide-builder")


def test_nobody_becomes_a_member_of_another_account_unasked(office: Office) -> None:
    joined(office, "orla", "operator")
    browser = browser_of(office, "orla")
    mine = browser.post("/tokens", json={"name": "mine"}).json()

    def accounts() -> list[str]:
        return [held["account"] for held in browser.get("/session").json()["accounts"]]

    def asked() -> list[str]:
        return [offer["account"] for offer in browser.get("/memberships/offered").json()]

    with office.client("chart-house") as client, office.with_token(mine["token"]) as orla:
        assert not client.add_member("orla", "steward").accepted
        assert accounts() == ["tide-core"] and asked() == ["chart-house"]
        orla.who_am_i()
        list(orla.lines())  # no question which account is meant
        assert mine["id"] not in {token.id for token in client.tokens()}
        with pytest.raises(NotFound):
            client.revoke_token(mine["id"])
        assert browser.delete("/memberships/chart-house").status_code == 204
        assert asked() == [] and "orla" not in {member.user for member in client.members()}
        client.add_member("orla", "steward")
        assert browser.post("/memberships/chart-house/acceptance").status_code == 200
        assert accounts() == ["chart-house", "tide-core"]
        # Now the other account sees that the token reaches it, and ends that, and no more.
        [seen] = [token for token in client.tokens() if token.id == mine["id"]]
        assert seen.accounts == ["chart-house"]
        client.revoke_token(mine["id"])
        assert [held.account for held in orla.who_am_i().accounts] == ["tide-core"]
        assert browser.delete("/memberships/chart-house").status_code == 204
        assert accounts() == ["tide-core"]
    narrow = browser.post("/tokens", json={"name": "narrow", "verbs": ["read"]}).json()["token"]
    with office.with_token(narrow) as client, pytest.raises(Forbidden, match="may do less"):
        client.leave("tide-core")
    with office.core as client:
        last = next(m.user for m in client.members() if m.role == "steward")
        for member in client.members():
            if member.role == "steward" and member.user != last:
                client.remove_member(member.user)
        assert client.set_role("orla", "steward").accepted
        assert browser.delete("/memberships/tide-core").status_code == 204, "another steward is left"


def test_wrong_passwords_lock_the_name_for_longer_each_time(office: Office) -> None:
    joined(office, "senna")
    http = office.http(None)

    def log_in(user: str, password: str) -> tuple[int, str]:
        answer = http.post("/session", json={"user": user, "password": password})
        return answer.status_code, str(answer.json().get("detail"))

    def lasts_longer() -> int:
        """Give the locks that there are an hour more: their first second may pass before the next call here."""
        sql = (
            "update sign_in_failures set locked_until = locked_until + interval '1 hour' where locked_until is not null"
        )
        with psycopg.connect(office.settings.database_url) as connection:
            return connection.execute(sql).rowcount

    for user in ("nobody-at-all", "senna"):  # nobody learns who is here
        office.execute("delete from sign_in_failures")
        for _ in range(5):
            assert log_in(user, "not it at all") == (401, "Name or password is wrong.")
        assert lasts_longer() > 0
        assert log_in(user, PASSWORD) == (401, "Too many wrong passwords.")
    for expected in (2, 4, 8):  # the lock passes, as it were, and another wrong password follows
        office.execute("update sign_in_failures set locked_until = now() - interval '1 second'")
        before = time.time()
        assert log_in("senna", "still not it")[0] == 401
        [(until,)] = office.query(
            "select extract(epoch from locked_until) from sign_in_failures where locked_until > now()"
        )
        assert float(until) - before >= expected, "twice as long each time"
    office.execute("update sign_in_failures set key = 'from elsewhere ' || key")
    assert log_in("senna", PASSWORD)[0] == 200, "a stranger locks out nobody but itself"
    assert log_in("one-name", "not it at all")[1] == "Name or password is wrong."
    office.execute("update sign_in_failures set failures = 99, locked_until = null")  # with as many names
    assert log_in("another-name", "not it at all")[1] == "Name or password is wrong."
    assert lasts_longer() > 0
    assert log_in("senna", PASSWORD)[1] == "Too many wrong passwords.", "from this address"


def test_a_browser_needs_its_csrf_token(office: Office) -> None:
    joined(office, "iven", "operator")
    with office.http(None) as http:
        answer = http.post("/session", json={"user": "iven", "password": PASSWORD})
        cookie = answer.headers["set-cookie"].lower()
        assert "httponly" in cookie and "samesite=strict" in cookie
        csrf = answer.json()["csrf"]
        assert http.get("/lines").status_code == 200
        assert http.post("/lines", json={"name": "by-browser"}).json()["code"] == "csrf"
        assert http.post("/lines", json={"name": "by-browser"}, headers={"X-CSRF-Token": "x"}).status_code == 403
        assert http.post("/lines", json={"name": "by-browser"}, headers={"X-CSRF-Token": csrf}).status_code == 201
        assert http.delete("/session", headers={"X-CSRF-Token": csrf}).status_code == 204
        http.cookies.set("bathotype_session", cookie.split("=", 1)[1].split(";")[0])
        assert http.get("/lines").status_code == 401, "the session ended at the server"


def test_of_two_stewards_that_remove_each_other_one_stays(office: Office) -> None:
    with office.client("harbour-watch") as client:
        for name in ("left", "right"):
            client.add_member(name, "steward", robot=True)
        made = {name: client.make_token(name="x", robot=name).token for name in ("left", "right")}
        for row in client.members():
            if row.user not in ("left", "right") and row.role == "steward":
                last = row.user
        others = [m.user for m in client.members() if m.role == "steward" and m.user not in ("left", "right", last)]
        for name in others:
            client.remove_member(name)
    outcomes: dict[str, str] = {}
    gate = threading.Barrier(2)

    def remove(mine: str, other: str) -> None:
        with office.with_token(made[mine]) as client:
            gate.wait()
            try:
                client.remove_member(other)
                outcomes[mine] = "done"
            except (Refused, NotFound, NotSignedIn) as error:  # the last of them where it was removed before it asked
                outcomes[mine] = error.code

    threads = [threading.Thread(target=remove, args=pair) for pair in (("left", "right"), ("right", "left"))]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(outcomes.values())[0] == "done" and list(outcomes.values()).count("done") == 1, outcomes
    with office.client("harbour-watch") as client:
        stewards = [m.user for m in client.members() if m.role == "steward"]
        assert len({"left", "right"} & set(stewards)) == 1
        for name in stewards:
            if name != last:
                client.remove_member(name)
        with pytest.raises(Refused, match="without a steward"):
            client.remove_member(last)


def test_a_steward_who_has_not_joined_is_none_that_an_account_can_be_left_to(office: Office) -> None:
    with office.core as client:
        client.add_member("orla", "steward")
        for leave in (client.remove_member, lambda name: client.set_role(name, "operator")):
            with pytest.raises(Refused, match="without a steward"):
                leave("tide-core-demo")
        office.execute("update users set password = 'chosen' where name = 'orla'")
        assert client.set_role("tide-core-demo", "operator").role == "operator"
