"""The whole job on the demo data, judged by independent tools: e2fsck, grep, the disk's own bytes."""

from __future__ import annotations

import hashlib
from pathlib import Path

import pytest

from bathotype.core.errors import Refused
from tests.support import System, e2fsck, holds, until


@pytest.fixture(scope="module")
def released(system: System) -> str:
    """A released capture of gauge-seed-01."""
    return system.captured("gauge-collector", number="1.0.0")


def test_a_live_capture_leaves_source_alone_and_secrets_behind(system: System, released: str, tmp_path: Path) -> None:
    source = system.disk_file("gauge-seed-01")
    before = hashlib.sha256(source.read_bytes()).hexdigest()
    machine = system.site().machine_named("skerry-1", "gauge-seed-01")
    with system.core as client:
        done = client.wait(client.capture(machine="gauge-seed-01", line="gauge-collector", bump="minor").id)
        reference = (done.result or {})["reference"]
        version = client.version(reference)
        target = tmp_path / "disk.raw"
        client.export(reference, target)
    assert hashlib.sha256(source.read_bytes()).hexdigest() == before
    assert system.site().machine(machine.id).state == "running"  # type: ignore[union-attr]
    with system.site().agent(machine.id) as agent:  # type: ignore[union-attr]
        assert agent.host_name() == "gauge-seed-01"
        assert agent.freeze_status() == "thawed"
    e2fsck(target)
    for secret in (b"TIDE_API_TOKEN", b"PRIVATE KEY", b"swapped-out memory", b"openssh-key-v1"):
        assert holds(source, secret) or secret == b"openssh-key-v1"
        assert not holds(target, secret)
    assert (version.state, version.mode, version.number) == ("staged", "live", "1.1.0")
    assert version.os["id"] == "halvane" and version.packages == 58 and "gauge-collector.service" in version.services
    assert version.sizes.new == 0, "the same disk again adds nothing"
    assert system.temporary_at_site(done.id) == []
    assert list((system.data / "scratch").iterdir()) == []


def test_only_what_changed_is_stored_again(system: System, released: str) -> None:
    machine = system.site().machine_named("skerry-1", "gauge-seed-01")
    with system.site().agent(machine.id) as agent:  # type: ignore[union-attr]
        agent.write_file("/usr/lib/gauge/station.bin", bytes(range(256)) * 1024)
        assert agent.read_file("/usr/lib/gauge/station.bin")[:256] == bytes(range(256))
    reference = system.captured("gauge-collector", bump="minor", release=False)
    with system.core as client:
        sizes = client.version(reference).sizes
        changed = client.difference(released, reference).changed_bytes
    # 256 KiB written: the data's chunks, and a few of metadata (bitmaps, inode, directory, superblock).
    assert 4 * 65536 <= changed <= 16 * 65536
    assert 0 < sizes.new < 0.1 * sizes.stored


def test_two_instances_are_each_themselves(system: System, released: str) -> None:
    with system.core as client:
        settings = {
            "domain": "tide.example",
            "time_zone": "Etc/GMT+1",
            "users": [
                {
                    "name": "orla",
                    "administrator": True,
                    "ssh_public_keys": [
                        "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIErTq7qWXeeipFzSh4+Ro8uQs8hUyXmApXkEKwhDMBfG orla"
                    ],
                }
            ],
            "user_data": "#cloud-config\nwrite_files: [{path: /etc/tide/zone, content: north}]\n",
        }
        done = client.wait(
            client.launch(
                reference="gauge-collector@1.0.0",
                region="skerry-1",
                zone="skerry-1b",
                count=2,
                name="quay-{n:02}",
                first_boot=settings,
            ).id
        )
        one, two = (client.instance(i["id"]) for i in (done.result or {})["instances"])
    assert (one.name, two.name, one.state, two.zone) == ("quay-01", "quay-02", "running", "skerry-1b")
    assert one.address != two.address
    assert one.identity["machine_id"] != two.identity["machine_id"]
    assert not set(one.identity["host_keys"]) & set(two.identity["host_keys"])
    contents = []
    for instance in (one, two):
        with system.site().agent(str(instance.machine_id)) as agent:
            assert agent.host_name() == instance.name
            assert b"orla" in agent.read_file("/etc/passwd")
            assert b"orla" in agent.read_file("/home/orla/.ssh/authorized_keys")
            assert agent.read_file("/etc/tide/zone") == b"north"
            assert f"{instance.name}.tide.example".encode() in agent.read_file("/etc/hosts")
            contents.append(agent.read_file("/usr/bin/tide-gauge-collector"))
            assert agent.run(["/usr/bin/systemctl", "is-active", "gauge-collector"]).out == b"active\n"
    assert contents[0] == contents[1]


def test_tracking_notices_what_happens_behind_our_back(system: System, released: str) -> None:
    with system.core as client:
        done = client.wait(client.launch(reference=released, region="skerry-1", count=4, name="drift-{n}").id)
        ids = [i["id"] for i in (done.result or {})["instances"]]
        one, two, three, four = (client.instance(i) for i in ids)
        system.fault("machine-dies", target=one.machine_id)
        system.fault("machine-lost", target=two.machine_id)
        system.fault("rename", target=three.machine_id)
        base = system.site().machine(str(four.machine_id)).created_from
        twin = system.site().create_machine(
            key="twin",
            name="twin-01",
            region="skerry-1",
            zone=None,
            machine_size="small",
            boot_disk=str(base),
            tags={"owner": "x", "purpose": "y"},
        )
        until(lambda: client.instance(one.id).state == "stopped")
        until(lambda: client.instance(two.id).state == "terminated")
        until(lambda: client.instance(three.id).name == "drift-3-renamed")
        found = until(lambda: [i for i in client.instances(version=released) if i.machine_id == twin.id])
        assert found[0].origin == "found"
        system.fault("region-out", target="skerry-1", count=1000)
        try:
            until(lambda: client.instance(four.id).state == "lost", seconds=90)
            assert any(a.kind == "site-silent" for a in client.alerts())
        finally:
            system.clear_faults()
        until(lambda: client.instance(four.id).state == "running")
        # The alert ends with the whole comparison, the state with this instance's page of it.
        until(lambda: not any(a.kind == "site-silent" for a in client.alerts()))
        for name in (one.id, three.id, four.id, found[0].id):
            client.act_on_instance(name, "terminate")


def test_a_copy_as_it_is_shares_an_identity_and_that_is_an_alert(system: System) -> None:
    reference = system.captured("twins", machine="surge-old-01", number="1.0.0", mode="as-is", release=False)
    with system.core as client:
        low = {f.rule for f in client.findings(reference) if f.severity == "low"}
        high = [f for f in client.findings(reference) if f.severity == "high"]
        assert "machine-id" in low and high
        with pytest.raises(Refused, match="open finding"):
            client.release(reference)
        for finding in high:
            client.accept(reference, finding.id, "a copy for the museum")
        client.release(reference)
        plan = client.plan_launch(reference=reference, region="skerry-1", name="copy-1")
        assert any("keeps the identity of its source" in w for w in plan.warnings)
        # First boot sets a name and keys of its own, but the machine id is the source's.
        client.wait(client.launch(reference=reference, region="skerry-1", name="copy-1").id)
        alert = next(a for a in client.alerts() if a.kind == "identity-twice")
        assert alert.subject.startswith("machine-id") and "copy-1" in alert.text and "surge-old-01" in alert.text
        client.act_on_instance("copy-1", "terminate")
        assert not any(a.kind == "identity-twice" for a in client.alerts())
