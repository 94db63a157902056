"""Proving: a throwaway instance decides, the result is kept, and releases, rules and alerts go by it."""

from __future__ import annotations

from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pytest

from bathotype.client import OperationFailed
from bathotype.core.checks.check import read_checks
from bathotype.core.errors import Refused
from bathotype.core.lifecycle.rules import LaunchRule
from tests.support import System, until

CHECKS = """\
checks:
- {id: web, is: page, url: "http://localhost/", text: gauge}
- {id: port, is: port, port: 22}
- {id: ssh, is: service, service: ssh}
- {id: no-logger, is: service, service: tide-logger, running: false}
- {id: sed, is: package, package: sed, at_least: "1.0"}
- {id: no-installer, is: package, package: installer, absent: true}
- {id: system, is: file, path: /etc/os-release, owner: root, group: root, mode: "0644", contains: Halvane}
- {id: no-seed, is: file, path: /etc/seed, absent: true}
- {id: keeper, is: user, user: tide}
- {id: nobody, is: user, user: installer, absent: true}
- {id: host, is: program, argv: [hostname], prints: prove-op, within: 2}
- {id: use, is: disk-use, at_most_percent: 90}
- {id: boot, is: boot-time, at_most_seconds: 300}
- {id: clean, is: residue}
"""
WRONG = """\
checks:
- {id: page, is: page, url: "http://localhost/nosuch", within: 1}
- {id: port, is: port, port: 9999, within: 1}
- {id: ssh, is: service, service: ssh, running: false, within: 1}
- {id: sed, is: package, package: sed, version: "0", within: 1}
- {id: sed-newer, is: package, package: sed, at_least: "999", within: 1}
- {id: system, is: file, path: /etc/os-release, mode: "0600", within: 1}
- {id: text, is: file, path: /etc/os-release, contains: nosuch, within: 1}
- {id: user, is: user, user: tide, absent: true, within: 1}
- {id: program, is: program, argv: [nosuch], within: 1}
- {id: use, is: disk-use, at_most_percent: 1, within: 1}
- {id: updates, is: no-updates, within: 1}
- {id: writes, is: program, argv: [/bin/sh, -c, "echo login > /root/.bash_history"]}
- {id: clean, is: residue, at_most: low}
"""


@pytest.fixture(scope="module")
def version(system: System) -> str:
    return system.captured("proven", number="1.0.0", release=False)


def test_a_staged_version_is_proven_and_only_then_released(
    system: System, version: str, tmp_path: Path, cli: Any
) -> None:
    (tmp_path / "checks.yaml").write_text(CHECKS)
    assert "checks have passed" in cli("lines", "demand", "proven", "--proven", "yes").stdout
    refused = cli("versions", "release", version)
    assert refused.returncode == 4 and "is not proven" in refused.stderr
    results = tmp_path / "results.xml"
    done = cli("prove", version, "--checks", str(tmp_path / "checks.yaml"), "--junit", str(results))
    assert done.returncode == 0, done.stdout
    suite = ElementTree.parse(results).getroot()
    assert (suite.get("tests"), suite.get("failures")) == ("17", "0")
    assert not [m for m in system.site().machines("skerry-1") if m.name.startswith("prove-")]
    assert cli("versions", "release", version).returncode == 0
    again = cli("prove", version)
    assert again.returncode == 0 and "web\tpass" in again.stdout, "without checks those of the last run are judged"


def test_each_check_can_fail_and_says_what_it_saw(system: System, version: str) -> None:
    with system.core as client:
        operation = client.prove(version, checks=read_checks(WRONG))
        with pytest.raises(OperationFailed, match="12 checks of 16 did not pass") as failed:
            client.wait(operation.id)
        assert failed.value.code == "not-proven"
        run = client.check_run(operation.id)
        wrong = {j.id: j.evidence for j in run.judgements if not j.passed}
        assert run.passed is False and len(wrong) == 12 and all(wrong.values())
        assert "nosuch" in wrong["program"] and "adduser" in wrong["updates"]
        assert wrong["clean"] == "1 finding. medium: history in /root/.bash_history.", "its own identity is none"
        assert system.temporary_at_site(operation.id) == []
        alert = next(a for a in client.alerts() if a.kind == "not-proven")
        assert alert.subject == f"{version} checks" and "no longer passes" in alert.text
        client.wait(client.prove(version, checks=read_checks(CHECKS)).id)
        assert not [a for a in client.alerts() if a.kind == "not-proven"]


