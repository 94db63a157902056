"""Rules and records around the main job: who may be launched, parents, marks, dates, resumed downloads, tampering."""

from __future__ import annotations

import threading
from pathlib import Path
from typing import Any

import psycopg
import pytest

from bathotype.core.errors import BathotypeError, Invalid, NotFound, Refused
from tests.support import System, until


def test_a_pin_only_version_is_launched_only_by_name(system: System) -> None:
    first = system.captured("pinned", number="1.0.0")
    second = system.captured("pinned", bump="minor")
    with system.core as client:
        client.change(second, pin_only=True, notes="only for the harbour")
        assert client.resolve("pinned").reference == f"tide-core/{first}"
        assert client.plan_launch(reference=second, region="skerry-1").blockers == []
        client.change(first, pin_only=True)
        with pytest.raises(NotFound, match="not pin-only"):
            client.resolve("pinned")
        client.change(first, pin_only=False)
        client.set_mark("pinned", "stable", "1.1.0")
        marked = client.plan_launch(reference="pinned@stable", region="skerry-1")
        assert any("pin-only" in b for b in marked.blockers), "a mark is not an exact name"


def test_marks_move_and_remember(system: System) -> None:
    system.captured("marked", number="1.0.0")
    staged = system.captured("marked", number="1.1.0", release=False)
    with system.core as client:
        client.set_mark("marked", "stable", "1.0.0")
        with pytest.raises(Refused, match="released versions only"):
            client.set_mark("marked", "stable", "1.1.0")
        client.release(staged)
        mark = client.set_mark("marked", "stable", "1.1.0")
        assert [m.number for m in mark.history] == ["1.1.0", "1.0.0"]
        assert client.version("marked@stable").number == "1.1.0"
        with pytest.raises(NotFound, match=r"no mark 'unheard-of' \(it has: stable\)"):
            client.version("marked@unheard-of")


def test_every_reason_against_a_launch_is_told_at_once(system: System) -> None:
    reference = system.captured("choosy", number="1.0.0")
    with system.core as client:
        plan = client.plan_launch(reference=reference, region="skerry-1", zone="atlantis-1", size="vast", count=500)
        told = " ".join(plan.blockers)
        for reason in (
            "no zone atlantis-1",
            "skerry-1a, skerry-1b",
            "no machine size 'vast'",
            "small, medium, large",
            "quota",
        ):
            assert reason in told, reason
        elsewhere = client.plan_launch(reference=reference, region="fjord-2")
        assert any("is not in fjord-2" in b and "skerry-1" in b for b in elsewhere.blockers), (
            "where it would work is said"
        )
        with pytest.raises(NotFound, match="no saved first-boot settings 'none'"):
            client.launch(reference=reference, region="skerry-1", first_boot="none")
        with pytest.raises(Invalid, match="not a host name"):
            client.launch(reference=reference, region="skerry-1", name="Quay_1")
        assert list(client.instances(version=reference)) == []


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


def test_a_desktop_that_nobody_can_read_is_copied_as_it_is(system: System) -> None:
    with system.core as client:
        inspection = client.inspect("pilot-desk-01", mode="live")
        assert not inspection.capturable and any("--as-is" in r.advice for r in inspection.remarks)
        reference = system.captured("desk", machine="pilot-desk-01", mode="as-is", release=False)
        finding = client.findings(reference)[0]
        assert (finding.rule, finding.severity) == ("not-scanned", "high")
        client.accept(reference, finding.id, "prepared with the system's own tool")
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


def test_a_sunset_ends_on_its_date(system: System) -> None:
    reference = system.captured("evening", number="1.0.0")
    with system.core as client:
        with pytest.raises(Invalid, match="not in the future"):
            client.sunset(reference, retire_on=client.version(reference).created_at.date())
        version = client.sunset(reference)
        with psycopg.connect(system.postgres.url("bathotype")) as connection:  # the date comes, as it were
            connection.execute("update versions set retire_on = current_date where id = %s", (version.id,))
        until(lambda: client.version(reference).state == "retired")
        assert next(e for e in client.events(subject=reference) if e.action == "version.retired").actor == "bathotype"


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
    with system.core as client:
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
        waiter.join(60)
        assert outcome == ["succeeded"]


def test_tampering_with_the_trail_is_found(system: System, cli: Any) -> None:
    system.captured("trail", number="1.0.0")
    statement = "update events set actor = %s where id = (select min(id) from events)"
    with psycopg.connect(system.postgres.url("bathotype"), autocommit=True) as connection:
        before = connection.execute("select actor from events order by id limit 1").fetchone()
        assert before is not None
        connection.execute("alter table events disable trigger events_append_only")
        try:
            connection.execute(statement, ("somebody-else",))
            done = cli("events", "check")
            assert done.returncode == 1 and "broken at event" in done.stderr
        finally:
            connection.execute(statement, before)
            connection.execute("alter table events enable trigger events_append_only")
    assert cli("events", "check").returncode == 0
