"""Who may do what: every route with every role and a stranger, tokens, passwords, sessions, an outside log-in."""

from __future__ import annotations

import json
import os
import re
import stat
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any

import httpx
import pytest
from fastapi.routing import APIRoute

from bathotype.client import Client, NotSignedIn
from bathotype.client.login import accept_invitation, log_in
from bathotype.core.access.roles import ALLOWS, Role, Verb
from bathotype.core.errors import Forbidden, NotFound, Refused
from bathotype.core.firstboot.settings import FirstBoot
from bathotype.service.app import create_app
from tests.support import System

# Without a token by their nature: they are how one gets one.
OPEN = {"/session/ways", "/session", "/session/oidc", "/session/oidc/callback", "/invitations/acceptance"}
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
    names = {d.call.__name__ for d in route.dependant.dependencies if d.call}
    return bool(names & {"caller", "get_person"})


ROUTES = [
    (route, method)
    for route in create_app(None).routes  # type: ignore[arg-type]
    if isinstance(route, APIRoute) and route.include_in_schema
    for method in sorted(route.methods)
]


@pytest.fixture(scope="module")
def ours(system: System) -> dict[str, str]:
    """Things of tide-core that path parameters can name."""
    reference = system.captured("walked", number="1.0.0")
    with system.core as client:
        operation = client.wait(client.launch(reference=reference, region="skerry-1", name="walked-01").id)
        share = client.share(subject="walked", consumer="harbour-watch")
        client.save_first_boot("walked", FirstBoot())
        token = client.make_token(name="walked", robot="tide-core-demo", days=1)
        upload = httpx.post(
            f"{system.url}/api/v1/uploads", json={"name": "x", "size": 9, "region": "skerry-1"}, trust_env=False,
            headers={"Authorization": f"Bearer {system.secrets['api']['tide-core']}"},
        ).json()  # fmt: skip
    return {
        "reference": reference, "name": "walked", "machine": "gauge-seed-01", "operation_id": operation.id,
        "instance": "walked-01", "share": share.id, "token": token.id, "upload": upload["id"], "user": "tide-core-demo",
        "mark": "stable", "finding": "none", "number": "0", "key": "0123456789abcdef", "account": "tide-core",
    }  # fmt: skip


def call(system: System, route: APIRoute, method: str, token: str, names: dict[str, str], body: Any = None) -> Any:
    path = re.sub(r"\{(\w+)(?::path)?\}", lambda m: names[m[1]], route.path)
    headers = {"Authorization": f"Bearer {token}"} if token else {}
    query = {"region": "skerry-1", "to": names["reference"], "reference": names["reference"]}
    with (
        httpx.Client(trust_env=False, timeout=30) as http,
        http.stream(method, f"{system.url}{path}", headers=headers, json=body, params=query) as answer,
    ):
        kind = answer.headers.get("content-type", "")
        answer_text = answer.read().decode() if "json" in kind else ""
        return answer.status_code, answer_text


def test_every_route_says_what_it_needs() -> None:
    for route, method in ROUTES:
        path = route.path.removeprefix("/api/v1")
        assert path in OPEN or signed_in(route), f"{method} {path} asks nobody who calls"
        if needed(route) is None and method != "GET":
            assert path in {*OPEN, "/tokens"}, f"{method} {path} changes something and needs no verb"


def test_nobody_gets_in_without_a_token(system: System, ours: dict[str, str]) -> None:
    for route, method in ROUTES:
        if signed_in(route):
            assert call(system, route, method, "", ours, {})[0] == 401, f"{method} {route.path}"


@pytest.mark.parametrize("role", ["viewer", "operator"])
def test_what_a_role_may_not_do_is_forbidden_with_the_reason(system: System, ours: dict[str, str], role: str) -> None:
    token = system.token(role)
    for route, method in ROUTES:
        verb = needed(route)
        if verb is None or verb in ALLOWS[Role(role)]:
            continue
        status, text = call(system, route, method, token, ours, {})
        assert status == 403, f"{method} {route.path}: {status}"
        assert f"is {role} in tide-core; this needs" in json.loads(text)["detail"]


def test_what_a_role_may_do_is_not_forbidden(system: System, ours: dict[str, str]) -> None:
    token = system.token("viewer")
    for route, method in ROUTES:
        if needed(route) == Verb.READ and not route.path.endswith("/events"):
            assert call(system, route, method, token, ours, {})[0] not in (401, 403, 500), f"{method} {route.path}"