def test_a_rule_demands_checks_by_name(system: System, version: str) -> None:
    rule = LaunchRule.model_validate({"name": "proven", "applies_to": "proven", "checks_passed": ["web", "updates"]})
    with system.core as client:
        client.set_rule(rule)
        with pytest.raises(Refused, match="has not passed the check updates"):
            client.launch(reference=version, region="skerry-1", name="judged")
        client.set_rule(rule.model_copy(update={"checks_passed": ["web"]}))
        client.wait(client.launch(reference=version, region="skerry-1", name="judged").id)
        client.drop_rule("proven")


def test_an_instance_that_runs_is_judged_by_the_same_checks(system: System, version: str, cli: Any) -> None:
    with system.core as client:
        judged = client.check_instance("judged")
        with pytest.raises(OperationFailed, match="host: It ended with 0 and printed: judged"):
            client.wait(judged.id)
        run = client.check_run(judged.id)
        assert run.instance == "judged" and not {"boot", "clean"} & {j.id for j in run.judgements}
        assert not [a for a in client.alerts() if a.kind == "not-proven"], "an instance says nothing of its version"
        client.wait(client.check_instance("judged", checks=read_checks(CHECKS)[:2]).id)
        client.act_on_instance("judged", "terminate")
        with pytest.raises(Refused, match="only one that runs"):
            client.check_instance("judged")
    listed = cli("checks", "list", version).stdout
    assert "judged\tfailed" in listed and "throwaway\tpass" in listed


def test_a_version_that_does_not_come_up_is_not_proven(system: System, version: str) -> None:
    with system.core as client:
        system.fault("boot-fails", count=1)
        operation = client.prove(version, ready_seconds=10)
        with pytest.raises(OperationFailed, match="boots: The machine has not finished its first boot within 10 s"):
            client.wait(operation.id)
        [boots] = client.check_run(operation.id).judgements
        assert boots.id == "boots" and not boots.passed
    system.clear_faults()


def test_a_build_whose_checks_fail_leaves_its_version_staged(system: System, version: str) -> None:
    sheet = (
        f"sheet: unproven\nbase: {version}\nsteps: [{{id: a, do: put-file, content: a, to: /etc/a}}]\n"
        "checks: [{id: b, is: file, path: /etc/b}]\nresult: {line: proven, number: 2.0.0, release: true}\n"
    )
    with system.core as client:
        operation = client.build(sheet)
        with pytest.raises(OperationFailed, match="b: It is not there"):
            client.wait(operation.id)
        made = client.version("proven@2.0.0")
        assert made.state == "staged" and client.wait(client.verify("proven@2.0.0", "skerry-1").id)
        assert not [m for m in system.site().machines("skerry-1") if operation.id in m.name]


def test_a_run_goes_on_from_where_it_failed_once_its_version_is_there(system: System, version: str) -> None:
    sheet = (
        f"sheet: goes-on\nbase: {version}\nmachine: {{ready_seconds: 20}}\n"
        "steps: [{id: a, do: put-file, content: a, to: /etc/a}]\nchecks: [{id: a, is: file, path: /etc/a}]\n"
        "result: {line: proven, number: 3.0.0, release: true}\n"
    )
    with system.core as client:
        client.demand("proven", None, proven_first=False)
        operation = client.build(sheet)
        assert system.when_running(operation, "store")
        system.fault("boot-fails", count=1)  # of the throwaway instance
        with pytest.raises(OperationFailed, match="boots: The machine has not finished its first boot"):
            client.wait(operation.id)
        system.clear_faults()
        built, made = client.build_run(operation.id).steps, client.version("proven@3.0.0")
        assert made.state == "staged"
        done = client.wait(client.retry(operation.id).id)
        assert (done.result or {})["delivered"] == ["released"] and client.build_run(operation.id).steps == built
        assert client.version("proven@3.0.0").created_at == made.created_at
        assert not [m for m in system.site().machines("skerry-1") if operation.id in m.name]


