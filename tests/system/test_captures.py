"""Captures of all kinds of machine, and what comes of them: parents, profiles, downloads that go on, a service that dies."""

from __future__ import annotations

import threading
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import httpx
import pytest

from bathotype.client import Client
from bathotype.core.errors import BathotypeError, Invalid, NotFound
from tests.support import System, until


def test_a_capture_of_an_instance_knows_its_parent_and_stores_little(system: System) -> None:
    parent = system.captured("lineage", number="1.0.0")
    with system.core as client:
        launched = client.wait(client.launch(reference=parent, region="skerry-1", name="nursery-1").id)
        instance = client.instance((launched.result or {})["instances"][0]["id"])
        with system.site().agent(str(instance.machine_id)) as agent:
            agent.write_file("/etc/tide/extra.conf", b"depth = 4\n")
        assert client.machine("nursery-1").version == parent
        child = system.captured("lineage", machine="nursery-1", bump="minor")
        version = client.version(child)
        assert version.parent == parent and version.source["machine"] == "nursery-1"
        assert version.sizes.new < 0.1 * version.sizes.stored
        assert child in " ".join(client.purge_plan(parent).warnings)
        found = {f.rule for f in client.findings(child)}
        assert not found & {"machine-id", "ssh-host-key", "first-boot-state"}
        client.act_on_instance("nursery-1", "terminate")


def test_a_desktop_is_copied_as_it_is(system: System) -> None:
    with system.core as client:
        inspection = client.inspect("pilot-desk-01", mode="live")
        assert not inspection.capturable and any("--as-is" in r.advice for r in inspection.remarks)
        reference = system.captured("desk", machine="pilot-desk-01", mode="as-is", release=False)
        found = {(f.rule, f.severity, f.path) for f in client.findings(reference)}
        kept = ("source-host-name", "low", "/desk-facts.json")
        assert found == {kept}, "it is scanned, and keeps its identity on purpose"
        client.release(reference)
        client.wait(client.launch(reference=reference, region="skerry-1", name="desk-copy").id)
        alert = next(a for a in client.alerts() if a.subject == "host-name pilot-desk-01")
        assert "desk-copy" in alert.text
        client.act_on_instance("desk-copy", "stop")
        assert client.instance("desk-copy").state == "stopped"
        client.act_on_instance("desk-copy", "start")
        client.act_on_instance("desk-copy", "terminate")
        until(lambda: not [a for a in client.alerts() if a.subject == "host-name pilot-desk-01"])


def test_a_profile_of_ones_own(system: System) -> None:
    profile = {
        "name": "ours",
        "extends": "linux",
        "steps": [{"id": "station", "do": "drop-lines", "paths": ["/etc/tide/*.conf"], "match": "^station_name"}],
    }
    with system.core as client:
        plan: dict[str, Any] = (
            client.wait(client.plan_capture(machine="gauge-seed-01", profile=profile).id).result or {}
        )
        assert {"step": "station", "action": "edit"}.items() <= next(
            c for c in plan["changes"] if c["step"] == "station"
        ).items()
        reference = system.captured("own-profile", number="1.0.0", profile=profile)
        version = client.version(reference)
        assert version.profile is not None and version.profile["name"] == "ours"
        assert client.findings(reference) == [], "now it is wholly clean"
        with pytest.raises(Invalid, match="absolute path"):
            client.plan_capture(
                machine="gauge-seed-01", profile={"name": "x", "steps": [{"id": "a", "do": "empty", "paths": ["etc"]}]}
            )
        with pytest.raises(NotFound, match="Built in: linux"):
            client.plan_capture(machine="gauge-seed-01", profile="nothing")


