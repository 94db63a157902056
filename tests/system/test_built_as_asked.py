"""What a sheet asks besides its steps: the machine's network, first boot and life, the result's places and pools, who is told."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from bathotype.client import OperationFailed
from bathotype.core.errors import Invalid
from bathotype.core.firstboot.settings import first_boot_of
from tests.support import System, until

KEY = "HT-REPOSITORY-4Q7M"
SHEET = """\
sheet: asked
base: asked@1.0.0
parameters:
  key: {secret: true, default: mirror-key}
machine:
  attach: {subnet: office, firewalls: [web]}
  first_boot: {time_zone: Europe/Oslo, secrets: [{secret: "{key}"}]}
  lifetime_seconds: 900
steps:
  - {id: port, do: wait-for, port: 80, seconds: 60}
  - {id: page, do: wait-for, url: "http://localhost/", text: gauge collector, seconds: 60}
  - {id: look, do: run-program, secrets: {KEY: "{key}"}, argv: [cat, /run/bathotype/mirror-key, /etc/timezone]}
  - {id: go, do: wait-for, file: /etc/go}
result:
  line: asked
  number: 2.0.0
  release: true
  pools: [chart-licences]
  placement: [{region: fjord-2, copies: 1}]
tell: [{to: night-watch, about: [released]}]
"""


@pytest.fixture(scope="module")
def base(system: System) -> str:
    return system.captured("asked", number="1.0.0")


def test_every_wish_is_judged_before_and_met_by_the_run(system: System, base: str) -> None:
    with system.core as client:
        wrong = SHEET.replace("office", "nosuch").replace("fjord-2", "nowhere").replace("[web]", "[nosuch-set]")
        told = client.plan_build(wrong).blockers
        for why in (
            "no subnet 'nosuch'", "no firewall set nosuch-set", "There is no secret mirror-key", "no subscription night-watch",
            "No pool chart-licences counts asked", "nowhere",
        ):  # fmt: skip
            assert [one for one in told if why in one], f"{why}: {told}"
        assert len(told) == 6, told
        client.set_secret("mirror-key", KEY)
        client.subscribe("night-watch", url="http://127.0.0.1:9/watch", events=[])
        client.set_allowance("chart-licences", kind="pool", lines=["asked"], most=0)
        assert [one for one in client.plan_build(SHEET).blockers if "Allowance chart-licences: 0 of 0" in one]
        client.set_allowance("chart-licences", kind="pool", lines=["asked"], most=1)
        operation = client.build(SHEET)
        until(lambda: client.build_run(operation.id).steps[3].state == "running")
        machine = system.site().machine_named("skerry-1", f"build-{operation.id}")
        assert machine is not None and (machine.subnet, machine.firewalls) == ("office", ("web",))
        with system.site().agent(machine.id) as agent:
            agent.write_file("/etc/go", b"x")
        done = client.wait(operation.id)
        printed = client.build_run(operation.id).steps[2].output
        assert "Europe/Oslo" in printed and KEY not in printed and "••••••" in printed
        assert not [f for f in client.findings("asked@2.0.0") if f.rule == "used-secret"]
        result = done.result or {}
        client.wait(result["placed"]["fjord-2"])
        assert {r.region: r.state for r in client.replicas("asked@2.0.0")}["fjord-2"] == "ready"
        [event] = client.events(subject="asked", action="sheet.released")
        assert event.after is not None and event.after["tell"] == ["night-watch"]
        assert event.after["version"] == "asked@2.0.0"


def test_a_machine_lives_no_longer_than_its_sheet_lets_it(system: System, base: str) -> None:
    text = SHEET.replace("900", "10").replace("2.0.0", "3.0.0").replace("port: 80", "file: /etc/never")
    text = text.replace("about: [released]", "about: [failed]")
    with system.core as client:
        operation = client.build(text)
        with pytest.raises(OperationFailed, match="has lived for 10 s, and may no longer"):
            client.wait(operation.id)
        assert system.site().machine_named("skerry-1", f"build-{operation.id}") is None
        [event] = client.events(subject="asked", action="sheet.failed")
        assert event.after is not None and (event.after["tell"], event.after["version"]) == (["night-watch"], None)


def test_saved_settings_are_those_of_the_moment_and_a_change_is_something_new(system: System, base: str) -> None:
    text = (
        f"sheet: zoned\nbase: {base}\nmachine: {{first_boot: oslo}}\n"
        "steps: [{id: a, do: run-program, argv: [cat, /etc/timezone]}]\nresult: {line: asked, bump: patch}\n"
    )
    with system.core as client:
        client.save_first_boot("oslo", first_boot_of({"time_zone": "Europe/Oslo", "host_name": "quay-{n}"}))
        done = client.wait(client.build(text).id)
        assert "Europe/Oslo" in client.build_run(done.id).steps[0].output
        assert client.plan_build(text).same_as == (done.result or {})["reference"]
        client.save_first_boot("oslo", first_boot_of({"time_zone": "Etc/UTC"}))
        assert client.plan_build(text).same_as is None
        with pytest.raises(Invalid, match="leave host_name out"):
            client.plan_build(text.replace("oslo", "{host_name: quay}"))


def test_a_folder_goes_in_and_what_a_run_printed_is_found_again(
    system: System, base: str, tmp_path: Path, cli: Any
) -> None:
    (tmp_path / "charts/north").mkdir(parents=True)
    (tmp_path / "charts/north/fjord.txt").write_text("Depth at PIER nine: 12 %\n")
    (tmp_path / "charts/show").write_text("#!/bin/sh\ncat /opt/charts/north/fjord.txt\n")
    (tmp_path / "charts/show").chmod(0o744)
    file = tmp_path / "charts.yaml"
    file.write_text(
        f"sheet: charts\nbase: {base}\npayload: {{charts: {{folder: charts}}}}\n"
        "steps:\n- {id: charts, do: unpack, payload: charts, to: /opt/charts}\n"
        "- {id: show, do: run-program, argv: [cat, /opt/charts/north/fjord.txt]}\nresult: {line: asked, bump: patch}\n"
    )
    assert cli("sheets", "lock", str(file)).returncode == 0
    done = json.loads(cli("build", str(file), "--json").stdout)
    assert done["state"] == "succeeded"
    for text, is_there in (("pier NINE: 12 %", True), ("pier nine: 12 _", False), ('"output"', False)):
        found = cli("builds", "list", "--printed", text)
        assert (done["id"] in found.stdout) is is_there, text
    (tmp_path / "charts/show").chmod(0o644)
    changed = cli("build", str(file))
    assert changed.returncode == 4 and "charts has changed" in changed.stderr