def test_a_version_is_proven_where_it_passes_wherever_it_was_judged(system: System, tmp_path: Path, cli: Any) -> None:
    reference = system.captured("places", number="1.0.0", release=False)
    right = "checks:\n- {id: small, is: program, argv: [hostname], prints: prove-op}\n"
    (tmp_path / "right.yaml").write_text(right)
    both = cli("prove", reference, "--checks", str(tmp_path / "right.yaml"), *sizes("small", "medium"),
               "--junit", str(tmp_path / "all.xml"))  # fmt: skip
    assert both.returncode == 0, both.stderr
    names = {case.get("name") for case in ElementTree.parse(tmp_path / "all.xml").iter("testcase")}
    assert {"small in skerry-1: small", "medium in skerry-1: small"} <= names
    with system.core as client:
        client.demand("places", None, proven_first=True)
        wrong = "checks:\n- {id: small, is: program, argv: [hostname], prints: nosuch, within: 1}\n"
        (tmp_path / "wrong.yaml").write_text(wrong)
        assert cli("prove", reference, "--checks", str(tmp_path / "wrong.yaml"), *sizes("medium")).returncode == 1
        assert cli("prove", reference, "--checks", str(tmp_path / "right.yaml"), *sizes("small")).returncode == 0
        with pytest.raises(Refused, match="is not proven"):
            client.release(reference)
        client.set_rule(LaunchRule(name="small", applies_to="places", checks_passed=["small"]))
        client.demand("places", None, proven_first=False)
        client.release(reference)
        with pytest.raises(Refused, match="has not passed the check small"):
            client.launch(reference=reference, region="skerry-1", name="in-two-places")
        assert cli("prove", reference, "--checks", str(tmp_path / "right.yaml"), *sizes("medium")).returncode == 0
        client.wait(client.launch(reference=reference, region="skerry-1", name="in-two-places").id)
        client.drop_rule("small")


def test_a_sheet_is_proven_in_each_of_its_places(system: System, version: str) -> None:
    sheet = (
        f"sheet: everywhere\nbase: {version}\nmachine: {{ready_seconds: 30}}\n"
        "steps: [{id: a, do: put-file, content: a, to: /etc/a}]\nchecks: [{id: a, is: file, path: /etc/a}]\n"
        "prove: {regions: [skerry-1, fjord-2], sizes: [small, medium]}\n"
        "result: {line: proven, number: 4.0.0, release: true}\n"
    )
    with system.core as client:
        client.demand("proven", None, proven_first=True)
        blockers = client.plan_build(sheet.replace("medium", "huge").replace("fjord-2", "nosuch")).blockers
        assert [text.partition(":")[0] for text in blockers] == [
            "It cannot be proven in skerry-1 on huge", "It cannot be proven in nosuch",
        ]  # fmt: skip
        operation = client.build(sheet)
        assert system.when_running(operation, "prove")
        system.fault("boot-fails", count=1)  # in one of the places
        until(lambda: client.build_run(operation.id).proofs)
        system.kill("worker")
        system.revive()
        with pytest.raises(
            OperationFailed, match=r"did not pass in .* boots: The machine has not finished its first boot"
        ):
            client.wait(operation.id)
        system.clear_faults()
        assert client.version("proven@4.0.0").state == "staged"
        done = client.wait(client.retry(operation.id).id)
        assert (done.result or {})["delivered"] == ["released"] and done.attempts == 1
        proofs = client.build_run(operation.id).proofs
        places = [(run.region, run.machine_size, run.passed) for run in map(client.check_run, proofs)]
        assert len(places) == 5, "what had passed is not judged again"
        assert {place for place in places if place[2]} == {
            (r, s, True) for r in ("skerry-1", "fjord-2") for s in ("small", "medium")
        }
        second = client.build(sheet.replace("4.0.0", "4.2.0"))
        until(lambda: client.build_run(second.id).proofs)
        client.cancel(second.id)
        with pytest.raises(OperationFailed, match="cancelled"):
            client.wait(second.id)
        children = client.build_run(second.id).proofs
        until(lambda: {client.operation(one).state for one in children} <= {"cancelled", "succeeded"})
        left = [one.name for region in ("skerry-1", "fjord-2") for one in system.site().machines(region)]
        assert not [name for name in left if name.startswith(("prove-", "build-"))]


def sizes(*names: str) -> list[str]:
    return [f"--size={name}" for name in names]
