"""Sheets as they are kept and run by commands: payload by address, repositories, tokens for a sheet."""

from __future__ import annotations

import threading
from pathlib import Path

from tests.cli.conftest import Cli
from tests.gitserver import GitRepository, files_served
from tests.office import Office
from tests.service.test_repositories import CONF, FIRST, WITH_FILE
from tests.service.test_saved_sheets import text


def test_a_payload_by_its_address_is_locked_and_kept(office: Office, cli: Cli, tmp_path: Path) -> None:
    office.version("gauge@1.0.0")
    (tmp_path / "web").mkdir()
    served = tmp_path / "web/logger.conf"
    served.write_bytes(CONF)
    sheet = tmp_path / "logging.yaml"
    with office.core as client:
        client.create_line("logger")
    with files_served(tmp_path / "web") as address:
        sheet.write_text(WITH_FILE.replace("{file: files/logger.conf}", f'{{url: "{address}/logger.conf"}}'))
        assert "does not name conf" in cli("sheets", "check", str(sheet)).stderr
        assert "holds 1 file" in cli("sheets", "lock", str(sheet)).stderr
        assert "1 file of payload as locked" in cli("sheets", "check", str(sheet)).stderr
        assert "saved as text 1" in cli("sheets", "save", str(sheet)).stdout
        served.write_bytes(b"interval = 1\n")
        assert "same as its text 1" in cli("sheets", "save", str(sheet)).stderr, "what is kept is not fetched again"
        changed = cli("build", str(sheet))
        assert changed.returncode == 4 and "conf has changed" in changed.stderr
        served.unlink()
        assert "answered 404" in cli("build", str(sheet)).stderr


def test_parts_are_files_beside_a_sheet_or_kept(office: Office, cli: Cli, tmp_path: Path) -> None:
    office.version("gauge@1.0.0")
    with office.core as client:
        client.create_line("logger")
    part, sheet = tmp_path / "parts/conf.yaml", tmp_path / "logging.yaml"
    part.parent.mkdir()
    (part.parent / "logger.conf").write_bytes(CONF)
    part.write_text(
        "part: conf\npayload: {conf: {file: logger.conf}}\nsteps:\n- {id: put, do: put-file, payload: conf, to: /etc/a}\n"
    )
    sheet.write_text(
        text()
        .replace("steps:", "parts: {conf: {file: parts/conf.yaml}}\nsteps:")
        .replace("result:", "- {id: first, do: include, part: conf}\nresult:")
    )
    assert "holds 1 file" in cli("sheets", "lock", str(sheet)).stderr
    checked = cli("sheets", "check", str(sheet))
    assert "first-put" in checked.stdout and "is valid: 2 steps" in checked.stderr
    assert "saved as text 1" in cli("sheets", "save", str(sheet)).stdout
    good = part.read_text()
    part.write_text(good.replace("put-file", "put-fyle"))
    wrong = cli("sheets", "check", str(sheet))
    assert wrong.returncode == 2 and wrong.stdout.startswith(f"{part}:4:3: steps.0: ")
    assert cli("sheets", "check", str(part)).stdout.startswith(f"{part}:4:3: steps.0: ")
    part.write_text(good)
    assert "no lock" in cli("sheets", "save", str(part)).stderr
    assert cli("sheets", "lock", str(part)).returncode == 0
    assert "conf is a valid part: 1 step" in cli("sheets", "check", str(part)).stderr
    assert "conf is saved as text 1" in cli("sheets", "save", str(part)).stdout
    assert "conf\t1\t" in cli("sheets", "list", "--parts").stdout
    sheet.write_text(sheet.read_text().replace("file: parts/conf.yaml", "saved: newest"))
    assert cli("sheets", "lock", str(sheet)).returncode == 0
    assert "was not read: conf" in cli("sheets", "check", str(sheet)).stderr
    assert "first-put: put-file" in cli("build", str(sheet), "--plan").stdout
    assert "saved as text 2" in cli("sheets", "save", str(sheet)).stdout
    shown = cli("sheets", "show", "logging").stdout
    assert "part conf\ttext 1\n" in shown and "payload first-conf" in shown
    assert "part\tconf, text 1" in cli("sheets", "show", "conf").stdout
    assert "has the newest text of each" in cli("sheets", "newest-parts", "logging").stderr
    part.write_text(good + "# louder\n")
    assert "conf is saved as text 2" in cli("sheets", "save", str(part)).stdout
    assert "includes no saved part 'konf'" in cli("sheets", "newest-parts", "logging", "--part", "konf").stderr
    taken = cli("sheets", "newest-parts", "logging")
    assert "logging is saved as text 3" in taken.stdout and "part conf is text 2 now" in taken.stderr


def test_a_repository_is_connected_read_and_forgotten(office: Office, cli: Cli, tmp_path: Path) -> None:
    office.version("gauge@1.0.0")
    with office.core as client:
        client.create_line("logger")
    repository = GitRepository(office.folder / "git/images")
    repository.commit("The logger", FIRST)
    over = threading.Event()

    def work() -> None:
        while not over.wait(0.2):
            office.upkeep("repositories")

    worker = threading.Thread(target=work)
    worker.start()
    try:
        connected = cli("repositories", "connect", "office", str(repository.folder), "--folder", "sheets")
        assert connected.returncode == 0 and "The logger (orla)" in connected.stdout
        assert "logging\tsheets/logging.yaml" in connected.stdout and "whsec_" in connected.stdout
        repository.commit("A fault", {"sheets/broken.yaml": "sheet: broken\n"})
        wrong = cli("repositories", "read", "office")
        assert wrong.returncode == 1 and "sheets/broken.yaml" in wrong.stderr
    finally:
        over.set()
        worker.join()
    assert "1 file wrong" in cli("repositories", "list").stdout
    assert f"address\tfile://{repository.folder}" in cli("repositories", "show", "office").stdout
    assert "repository\toffice: sheets/logging.yaml" in cli("sheets", "show", "logging").stdout
    assert "forgotten" in cli("repositories", "drop", "office").stdout
    refused = cli("repositories", "connect", "far", "https://git.tide.example/images")
    assert refused.returncode == 2 and "may not be read" in refused.stderr


def test_a_token_for_a_sheet_is_made_and_listed(office: Office, cli: Cli) -> None:
    made = cli("auth", "tokens", "make", "nightly", "--verb", "read", "--verb", "run", "--sheet", "logging")
    assert made.returncode == 0 and made.stdout.startswith("bt_")
    assert "read, run (logging)" in cli("auth", "tokens", "list").stdout
