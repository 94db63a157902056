"""What a version holds of the machine that it was captured from is found in all that is made of it."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

import pytest

from bathotype.core.lifecycle.target import Target
from tests.office import Office

pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="the disk's files are to be root's")
NAME, ID = "pier-gauge-09", "0a1b2c3d4e5f60718293a4b5c6d7e8f9"
SETTINGS, REGISTERED = "/etc/tide.conf", "/opt/registered"
FILES = {
    "/etc/os-release": "ID=halvane\n",
    "/etc/hostname": f"{NAME}\n",
    "/etc/machine-id": f"{ID}\n",
    SETTINGS: f"station = {NAME}\ninterval = 60\n",
    REGISTERED: f"machine {ID}\n",
}
MOTD = {"id": "motd", "do": "put-file", "path": "/etc/motd", "content": "Halvane\n"}


def guest(folder: Path) -> Path:
    """The disk of a machine that has written its name and its machine id where no profile looks."""
    disk, tree = folder / "pier.img", folder / "tree"
    for path, text in FILES.items():
        place = tree / path[1:]
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_text(text)
    command = ["mkfs.ext4", "-q", "-L", "os", "-d", str(tree), str(disk), "16M"]
    subprocess.run(command, check=True, capture_output=True)
    return disk


@pytest.fixture
def base(office: Office, tmp_path: Path) -> str:
    """A version of it, generalized."""
    with office.core as client:
        client.create_line("pier")
        upload = client.upload(guest(tmp_path), region="skerry-1").id
        client.wait(client.import_image(upload=upload, line="pier", number="1.0.0").id)
    assert found(office, "pier@1.0.0") == {"source-host-name": SETTINGS, "source-machine-id": REGISTERED}
    return "pier@1.0.0"


def found(office: Office, reference: str, *, open_only: bool = False) -> dict[str, str]:
    with office.core as client:
        seen = [f for f in client.findings(reference, open=open_only) if f.rule.startswith("source-")]
    assert all(f.severity == ("medium" if f.rule == "source-host-name" else "high") for f in seen), seen
    return {f.rule: f.path for f in seen}


def edited(office: Office, base: str, *steps: dict[str, object]) -> str:
    with office.core as client:
        done = client.wait(client.edit(reference=base, steps=list(steps), bump="minor").id)
    return str((done.result or {})["reference"])


def test_an_edit_hides_nothing_that_its_base_was_found_to_hold(office: Office, base: str) -> None:
    once = edited(office, base, MOTD)
    assert found(office, once, open_only=True) == found(office, base)
    again = edited(office, once, {**MOTD, "content": "Halvane Tide Office\n"})
    assert found(office, again, open_only=True) == found(office, base), "however long ago the machine was captured"


def test_a_name_is_found_in_a_file_that_was_changed_and_gone_where_it_was_removed(office: Office, base: str) -> None:
    changed = edited(office, base, {**MOTD, "path": SETTINGS, "content": f"station = {NAME}\ninterval = 10\n"})
    assert found(office, changed) == found(office, base)
    rid = edited(
        office,
        base,
        {**MOTD, "path": SETTINGS, "content": "interval = 60\n"},
        {"id": "rid", "do": "remove", "paths": [REGISTERED]},
    )
    assert found(office, rid) == {}


def test_what_was_accepted_in_the_base_stays_accepted_in_files_that_are_the_same(office: Office, base: str) -> None:
    with office.core as client:
        for finding in client.findings(base):
            client.accept(base, finding.id, "known at the pier")
        once = edited(office, base, MOTD)
        assert found(office, once, open_only=True) == {}
        [reason] = {f.accepted_reason for f in client.findings(once)}
        assert reason == f"known at the pier (as in {base})"
        client.release(once)
    changed = edited(office, once, {**MOTD, "path": SETTINGS, "content": f"# {NAME}\n"})
    assert found(office, changed, open_only=True) == {"source-host-name": SETTINGS}, "another file, another finding"


def test_what_was_adopted_from_another_account_holds_what_its_source_left(office: Office, base: str) -> None:
    with office.core as client, office.client("harbour-watch") as other:
        for finding in client.findings(base):
            client.accept(base, finding.id, "known at the pier")
        client.release(base)
        office.shared("pier")
        other.create_line("berth")
        other.wait(other.adopt(reference=f"tide-core/{base}", line="berth", number="1.0.0").id)
        other.wait(other.edit(reference="berth@1.0.0", steps=[MOTD], bump="minor").id)
        assert {f.rule for f in other.findings("berth@1.1.0")} >= {"source-host-name", "source-machine-id"}
        [row] = other.check_target(Target(name="quay", generalized=True), reference="berth@1.1.0").rows
        assert row.outcome == "ok"


def test_what_keeps_its_identity_keeps_it_through_edits_and_says_so(office: Office, base: str, tmp_path: Path) -> None:
    target = Target(name="quay", generalized=True)
    with office.core as client:
        upload = client.upload(guest(tmp_path), region="skerry-1").id
        client.create_line("kept")
        client.wait(client.import_image(upload=upload, line="kept", number="1.0.0", profile=None).id)
        for of, kept in ((base, False), ("kept@1.0.0", True)):
            once = edited(office, of, MOTD)
            for reference in (of, once, edited(office, once, {**MOTD, "content": "Halvane Tide Office\n"})):
                [row] = client.check_target(target, reference=reference).rows
                assert row.outcome == ("obstacle" if kept else "ok"), reference
                plan = client.plan_launch(reference=reference, region="skerry-1", name="pier")
                assert any("keeps the identity of its source" in told for told in plan.warnings) is kept, reference
