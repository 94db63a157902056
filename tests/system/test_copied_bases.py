"""Runs that start from a copy of a disk: of a machine, which stays as it is, or of the one in an image file."""

from __future__ import annotations

import hashlib
import json
from pathlib import Path
from typing import Any

import pytest

from bathotype.client import OperationFailed
from bathotype.core.errors import BathotypeError, Refused
from standin.installer import make_medium
from tests.support import System

SHEET = """\
sheet: copied
base: {base}
machine: {{size: small{more}}}
payload: {{{payload}}}
steps:
- {{id: who, do: run-program, argv: [hostname]}}
- {{id: trace, do: run-program, argv: [sha256sum, /etc/machine-id]}}
{steps}
checks: [{{id: hosts, is: file, path: /etc/hosts}}]
result: {{line: copied, bump: minor, release: true}}
"""


def text(base: str, payload: str = "", steps: str = "", more: str = "") -> str:
    return SHEET.format(base=base, payload=payload, steps=steps, more=more).replace("payload: {}\n", "")


@pytest.fixture(scope="module")
def line(system: System) -> str:
    with system.core as client:
        client.create_line("copied")
    return "copied"


def left(system: System, operation: str) -> list[str]:
    """What is left at the site of a run."""
    machines = [m.name for m in system.site().machines("skerry-1") if operation in m.name]
    disks = system.site().disks("skerry-1", tag=("bathotype-operation", operation))
    return machines + [disk.id for disk in disks if "bathotype-base" not in disk.tags]


def test_a_machine_is_copied_and_stays_as_it_is(system: System, line: str) -> None:
    source = system.site().machine_named("skerry-1", "gauge-seed-01")
    assert source is not None
    with system.site().agent(source.id) as agent:
        own = agent.read_text("/etc/machine-id").strip()
    with system.core as client:
        sheet = text("{machine: gauge-seed-01}", more=", boot_size: 512MiB")
        plan = client.plan_build(sheet)
        assert (plan.base, plan.region, plan.blockers, plan.same_as) == ("machine gauge-seed-01", "skerry-1", [], None)
        assert "Machine gauge-seed-01 is copied, and the copy generalized." in plan.effects
        done = client.wait(client.build(sheet).id)
        made, run = client.version(str((done.result or {})["reference"])), client.build_run(done.id)
        assert run.steps[0].output.startswith("build-"), "it booted as a machine of its own"
        assert hashlib.sha256(f"{own}\n".encode()).hexdigest() not in run.steps[1].output
        assert made.state == "released" and made.parent is None and made.source["built_from"] == "machine gauge-seed-01"
        assert made.source["base_digest"] == run.base_digest and run.base_digest.startswith("blake3:")
        assert made.sizes.virtual == 512 << 20 and left(system, done.id) == []
        told = {(f.rule, f.path) for f in client.findings(made.reference) if f.rule.startswith("source-")}
        assert told == {("source-host-name", "/etc/tide/gauge-collector.conf")}, "that of the base is looked for too"
        assert client.signature(made.reference).holds
        with pytest.raises(Refused, match="made from a copy of a machine"):
            client.repeat(done.id)
        with pytest.raises(BathotypeError, match="no machine 'nobody'"):
            client.build(text("{machine: nobody}"))
        # Neither offline editing nor files alone generalize it.
        failed = client.build(text("{machine: pilot-desk-01}"))
        with pytest.raises(OperationFailed, match=r"cannot be|no ext4|not generalized"):
            client.wait(failed.id)
        assert left(system, failed.id) == []
    after = system.site().machine(source.id)
    assert (after.state, after.disks) == (source.state, source.disks)
    with system.site().agent(source.id) as agent:
        assert agent.read_text("/etc/machine-id").strip() == own and agent.freeze_status() == "thawed"


