"""Who may do what: every route with every role and a stranger, tokens, passwords, sessions, an outside log-in."""

from __future__ import annotations

import json
import os
import stat
import subprocess
import sys
from pathlib import Path

import httpx
import psycopg
import pytest

from bathotype.client import Client, NotSignedIn
from bathotype.core.errors import Refused
from tests.support import System, command_line

PASSWORD = "nine grey herons wade"


def test_a_person_joins_logs_in_by_the_command_line_and_out(system: System, tmp_path: Path) -> None:
    kept = tmp_path / "config" / "credentials.json"

    def cli(*argv: str, given: str = "") -> subprocess.CompletedProcess[str]:
        return command_line(*argv, given=given, BATHOTYPE_URL=system.url, BATHOTYPE_CREDENTIALS=str(kept))

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
    assert cli("auth", "join", given=f"{lost}\n{PASSWORD}\n").returncode == 5
    with system.client("chart-house") as client:
        with pytest.raises(Refused, match="has an open invitation"):
            client.add_member("mara", "viewer")  # whoever holds the invitation would act here too
    assert cli("auth", "join", given=f"{code}\nshort\n").returncode == 2
    assert cli("auth", "join", given=f"{code}\n{PASSWORD}\n").returncode == 0
    with system.client("chart-house") as client:
        asked = client.add_member("mara", "viewer")
        assert asked.invitation is None and not asked.accepted, "she is a user already, and is asked"
        with pytest.raises(Refused, match="member already"):
            client.add_member("mara", "viewer")
        with pytest.raises(Refused, match="has not accepted the membership yet"):
            client.invite("mara")
    assert cli("auth", "join", given=f"{code}\n{PASSWORD}\n").returncode == 5, "a code is good once"
    assert cli("auth", "login", "--user", "mara", given="wrong and wrong\n").returncode == 5
    done = cli("auth", "login", "--user", "mara", given=f"{PASSWORD}\n")
    assert done.returncode == 0, done.stderr
    assert stat.S_IMODE(kept.stat().st_mode) == 0o600 and PASSWORD not in kept.read_text()
    assert "tide-core" in done.stdout and "chart-house" not in done.stdout
    changed = cli("auth", "password", given=f"{PASSWORD}\nten red knots feed\n")
    assert "Your password is changed." in changed.stderr and changed.returncode == 0
    assert cli("auth", "password", given=f"{PASSWORD}\n{PASSWORD}\n").returncode == 4
    assert cli("auth", "password", given=f"ten red knots feed\n{PASSWORD}\n").returncode == 0
    assert "chart-house" in cli("auth", "memberships", "list").stdout
    assert cli("lines", "list", "--account", "chart-house").returncode == 3
    assert cli("auth", "memberships", "accept", "chart-house").returncode == 0
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


def test_log_in_by_an_outside_provider(system: System) -> None:
    def go(invitation: str = "") -> httpx.Response:
        with httpx.Client(trust_env=False, follow_redirects=False) as http:
            assert http.get(f"{system.url}/api/v1/session/ways").json()["oidc"] == "/api/v1/session/oidc"
            if invitation:
                away = http.post(f"{system.url}/api/v1/session/oidc", json={"invitation": invitation})
                if away.status_code != 200:
                    return away
                back = http.get(away.json()["address"])
            else:
                away = http.get(f"{system.url}/api/v1/session/oidc")
                back = http.get(away.headers["location"])
            done = http.get(back.headers["location"])
            return done if done.status_code >= 400 else http.get(f"{system.url}/api/v1/session")

    system.provider.user = "senna"
    assert go().json()["detail"].startswith("No user here has the identity"), "whom nobody added"
    with system.core as client:
        code = str(client.add_member("senna", "operator").invitation)
    assert go().status_code == 401, "the provider's name for somebody is not enough"
    assert "no longer valid" in go("not-a-code").json()["detail"]
    assert go(code).json()["user"] == "senna"
    assert go().json()["user"] == "senna"
    with system.core as client:
        other = str(client.add_member("iven", "viewer").invitation)
    assert "as senna already" in go(other).json()["detail"], "one person is not two"
    # Whoever made the invitation must not be able to choose a password for her now.
    taken = {"code": code, "password": "a few plain words"}
    assert httpx.post(f"{system.url}/api/v1/invitations/acceptance", json=taken, trust_env=False).status_code == 401
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
        system.provider.spoil = {"nonce": "replayed"}
        assert http.get(back.headers["location"]).status_code == 401
        system.provider.spoil = {}
        assert http.get(back.headers["location"]).status_code == 401, "a state is good once, whatever came of it"


@pytest.mark.parametrize(
    "statement",
    [
        "alter table events disable trigger events_append_only",
        "update events set actor = 'nobody'",
        "delete from events",
        "truncate events",
        "drop table lines",
        "create table mine (a int)",
        "update alembic_version set version_num = '0001'",
    ],
)
def test_the_role_of_the_service_owns_nothing(system: System, statement: str) -> None:
    with psycopg.connect(system.environment["BATHOTYPE_DATABASE_URL"]) as connection:
        assert connection.execute("select count(*) from events").fetchone()
        with pytest.raises(psycopg.errors.InsufficientPrivilege):
            connection.execute(statement)


def test_bootstrap_where_the_settings_are(system: System) -> None:
    environment = {
        **os.environ, "BATHOTYPE_DATABASE_URL": system.postgres.url("bathotype"),
        "BATHOTYPE_REGIONS_FILE": str(system.data / "regions.yaml"),
    }  # fmt: skip
    command = [sys.executable, "-m", "bathotype.cli.main", "auth", "bootstrap", "pilot-school"]
    done = subprocess.run(command, capture_output=True, text=True, env=environment, check=True)
    with Client(system.url, done.stdout.strip()) as client:
        assert client.who_am_i().accounts[0].role == "steward"
