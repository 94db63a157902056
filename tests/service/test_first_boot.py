"""First-boot settings: what is wrong with them is said before, each instance has its own, and what came of them is seen."""

from __future__ import annotations

from typing import Any

import pytest

from bathotype.core.errors import Invalid, Refused
from bathotype.core.firstboot.settings import first_boot_of
from bathotype.core.lifecycle.room import Room
from tests.office import Office

STATIC = {"mode": "static", "gateway": "192.0.2.1"}


def launch(office: Office, reference: str, count: int, settings: dict[str, Any], name: str = "pier-{n}") -> list[Any]:
    with office.core as client:
        given = first_boot_of(settings)
        done = client.wait(
            client.launch(reference=reference, region="skerry-1", count=count, name=name, first_boot=given).id
        )
        return [client.instance(i["id"]) for i in (done.result or {})["instances"]]


def test_all_that_is_wrong_is_said_before_a_launch(office: Office) -> None:
    reference = office.version("gauge@1.0.0")
    wrong = first_boot_of(
        {
            "time_zone": "Europe/Osloo",
            "network": {"mode": "static", "addresses": ["192.0.2.900/24"], "name_servers": ["dns"]},
            "users": [{"name": "orla"}, {"name": "orla"}],
            "ssh_public_keys": ["ssh-ed25519 AAAAC3NzaC1lZDI1"],
        }
    )
    with office.core as client:
        plan = client.plan_launch(reference=reference, region="skerry-1", count=2, first_boot=wrong)
        told = " ".join(plan.blockers)
        for part in (
            "Europe/Osloo",
            "192.0.2.900/24",
            "'dns'",
            "orla is given twice",
            "it is damaged",
            "cannot all have",
        ):
            assert part in told, part
        with pytest.raises(Refused, match="Europe/Osloo"):
            client.launch(reference=reference, region="skerry-1", first_boot=wrong)
        with pytest.raises(Invalid, match="Europe/Osloo"):
            client.save_first_boot("wrong", wrong)


def test_each_instance_takes_an_address_that_nobody_has(office: Office) -> None:
    reference = office.version("gauge@1.0.0")
    pool = {"domain": "tide.example", "network": {**STATIC, "pool": ["192.0.2.7-192.0.2.9/24", "192.0.2.77/24"]}}
    with office.core as client:
        office.launched(reference, "other")
        office.execute("update instances set address = '192.0.2.8' where name = 'other'")
        settings = first_boot_of(pool)
        plan = client.plan_launch(reference=reference, region="skerry-1", count=2, name="pier-{n}", first_boot=settings)
        assert [(one.full_name, one.addresses) for one in plan.instances] == [
            ("pier-1.tide.example", ["192.0.2.7/24"]), ("pier-2.tide.example", ["192.0.2.9/24"]),
        ]  # fmt: skip
        launch(office, reference, 2, pool)
        fuller = client.plan_launch(reference=reference, region="skerry-1", count=2, name="quay", first_boot=settings)
        assert fuller.blockers == ["The pool has 1 free addresses, for 2 instances. Give a larger one."]
        one = first_boot_of({"network": {**STATIC, "addresses": ["192.0.2.9/24"]}})
        twice = client.plan_launch(reference=reference, region="skerry-1", name="quay", first_boot=one)
        assert twice.blockers == ["The address 192.0.2.9 is in use in skerry-1. Give another."]


def test_what_was_asked_for_is_compared_with_what_is_there(office: Office) -> None:
    reference = office.version("gauge@1.0.0")
    files = {"/etc/passwd": b"root:x:0:0::/root:/bin/sh\n", "/etc/timezone": b"Etc/UTC\n"}

    def add_files(name: str) -> None:
        for machine in office.cloud.machines.values():
            machine.guest.files |= files

    office.cloud.on_create = add_files
    asked = {
        "time_zone": "Etc/GMT+1",
        "users": [{"name": "orla"}],
        "network": {**STATIC, "addresses": ["192.0.2.250/24"]},
    }
    with office.core as client:
        office.launched(reference, "first")  # the files are there from the second machine on
        office.cloud.on_create = lambda name: None
        for machine in office.cloud.machines.values():
            machine.guest.files |= files
        boot, guest = type(machine.guest).boot, type(machine.guest)

        def boots(self: Any, seed: bytes | None) -> None:
            boot(self, seed)
            self.files |= files

        guest.boot = boots  # type: ignore[method-assign]
        try:
            (instance,) = launch(office, reference, 1, asked, "pier-01")
        finally:
            guest.boot = boot  # type: ignore[method-assign]
        assert instance.state == "running"
        told = " ".join(instance.differences)
        assert "192.0.2.250" in told and "Etc/UTC, not Etc/GMT+1" in told and "no user orla" in told
        alert = next(a for a in client.alerts() if a.kind == "first-boot-differs")
        assert alert.subject == "pier-01 in skerry-1" and "no user orla" in alert.text
        machine = office.cloud.machines[str(instance.machine_id)]
        machine.guest.address = "192.0.2.250"
        machine.guest.files |= {
            "/etc/passwd": b"orla:x:1000:1000::/home/orla:/bin/bash\n",
            "/etc/timezone": b"Etc/GMT+1\n",
        }
        office.execute("update instances set asked_at = null")
        office.upkeep("instances")
        assert client.instance("pier-01").differences == [] and not client.alerts()


def test_a_machine_deleted_behind_our_back_is_an_alert_until_somebody_says_why(office: Office) -> None:
    office.launched(office.version("gauge@1.0.0"), "pier-01")
    with office.core as client:
        office.site().delete_machine(str(client.instance("pier-01").machine_id))
        office.upkeep("instances")
        (alert,) = client.alerts()
        assert (alert.kind, alert.subject) == ("deleted-at-site", "pier-01 in skerry-1")
        seen = client.acknowledge(alert.id, reason="The pier was taken down.")
        assert seen.acknowledged_reason == "The pier was taken down." and seen.cleared_at
        assert not client.alerts()
        event = next(e for e in client.events() if e.action == "alert.acknowledged")
        assert (event.after or {})["reason"] == "The pier was taken down."


def test_a_boot_disk_that_is_larger_is_seen_to_have_grown(office: Office) -> None:
    reference, room = office.version("gauge@1.0.0"), Room(boot_bytes=1 << 20, extra_disks=[2 << 20])
    with office.core as client:
        request = {"reference": reference, "region": "skerry-1", "room": room}
        assert "is not known" in " ".join(client.plan_launch(**request).warnings)
        facts = """update versions set contents = contents || '{"root_bytes": 290000, "root_last": %s}'"""
        office.execute(facts % "false")
        assert "what is added stays unused" in " ".join(client.plan_launch(**request).warnings)
        office.execute(facts % "true")
        assert client.plan_launch(**request).warnings == []
        client.wait(client.launch(**request, name="small").id)
        told = client.instance("small")
        assert "did not grow with the boot disk" in " ".join(told.differences), "its agent says 300,000 bytes"
        assert [a.kind for a in client.alerts()] == ["first-boot-differs"]
        assert [(d.role, d.bytes, bool(d.disk)) for d in told.disks] == [
            ("boot", 1 << 20, True),
            ("extra-1", 2 << 20, True),
        ]
        most = client.plan_launch(**{**request, "room": Room(extra_disks=[1 << 20] * 15)}).blockers
        assert most == [], "sixteen disks in all"
    with office.http() as http:
        odd = {"reference": reference, "region": "skerry-1", "room": {"boot_bytes": (1 << 20) + 1}}
        assert http.post("/launch-plans", json=odd).status_code == 422