def test_a_stranger_finds_and_changes_nothing(system: System, ours: dict[str, str]) -> None:
    """The steward of another account, with references written both ways; only what is public by design is told."""
    token = system.token("steward", "chart-house")
    before = system.query(
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
        if path in OPEN or path == "/accounts/{account}/keys":
            continue
        bodies = [
            {},
            {"reference": names["reference"], "region": "skerry-1"},
            {"subject": "walked", "consumer": "harbour-watch"},
        ]
        for body in bodies if method != "GET" else [None]:
            status, text = call(system, route, method, token, names, body)
            assert status != 500, f"{method} {path} {text}"
            told = json.loads(text).get("detail", "") if status >= 400 and text else text
            # A refusal may repeat what was asked for; an answer may not show it, but of what the stranger names itself.
            own = method != "GET" and route.path.endswith(("{name}", "/distrust"))
            assert status >= 400 or own or not secret.search(told), f"{method} {path}: {text[:300]}"
            if status < 400 and method != "GET":
                assert own or "{" not in route.path, path
    after = system.query(
        "select count(*) from events e join accounts a on a.id = e.account_id where a.name = 'tide-core'"
    )
    assert after == before, "nothing happened in the account"
    with system.client("chart-house") as client, pytest.raises(NotFound):
        client.version(f"tide-core/{ours['reference']}")


def test_tokens_are_narrow_expire_and_end_at_once(system: System) -> None:
    reader = system.token("operator", verbs=["read"])
    with Client(system.url, reader) as client:
        list(client.lines())
        with pytest.raises(Forbidden, match="does not cover operate"):
            client.create_line("no")
        with pytest.raises(Forbidden):
            client.make_token(name="wider", verbs=["read", "operate"])
        narrow = client.make_token(name="mine", days=1)
        assert narrow.verbs == ["read"]
    with system.core as client:
        row = next(t for t in client.tokens() if t.name == "test" and t.verbs == ["read"])
        assert row.last_used_at is not None and row.last_used_from == "127.0.0.1"
        client.revoke_token(row.id)
    with Client(system.url, reader) as client, pytest.raises(NotSignedIn, match="revoked"):
        list(client.lines())
    short = system.token("viewer", days=0.00002)
    time.sleep(2)
    with Client(system.url, short) as client, pytest.raises(NotSignedIn, match="expired"):
        list(client.lines())
    digests = {row[0] for row in system.query("select digest from api_tokens")}
    assert not any(t in digests for t in (reader, short)), "only digests are kept"


def test_a_person_joins_logs_in_by_the_command_line_and_out(system: System, tmp_path: Path) -> None:
    kept = tmp_path / "config" / "credentials.json"
    environment = {"PATH": "/usr/bin:/bin", "BATHOTYPE_URL": system.url, "BATHOTYPE_CREDENTIALS": str(kept)}

    def cli(*argv: str, given: str = "") -> subprocess.CompletedProcess[str]:
        command = [sys.executable, "-m", "bathotype.cli.main", *argv]
        return subprocess.run(command, input=given, capture_output=True, text=True, env=environment, check=False)

    with system.core as client:
        lost = client.add_member("mara", "steward").invitation
        client.remove_member("mara")  # never joined: the name is free again, and the code is worth nothing
        code = client.add_member("mara", "steward").invitation
        client.add_member("tide-builder", "operator", robot=True)
        token = client.make_token(name="build", robot="tide-builder").token
        client.remove_member("tide-builder")
        with Client(system.url, token) as robot, pytest.raises(NotSignedIn):
            list(robot.lines())
        client.add_member("tide-builder", "operator", robot=True)
    assert cli("auth", "join", given=f"{lost}\n{PASSWORD}\n").returncode == 1
    with system.client("chart-house") as client:
        with pytest.raises(Refused, match="has not joined yet"):
            client.add_member("mara", "viewer")  # whoever holds the invitation would act here too
    assert cli("auth", "join", given=f"{code}\nshort\n").returncode == 2
    assert cli("auth", "join", given=f"{code}\n{PASSWORD}\n").returncode == 0
    with system.client("chart-house") as client:
        assert client.add_member("mara", "viewer").invitation is None, "she is a user already"
        with pytest.raises(Refused, match="member already"):
            client.add_member("mara", "viewer")
        with pytest.raises(Refused, match="can log in already"):
            client.invite("mara")
    assert cli("auth", "join", given=f"{code}\n{PASSWORD}\n").returncode == 1, "a code is good once"
    assert cli("auth", "login", "--user", "mara", given="wrong and wrong\n").returncode == 1
    done = cli("auth", "login", "--user", "mara", given=f"{PASSWORD}\n")
    assert done.returncode == 0, done.stderr
    assert stat.S_IMODE(kept.stat().st_mode) == 0o600 and PASSWORD not in kept.read_text()
    assert "tide-core" in done.stdout and "chart-house" in done.stdout
    which = cli("lines", "list")
    assert which.returncode == 2 and "several accounts: chart-house, tide-core" in which.stderr
    assert cli("lines", "list", "--account", "tide-core").returncode == 0
    assert cli("lines", "create", "x", "--account", "chart-house").returncode == 4, "a viewer there"
    assert cli("lines", "list", "--account", "harbour-watch").returncode == 3
    token = json.loads(kept.read_text())["token"]
    kept.chmod(0o644)
    assert cli("lines", "list", "--account", "tide-core").returncode == 2
    kept.chmod(0o600)
    assert cli("auth", "logout").returncode == 0 and not kept.exists()
    with Client(system.url, token, account="tide-core") as client, pytest.raises(NotSignedIn):
        list(client.lines())


def test_wrong_passwords_lock_the_name_for_longer_each_time(system: System) -> None:
    with system.core as client:
        accept_invitation(system.url, str(client.add_member("senna-locked", "viewer").invitation), PASSWORD)
    for _ in range(5):
        with pytest.raises(NotSignedIn, match="wrong"):
            log_in(system.url, "senna-locked", "not it at all")
    with pytest.raises(NotSignedIn, match="Too many"):
        log_in(system.url, "senna-locked", PASSWORD)
    with pytest.raises(NotSignedIn, match="Name or password is wrong"):
        log_in(system.url, "nobody-at-all", PASSWORD)
    time.sleep(1.2)
    for _ in range(2):
        with pytest.raises(NotSignedIn):
            log_in(system.url, "senna-locked", "still not it")
    locked = system.query("select extract(epoch from locked_until - now()) from users where name = 'senna-locked'")
    assert locked[0][0] > 1, "twice as long"
    system.execute("update users set locked_until = null where name = 'senna-locked'")
    assert log_in(system.url, "senna-locked", PASSWORD).token


def test_a_browser_needs_its_csrf_token(system: System) -> None:
    with system.core as client:
        accept_invitation(system.url, str(client.add_member("iven", "operator").invitation), PASSWORD)
    with httpx.Client(base_url=f"{system.url}/api/v1", trust_env=False) as http:
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


def test_log_in_by_an_outside_provider(system: System) -> None:
    def go() -> httpx.Response:
        with httpx.Client(trust_env=False, follow_redirects=False) as http:
            assert http.get(f"{system.url}/api/v1/session/ways").json()["oidc"] == "/api/v1/session/oidc"
            away = http.get(f"{system.url}/api/v1/session/oidc")
            back = http.get(away.headers["location"])
            done = http.get(back.headers["location"])
            return done if done.status_code >= 400 else http.get(f"{system.url}/api/v1/session")

    system.provider.user = "senna"
    assert go().json()["detail"].startswith("senna cannot log in this way"), "whom nobody added"
    with system.core as client:
        client.add_member("senna", "operator")
    assert go().json()["user"] == "senna"
    # From now on the provider's id of her counts, not the name that she has there.
    system.provider.spoil = {"preferred_username": "mara"}
    assert go().json()["user"] == "senna"
    system.provider.spoil = {"sub": "somebody-else", "preferred_username": "senna"}
    assert go().status_code == 401, "another person of that name"
    for spoil in ({"iss": "http://elsewhere"}, {"aud": "another"}, {"exp": 1}, {"nonce": "replayed"}):
        system.provider.spoil = spoil
        assert go().status_code == 401, spoil
    system.provider.spoil = {}
    with httpx.Client(trust_env=False) as http:
        away = http.get(f"{system.url}/api/v1/session/oidc")
        back = http.get(away.headers["location"])
        forged = httpx.get(back.headers["location"], trust_env=False)
        assert forged.status_code == 401, "a browser that did not begin it"


def test_of_two_stewards_that_remove_each_other_one_stays(system: System) -> None:
    with system.client("harbour-watch") as client:
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
        with Client(system.url, made[mine]) as client:
            gate.wait()
            try:
                client.remove_member(other)
                outcomes[mine] = "done"
            except (Refused, NotFound) as error:
                outcomes[mine] = error.code

    threads = [threading.Thread(target=remove, args=pair) for pair in (("left", "right"), ("right", "left"))]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(outcomes.values())[0] == "done" and list(outcomes.values()).count("done") == 1, outcomes
    with system.client("harbour-watch") as client:
        stewards = [m.user for m in client.members() if m.role == "steward"]
        assert len({"left", "right"} & set(stewards)) == 1
        for name in stewards:
            if name != last:
                client.remove_member(name)
        with pytest.raises(Refused, match="without a steward"):
            client.remove_member(last)


def test_bootstrap_where_the_settings_are(system: System) -> None:
    environment = {
        **os.environ, "BATHOTYPE_DATABASE_URL": system.postgres.url("bathotype"),
        "BATHOTYPE_REGIONS_FILE": str(system.data / "regions.yaml"),
    }  # fmt: skip
    command = [sys.executable, "-m", "bathotype.cli.main", "auth", "bootstrap", "pilot-school"]
    done = subprocess.run(command, capture_output=True, text=True, env=environment, check=True)
    with Client(system.url, done.stdout.strip()) as client:
        assert client.who_am_i().accounts[0].role == "steward"
