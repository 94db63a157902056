"""What the settings make by themselves."""

from __future__ import annotations

import threading
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from bathotype.core.errors import Invalid, Unavailable
from bathotype.service.settings import Settings, _secret
from bathotype.service.state import Service


def test_threads_that_need_the_secret_for_the_first_time_get_one(tmp_path: Path) -> None:
    for number in range(20):
        path, gate = tmp_path / f"{number}.secret", threading.Barrier(4)

        def take(_: int, path: Path = path, gate: threading.Barrier = gate) -> bytes:
            gate.wait()
            return _secret.__wrapped__(path)

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
        ({"SCRUB_DAYS": "often"}, "", "BATHOTYPE_SCRUB_DAYS cannot be used: input should be a valid number"),
        ({}, "regions: [", "is not YAML at line 1"),
        (
            {},
            "regions: {a: {site: 1}}",
            "regions.a.site cannot be used: .*; regions.a.store is not set; accounts is not set",
        ),
        ({"REGIONS_FILE": "/nowhere"}, "", "The regions file /nowhere cannot be read: No such file"),
        ({}, "{regions: {}, accounts: {}}", "BATHOTYPE_DATABASE_URL does not answer: .*Connection refused. Start it"),
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
