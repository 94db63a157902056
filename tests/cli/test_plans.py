"""A plan is the whole truth: what forbids it, all at once, and what would change, tried on the bytes."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from bathotype.client import OperationFailed
from bathotype.core.errors import NotSignedIn
from tests.cli.conftest import Cli
from tests.office import Office
from tests.support import command_line

MOTD = {"id": "motd", "do": "put-file", "path": "/etc/motd", "content": "Halvane\n"}
NOTHING = {"id": "none", "do": "remove", "paths": ["/srv/not-there"]}


def test_an_edit_is_tried_before_it_is_made(office: Office, demo_disk: Path) -> None:
    office.version("gauge@1.0.0", data=demo_disk.read_bytes())
    with office.core as client:
        plan = client.plan_edit(reference="gauge@1.0.0", steps=[MOTD, NOTHING], bump="patch")
        assert [(c.step, c.path) for c in plan.changes] == [("motd", "/etc/motd")] and not plan.blockers
        assert plan.region == "skerry-1" and "in skerry-1" in plan.effects[0]
        empty = client.plan_edit(reference="gauge@1.0.0", steps=[NOTHING], bump="patch")
        assert "change nothing" in empty.blockers[0]
        told = client.plan_edit(reference="gauge@1.0.0", steps=[NOTHING], bump="patch", even_unchanged=True)
        assert not told.blockers and not told.changes
        with pytest.raises(OperationFailed, match="no version is made"):
            client.wait(client.edit(reference="gauge@1.0.0", steps=[NOTHING], number="1.0.1").id)
        operation = client.edit(reference="gauge@1.0.0", steps=[NOTHING], number="1.0.1", even_unchanged=True)
        assert (client.wait(operation.id).result or {})["changes"] == []


def test_an_edit_is_made_where_the_placement_says_first(office: Office, demo_disk: Path) -> None:
    office.version("gauge@1.0.0", data=demo_disk.read_bytes(), region="lagoon-3")
    with office.core as client:
        client.wait(client.replicate("gauge@1.0.0", [{"region": "fjord-2", "copies": 0}])[0].id)
        assert client.plan_edit(reference="gauge@1.0.0", steps=[MOTD]).region == "lagoon-3", "where it was made"
        client.set_placement("gauge", [{"region": "fjord-2", "copies": 0}, {"region": "lagoon-3", "copies": 0}])
        assert client.plan_edit(reference="gauge@1.0.0", steps=[MOTD]).region == "fjord-2"
        assert [place.region for place in client.placement("gauge").regions] == ["fjord-2", "lagoon-3"]


def test_every_obstacle_to_a_capture_is_in_its_plan(office: Office, cli: Cli) -> None:
    office.cloud.add_machine("tide-core", "bare", bytearray(4 << 20))
    office.version("gauge@1.0.0")
    told = cli("capture", "bare", "--line", "nowhere", "--plan", "--profile", "linux")
    assert told.returncode == 4, told.stderr
    assert "is stopped; a live capture" in told.stderr and "no line 'nowhere'" in told.stderr
    with office.core as client:
        found = client.inspect("bare", profile="none", line="gauge", number="1.0.0")
        assert {r.check for r in found.remarks if r.outcome == "obstacle"} >= {"profile", "number"}
        free = client.inspect("bare", mode="as-is", line="gauge")
        assert "gauge@1.0.1" in next(r.why for r in free.remarks if r.check == "number")
        plan = client.wait(client.plan_capture(machine="bare", mode="as-is", line="gauge").id).result or {}
        assert plan["blockers"] == [] and plan["changes"] == []
    assert office.query("select count(*) from operations where kind = 'capture-plan' and state <> 'succeeded'") == [
        (0,)
    ]


def test_an_import_is_tried_with_its_residue(office: Office, cli: Cli, demo_disk: Path) -> None:
    office.core.create_line("piers")
    answer = cli("import", str(demo_disk), "--line", "piers", "--plan", "--region", "skerry-1", "--json")
    found = json.loads(answer.stdout)
    assert answer.returncode == 0 and len(found["changes"]) > 20
    assert "/etc/machine-id" in {change["path"] for change in found["changes"]}
    asked = ("--line", "piers", "--as-is", "--plan", "--json", "--region", "skerry-1")
    kept = json.loads(cli("import", str(demo_disk), *asked).stdout)
    told = next(r for r in kept["remarks"] if r["check"] == "residue")
    assert told["outcome"] == "warning" and ".ssh" in told["why"] and kept["changes"] == []


def test_programs_get_problems_as_documents(office: Office, cli: Cli, monkeypatch: pytest.MonkeyPatch) -> None:
    office.version("gauge@1.0.0")
    answer = cli("launch", "gauge@1.0.0", "--region", "skerry-1", "--machine-size", "huge", "--plan")
    assert answer.returncode == 4 and "no machine size" in answer.stderr
    answer = cli("versions", "show", "gauge@9.9.9", "--json")
    problem = json.loads(answer.stderr)
    assert answer.returncode == 3 and not answer.stdout
    assert (problem["status"], problem["code"], problem["title"]) == (404, "not-found", "Not found")

    def nobody(given: object) -> None:
        raise NotSignedIn("You are not signed in.")

    monkeypatch.setattr("bathotype.cli.main.connect", nobody)
    assert command_line("lines", "list").returncode == 5
