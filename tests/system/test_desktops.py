"""Windows-like desktops, the whole way: prepared by their own tool, captured, launched under names of their own."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest
import yaml

from bathotype.client import OperationFailed
from bathotype.core.disk.ntfs.files import NtfsFiles
from bathotype.core.disk.source import Window, open_file
from bathotype.core.errors import Invalid, Refused, Unavailable
from bathotype.demo.system import DESK_PROFILE
from tests.support import System, holds, until

PROFILE: dict[str, Any] = yaml.safe_load(DESK_PROFILE.read_text())
PREPARE = ["C:\\Desk\\prepare.exe", "forget-identity", "power-off"]


def released(system: System, reference: str) -> str:
    with system.core as client:
        assert not client.findings(reference), "its files were scanned"
        client.release(reference)
    return reference


def host_name(system: System, machine: str) -> str:
    found = system.site().machine_named("skerry-1", machine)
    assert found is not None
    with system.site().agent(found.id) as agent:
        return agent.host_name()


def test_a_prepared_desktop_is_captured_and_launched(system: System, tmp_path: Path) -> None:
    source = system.disk_file("pilot-desk-02")
    reference = system.captured(
        "desks", machine="pilot-desk-02", number="1.0.0", mode="stopped", profile=PROFILE, release=False
    )
    released(system, reference)
    with system.core as client:
        made = client.version(reference)
        assert made.profile is not None and made.profile["tool"] == "desk-prepare"
        assert made.profile["told"] == "state=prepared at=2026-10-12T08:30Z tool=desk-prepare-3.1"
        assert made.sizes.used < 16 << 20, "free clusters are left out"
        client.export(reference, tmp_path / "desk.raw")
        assert holds(source, b"the pilot's own letters") and not holds(
            tmp_path / "desk.raw", b"the pilot's own letters"
        )
        with open_file(tmp_path / "desk.raw") as file:
            files = NtfsFiles(Window(file, 1 << 20, file.size - (2 << 20)))
            assert {path for path, _ in files.walk()} == {"/", "/charts.dat", "/desk-facts.json", "/preparation.txt"}
        client.wait(client.prove(reference).id)
        assert [j.passed for j in client.check_run(next(client.check_runs(reference)).operation).judgements] == [
            True
        ] * 3
        plan = client.plan_launch(reference=reference, region="skerry-1", name="d-{n}", count=2)
        assert plan.blockers == [] and not any("identity" in text for text in plan.warnings)
        client.wait(client.launch(reference=reference, region="skerry-1", name="d-{n}", count=2).id)
        for name in ("d-1", "d-2"):
            assert client.instance(name).state == "running" and host_name(system, name) == name
            assert client.instance(name).differences == []
        assert not [a for a in client.alerts() if "pilot-desk" in a.subject or a.subject.startswith("host-name d-")]
        for name in ("d-1", "d-2"):
            client.act_on_instance(name, "terminate")


def test_a_live_capture_runs_the_tool_in_a_clone_and_leaves_the_machine(system: System) -> None:
    before = system.disk_file("pilot-desk-01").read_bytes()
    reference = system.captured("desks", machine="pilot-desk-01", number="2.0.0", profile=PROFILE, release=False)
    assert system.disk_file("pilot-desk-01").read_bytes() == before, "the source is untouched to the bit"
    assert host_name(system, "pilot-desk-01") == "pilot-desk-01"
    with system.core as client:
        made = client.version(reference)
        assert made.profile is not None and made.profile["told"].startswith("state=prepared at=")
        operation = next(o for o in client.operations() if o.subject == reference)
        assert system.temporary_at_site(operation.id) == []
        released(system, reference)
        client.wait(client.launch(reference=reference, region="skerry-1", name="d-live").id)
        assert host_name(system, "d-live") == "d-live"
        # An instance of it can be captured again, as often as the tool allows.
        again = system.captured("desks", machine="d-live", bump="minor", profile=PROFILE, release=False)
        assert client.version(again).parent == reference
        client.act_on_instance("d-live", "terminate")


def test_a_sheet_ends_with_the_systems_own_tool(system: System) -> None:
    tool = {k: v for k, v in PROFILE["steps"][0].items() if k in ("why", "tool", "argv", "marker", "answers")}
    setup = "C:\\Desk\\setup.exe"
    sheet = {
        "sheet": "plotter",
        "base": "desks@1.0.0",
        "steps": [
            {"id": "plotter", "do": "run-program", "argv": [setup, "add", "chart-plotter"]},
            {"id": "prepare", "do": "prepare-system", **tool},
        ],
        "checks": [
            {"id": "plotter", "is": "program", "argv": [setup, "show", "chart-plotter"], "prints": "is installed"}
        ],
        "result": {"line": "desks", "number": "3.0.0"},
    }
    with system.core as client:
        done = client.wait(client.build(yaml.safe_dump(sheet)).id)
        made, run = client.version("desks@3.0.0"), client.build_run(done.id)
        assert made.profile is not None and made.profile["told"].startswith("state=prepared at=")
        assert run.steps[0].output == "chart-plotter was installed\n"
        assert run.steps[1].changed == ["desk-prepare has prepared the system, and shut it down"]
        [proof] = client.check_runs("desks@3.0.0")
        assert proof.passed and [j.id for j in proof.judgements] == ["boots", "first-boot", "identity", "plotter"]
        released(system, "desks@3.0.0")
        client.wait(client.launch(reference="desks@3.0.0", region="skerry-1", name="d-plotter").id)
        assert host_name(system, "d-plotter") == "d-plotter"
        client.act_on_instance("d-plotter", "terminate")
        for steps in ([sheet["steps"][1], sheet["steps"][0]], [{**sheet["steps"][1], "only_if": {"a": "b"}}]):  # type: ignore[index,dict-item]
            with pytest.raises(Invalid, match=r"it is the last step, and always done|no parameter"):
                client.build(yaml.safe_dump({**sheet, "steps": steps}))
        never = {**sheet["steps"][1], "argv": [PREPARE[0], "wrong"]}  # type: ignore[index,dict-item]
        failed = client.build(yaml.safe_dump({**sheet, "steps": [never]}), number="3.1.0")
        with pytest.raises(OperationFailed, match=r"ended with exit code 1: usage: prepare\.exe"):
            client.wait(failed.id)


def test_what_is_not_prepared_is_refused_with_what_to_do(system: System, cli: Any, tmp_path: Path) -> None:
    with system.core as client, system.client("chart-house") as charts:
        charts.create_line("desks")
        machine = system.site("chart-house").machine_named("lagoon-3", "chart-desk-01")
        assert machine is not None
        system.site("chart-house").power(machine.id, "off")
        seen = charts.inspect("chart-desk-01", mode="stopped", profile=PROFILE)
        obstacle = next(r for r in seen.remarks if r.outcome == "obstacle")
        assert obstacle.why == "desk-prepare has not run: /preparation.txt does not say so."
        assert " ".join(PREPARE) in obstacle.advice and "5 times" in obstacle.advice and "--stopped" in obstacle.advice
        with pytest.raises(Refused, match="desk-prepare has not run"):
            charts.capture(machine="chart-desk-01", line="desks", number="1.0.0", mode="stopped", profile=PROFILE)
        # Prepared by its operator, it can be captured.
        system.site("chart-house").power(machine.id, "on")
        with system.site("chart-house").agent(machine.id) as agent:
            assert agent.run(["C:\\Desk\\prepare.exe"]).exit_code == 1
            with suppress(Unavailable):
                agent.run(PREPARE)
        until(lambda: system.site("chart-house").machine(machine.id).state == "stopped")
        capture = {"machine": "chart-desk-01", "line": "desks", "mode": "stopped"}
        charts.wait(charts.capture(**capture, number="1.0.0", profile=PROFILE).id)
        # Without a marker, somebody's word is asked for.
        word = {"name": "word", "steps": [{**PROFILE["steps"][0], "marker": None}]}
        with pytest.raises(Refused, match="Then add --prepared"):
            charts.capture(**capture, number="2.0.0", profile=word)
        charts.wait(charts.capture(**capture, number="2.0.0", profile=word, prepared=True).id)
        assert (charts.version("desks@2.0.0").profile or {})["told"] == "as whoever captured it confirmed"
        # A tool that ends and leaves no marker has not done its work; one that fails says so.
        marker = {"path": "/preparation.txt", "match": "^state=never"}
        never = {"name": "never", "steps": [{**PROFILE["steps"][0], "marker": marker}]}
        failed = client.capture(machine="pilot-desk-01", line="desks", number="9.0.0", profile=never)
        with pytest.raises(OperationFailed, match="does not say that it has run"):
            client.wait(failed.id)
        wrong = {"name": "wrong", "steps": [{**PROFILE["steps"][0], "argv": PREPARE[:1]}]}
        failed = client.capture(machine="pilot-desk-01", line="desks", number="9.0.0", profile=wrong)
        with pytest.raises(OperationFailed, match="failed in the clone with exit code 1: usage"):
            client.wait(failed.id)
        assert system.temporary_at_site(failed.id) == [] and host_name(system, "pilot-desk-01") == "pilot-desk-01"
        mixed = {"name": "mixed", "steps": [*PROFILE["steps"], {"id": "x", "do": "clear-swap"}]}
        with pytest.raises(Invalid, match="no other step"):
            client.capture(machine="pilot-desk-01", line="desks", number="9.1.0", profile=mixed)
    sheet = tmp_path / "desk.yaml"
    sheet.write_text(DESK_PROFILE.read_text())
    told = cli("capture", "pilot-desk-01", "--line", "desks", "--profile", str(sheet), "--plan")
    assert told.returncode == 0 and "is run in a throwaway clone" in told.stderr
