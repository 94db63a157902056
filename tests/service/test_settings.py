"""What the settings make by themselves."""

from __future__ import annotations

import threading
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from bathotype.core.errors import Invalid, Unavailable
from bathotype.service.resealing import add_key, reseal
from bathotype.service.settings import Settings
from bathotype.service.settings import _keys as cached
from bathotype.service.state import Service
from bathotype.service.vault import Vault
from tests.office import Office
from tests.support import command_line


def test_threads_that_need_the_secret_for_the_first_time_get_one(tmp_path: Path) -> None:
    for number in range(20):
        path, gate = tmp_path / f"{number}.secret", threading.Barrier(4)

        def take(_: int, path: Path = path, gate: threading.Barrier = gate) -> bytes:
            gate.wait()
            return cached.__wrapped__(path)[0]

        with ThreadPoolExecutor(4) as pool:
            assert len(set(pool.map(take, range(4)))) == 1
    assert len(list(tmp_path.iterdir())) == 20


@pytest.mark.parametrize(
    ("variables", "regions", "said"),
    [
        (
            {"REGIONS_FILE": None, "DATABASE_URL": None},
            "",
            "BATHOTYPE_DATABASE_URL is not set. BATHOTYPE_REGIONS_FILE is not",
        ),
        ({"SCRUB_DAYS": "often"}, "", "BATHOTYPE_SCRUB_DAYS cannot be used: must be a number"),
        ({}, "regions: [", "is not YAML: line 1, column 11"),
        (
            {},
            "regions: {a: {site: 1}}",
            "regions.a.site cannot be used: .*; regions.a.store is not set; accounts is not set",
        ),
        ({"REGIONS_FILE": "/nowhere"}, "", "The regions file /nowhere cannot be read: No such file"),
        ({}, "{regions: {}, accounts: {}}", "The database does not answer: .*Connection refused. Start it"),
    ],
)
def test_a_mistake_is_one_clear_line(
    variables: dict[str, str | None], regions: str, said: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "regions.yaml").write_text(regions)
    sound = {"REGIONS_FILE": str(tmp_path / "regions.yaml"), "DATABASE_URL": "postgresql://nobody@127.0.0.1:1/none"}
    for name, value in {**sound, "SCRATCH_DIR": str(tmp_path / "scratch"), **variables}.items():
        monkeypatch.setenv(f"BATHOTYPE_{name}", value) if value else monkeypatch.delenv(f"BATHOTYPE_{name}", False)
    with pytest.raises((Invalid, Unavailable), match=said) as error:
        _ = Settings.from_environment().places
        Service.from_environment(patience=1.0)
    assert "\n" not in str(error.value) and "pydantic" not in str(error.value)


@pytest.mark.parametrize("argv", [["auth", "bootstrap", "x"], ["schema", "upgrade"], ["schema", "reseal"], ["serve"]])
def test_a_database_that_is_away_is_one_clear_line_for_every_command_of_the_host(
    argv: list[str], tmp_path: Path
) -> None:
    (tmp_path / "regions.yaml").write_text("{regions: {}, accounts: {}}")
    done = command_line(
        *argv, BATHOTYPE_REGIONS_FILE=str(tmp_path / "regions.yaml"),
        BATHOTYPE_DATABASE_URL="postgresql://nobody@127.0.0.1:1/none", BATHOTYPE_SCRATCH_DIR=str(tmp_path / "scratch"),
    )  # fmt: skip
    assert done.returncode == 1 and done.stderr.startswith("bathotype: The database does not answer: "), done.stderr
    assert done.stderr.count("\n") == 1


def test_the_secrets_key_is_changed_and_nothing_is_lost(office: Office) -> None:
    def keys() -> list[bytes]:
        return office.settings.secret_path.read_bytes().split()

    def sealed() -> set[str]:
        told = office.query(
            "select sealed from secrets union all select private from account_keys where private is not null"
        )
        return {row[0] for row in told}

    office.version("gauge@1.0.0")
    with office.core as client:
        client.set_secret("licence", "HT-LOG-4F7Q-INVENTED")
    before, old = sealed(), keys()
    assert add_key(office.settings) == office.settings.secret_path and keys()[1:] == old
    cached.cache_clear()  # as in a process that starts anew
    with office.database.sessions.begin() as session:
        assert reseal(session, office.settings.box) == len(before) > 1
    assert not before & sealed()
    office.settings.secret_path.write_bytes(keys()[0])
    cached.cache_clear()
    with office.database.sessions.begin() as session:
        account = office.query("select account_id from secrets")[0][0]
        assert Vault(office.settings).peek(session, account, "licence", operation="x") == "HT-LOG-4F7Q-INVENTED"
    office.version("gauge@1.1.0")
    with office.core as client:
        assert client.signature("gauge@1.0.0").holds and client.signature("gauge@1.1.0").holds
    office.settings.secret_path.write_bytes(old[0])
    cached.cache_clear()
    with office.database.sessions.begin() as session, pytest.raises(Invalid, match="none of the keys"):
        reseal(session, office.settings.box)
    office.settings.secret_path.write_bytes(b"no key\n")
    cached.cache_clear()
    with pytest.raises(Invalid, match="something that is no key"):
        assert office.settings.box