def test_a_download_goes_on_where_it_was_cut(system: System, tmp_path: Path) -> None:
    reference = system.captured("long-way", number="1.0.0")
    target = tmp_path / "disk.raw"

    class Cut(Exception):
        pass

    def cut(done: int, total: int) -> None:
        if done > total / 3:
            raise Cut

    with system.core as client:
        with pytest.raises(Cut):
            client.export(reference, target, on_progress=cut)
        assert not target.exists() and len(list(tmp_path.iterdir())) == 1, "what is not whole has another name"
        asked: list[int] = []
        whole = client.export(reference, target, on_progress=lambda done, total: asked.append(done))
        assert asked[0] > whole.data_bytes / 4, "what had arrived is not brought again"
        again = tmp_path / "again.raw"
        client.export(reference, again)
    assert again.read_bytes() == target.read_bytes() and [p.name for p in sorted(tmp_path.iterdir())] == [
        "again.raw",
        "disk.raw",
    ]
    assert target.stat().st_blocks * 512 < target.stat().st_size / 4, "it is sparse"


def test_waiting_outlives_the_service(system: System) -> None:
    # More patient than usual: where real guests run beside, a service takes its time to start.
    with Client(system.url, system.secrets["api"]["tide-core"], patience=240) as client:
        client.create_line("patient")
        operation = client.capture(machine="surge-bench-01", line="patient", number="1.0.0")
        outcome: list[str] = []

        def wait() -> None:
            try:
                outcome.append(client.wait(operation.id).state)
            except BathotypeError as error:
                outcome.append(str(error))

        waiter = threading.Thread(target=wait)
        waiter.start()
        system.kill("serve")
        system.revive()
        waiter.join(300)
        assert outcome == ["succeeded"]


def test_a_machine_that_is_shut_down_for_its_capture_runs_again_whatever_happens(system: System) -> None:
    with system.core as client:
        client.create_line("at-rest")
        before = client.machine("surge-old-01")
        assert before.state == "running"
        with pytest.raises(Invalid, match="Only a stopped capture"):
            client.capture(machine="surge-old-01", line="at-rest", power_off=True)
        operation = client.capture(
            machine="surge-old-01", line="at-rest", number="1.0.0", mode="stopped", power_off=True
        )
        until(lambda: client.machine("surge-old-01").state == "stopped", seconds=60, pause=0.02)
        system.kill("worker")
        system.revive()
        result = client.wait(operation.id).result or {}
        assert client.machine("surge-old-01").state == "running" and result["frozen_seconds"] is None
        steps = {step.name: step.state for step in client.operation(operation.id).steps}
        assert steps["power_off"] == "done" and steps["settle"] == "skipped"
        assert not {f.rule for f in client.findings(result["reference"])} & {"machine-id", "source-machine-id"}
        proof = {row.name: row for row in client.proof(result["reference"]).rows}
        assert proof["machine-id"].outcome == "gone", "who it was is known although it was off"


def test_a_capture_waits_for_its_moment_and_can_be_cancelled_before(system: System) -> None:
    with system.core as client:
        client.create_line("by-night")
        far = datetime.now(UTC) + timedelta(days=2)
        waiting = client.capture(machine="gauge-seed-01", line="by-night", number="1.0.0", at=far)
        assert waiting.state == "queued" and waiting.start_at == far
        client.cancel(waiting.id)
        until(lambda: client.operation(waiting.id).state == "cancelled", seconds=60)
        soon = datetime.now(UTC) + timedelta(seconds=4)
        operation = client.capture(machine="gauge-seed-01", line="by-night", number="1.0.0", at=soon)
        done = client.wait(operation.id)
        assert done.started_at is not None and done.started_at >= soon
        with pytest.raises(Invalid, match="30 days"):
            client.capture(machine="gauge-seed-01", line="by-night", at=datetime.now(UTC) - timedelta(hours=1))


def test_nothing_starts_for_a_caller_that_has_gone(system: System) -> None:
    with system.core as client:
        client.create_line("gone-away")
    system.fault("slow", seconds=1.5, calls=4)
    try:
        with httpx.Client(base_url=f"{system.url}/api/v1", trust_env=False, timeout=0.7) as http:
            http.headers["Authorization"] = f"Bearer {system.token('operator')}"
            body = {"machine": "gauge-seed-01", "line": "gone-away", "number": "1.0.0"}
            with pytest.raises(httpx.ReadTimeout):
                http.post("/captures", json=body)
    finally:
        system.clear_faults()
    time.sleep(6)
    assert system.query("select count(*) from operations where subject = 'gone-away@1.0.0'") == [(0,)]
