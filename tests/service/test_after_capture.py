"""What becomes of the source of a capture: kept, or deleted where that was asked for, and only when the version is sealed."""

from __future__ import annotations

from pathlib import Path

import pytest

from bathotype.client import OperationFailed
from bathotype.core.errors import NotFound, Refused
from tests.office import Office

#: Its last step cannot be done: the user is not there.
WRONG = {
    "name": "wrong",
    "extends": "linux",
    "steps": [
        {"id": "key", "do": "authorize-key", "user": "pilot", "key": "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJ2x x"}
    ],
}


def test_a_source_is_deleted_once_the_version_is_sealed_and_never_before(office: Office, demo_disk: Path) -> None:
    office.cloud.add_machine("tide-core", "old-gauge", bytearray(demo_disk.read_bytes()))
    with office.core as client:
        client.create_line("gauge")
        asked = {"machine": "old-gauge", "line": "gauge", "mode": "stopped", "afterwards": "deleted"}
        told = client.plan_capture(machine="old-gauge", mode="stopped", afterwards="deleted")
        plan = client.wait(told.id).result or {}
        assert "DELETED" in plan["effects"][-1] and not plan["blockers"]
        with pytest.raises(OperationFailed, match="pilot"):
            client.wait(client.capture(number="0.9.0", profile=WRONG, **asked).id)
        assert client.machine("old-gauge").state == "stopped", "no version, nothing deleted"
        done = client.wait(client.capture(number="1.0.0", **asked).id)
        assert client.version("gauge@1.0.0").state == "staged"
        with pytest.raises(NotFound):
            client.machine("old-gauge")
        assert {s.name: s.state for s in done.steps}["settle"] == "done"
        event = next(e for e in client.events(action="machine.deleted"))
        assert event.subject == "old-gauge" and (event.after or {})["operation"] == done.id


def test_an_instance_is_ended_as_an_instance(office: Office) -> None:
    office.launched(office.version("gauge@1.0.0"), "pier-01")
    with office.core as client:
        with pytest.raises(Refused, match="is an instance"):
            client.capture(machine="pier-01", line="gauge", bump="patch", mode="as-is", afterwards="deleted")
        assert client.instance("pier-01").state == "running"