def test_a_disk_and_a_file_in_a_bucket(system: System, line: str, tmp_path: Path, cli: Any) -> None:
    base = system.captured("golden", number="1.0.0")
    golden, notes = "s3://halvane-images/bases/golden.vmdk", "s3://halvane-images/bases/notes"
    with system.core as client:
        client.wait(client.export_to_bucket(base, golden, "vmdk-stream").id)
        system.to_bucket(notes, b"from a bucket\n")
        file = tmp_path / "copied.yaml"
        payload = f'golden: {{bucket: "{golden}"}}, notes: {{bucket: "{notes}"}}'
        steps = "- {id: notes, do: put-file, payload: notes, to: /etc/notes}"
        file.write_text(text("{disk: golden}", payload, steps))
        locked = cli("sheets", "lock", str(file))
        assert "the service reads s3://halvane-images/bases/golden.vmdk" in locked.stderr and not locked.returncode
        assert json.loads((tmp_path / "copied.yaml.lock").read_text())["payload"]["notes"]["bytes"] == 14
        assert "saved as text 1" in cli("sheets", "save", str(file)).stdout
        done = client.wait(client.run_sheet("copied").id)
        run = client.build_run(done.id)
        made = client.version(str((done.result or {})["reference"]))
        assert run.base == "disk golden" and run.base_digest == f"sha256:{run.payload['golden']}"
        client.export(made.reference, tmp_path / "made.raw")
        assert left(system, done.id) == []
        same = cli("sheets", "run", "copied", "--unless-same")
        assert f"nothing new: {made.reference}" in same.stdout
        again = json.loads(cli("build", made.reference, "--again", "--json").stdout)
        assert again["repeats"] == made.reference
        system.to_bucket(notes, b"from a bucket!\n")
        with pytest.raises(Refused, match="notes has 15 bytes, and 14 in the lock"):
            client.run_sheet("copied")
        system.to_bucket(notes, b"From a bucket\n")  # as long as before: only its digest tells
        changed = client.run_sheet("copied")
        with pytest.raises(OperationFailed, match="notes of the payload is not what the lock says"):
            client.wait(changed.id)
        assert not [s for s in client.build_run(changed.id).steps if s.state != "pending"]
        with pytest.raises(BathotypeError, match="may not read the bucket 'elsewhere'"):
            client.digest_in_bucket("s3://elsewhere/x")


def test_an_image_file_beside_the_sheet(system: System, line: str, tmp_path: Path, cli: Any) -> None:
    base = system.captured("golden", number="1.1.0")
    with system.core as client:
        client.export_file(base, tmp_path / "golden.qcow2", "qcow2-zstd")
    file = tmp_path / "copied.yaml"
    file.write_text(text("{disk: golden}", "golden: {file: golden.qcow2}"))
    assert not cli("sheets", "lock", str(file)).returncode
    done = json.loads(cli("build", str(file), "--json").stdout)
    assert done["state"] == "succeeded" and done["result"]["base"] == "disk golden"
    (tmp_path / "golden.qcow2").write_bytes(b"no disk at all" * 100)
    assert not cli("sheets", "lock", str(file)).returncode
    failed = cli("build", str(file))
    assert failed.returncode == 1 and "cannot be imported" in failed.stderr, failed.stderr


def test_a_system_is_installed_from_a_medium(system: System, line: str, tmp_path: Path, cli: Any) -> None:
    base = system.captured("golden", number="1.2.0")
    with system.core as client:
        client.export(base, tmp_path / "system.raw")
    make_medium(tmp_path / "system.raw", tmp_path / "medium.iso")
    (tmp_path / "answers.yaml").write_text("host-name: fresh-gauge\n")
    file = tmp_path / "copied.yaml"
    wanted = "{medium: medium, disk_size: 512MiB, answers: {answers.yaml: answers}, seconds: 120}"
    payload = "medium: {file: medium.iso}, answers: {file: answers.yaml}"
    file.write_text(text(wanted, payload))
    assert not cli("sheets", "lock", str(file)).returncode
    assert "A machine with a blank disk boots from medium" in cli("build", str(file), "--plan").stdout
    done = json.loads(cli("build", str(file), "--json").stdout)
    assert done["state"] == "succeeded" and left(system, done["id"]) == [], done["error"]
    with system.core as client:
        made, run = client.version(done["result"]["reference"]), client.build_run(done["id"])
        assert made.sizes.virtual == 512 << 20 and made.parent is None and made.state == "released"
        assert run.base == "medium medium" and run.base_digest == f"sha256:{run.payload['medium']}"
        file.write_text(text(wanted.replace("512MiB", "900TiB"), payload))
        assert "The blank disk would have 900.0 TiB; the site takes" in cli("build", str(file), "--plan").stderr
        # Without answers the installer waits for somebody; nothing of it stays.
        file.write_text(
            text(wanted.replace("answers.yaml: answers", "").replace("120", "15"), payload.partition(",")[0])
        )
        assert not cli("sheets", "lock", str(file)).returncode
        failed = cli("build", str(file))
        assert failed.returncode == 1 and "has not shut its machine down within 15 s" in failed.stderr, failed.stderr
        assert "there are no answers" in failed.stderr or "cannot be read" in failed.stderr
        assert left(system, next(client.builds()).operation) == []
    assert not [m.name for m in system.site().machines("skerry-1") if m.name.startswith("install-")]
