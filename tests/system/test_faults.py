"""Faults on the real processes: kill -9 at each step, a site that fails, full disks, damaged packs."""

from __future__ import annotations

import base64
import contextlib
import json
import os
import subprocess
import threading
import time
from pathlib import Path

import pytest

from bathotype.client import OperationFailed
from bathotype.core.errors import Damaged, Refused
from bathotype.core.guest.agent import AgentRefused
from bathotype.core.store.region import RegionStore
from tests.support import System, until


@pytest.fixture(autouse=True)
def _no_faults_left(system: System):  # type: ignore[no-untyped-def]
    yield
    system.clear_faults()


@pytest.fixture(scope="module")
def ready(system: System) -> str:
    """A released version with a base disk at the site."""
    reference = system.captured("fault-line", number="1.0.0")
    with system.core as client:
        client.wait(client.launch(reference=reference, region="skerry-1", name="first").id)
    return reference


def _check_source(system: System) -> None:
    machine = system.site().machine_named("skerry-1", "gauge-seed-01")
    assert machine is not None
    with system.site().agent(machine.id) as agent:
        assert agent.freeze_status() == "thawed"


def _thawed(system: System) -> bool:
    machine = system.site().machine_named("skerry-1", "gauge-seed-01")
    with system.site().agent(machine.id) as agent:  # type: ignore[union-attr]
        return agent.freeze_status() == "thawed"


def test_standin_killed_while_the_disk_is_copied(system: System) -> None:
    with system.core as client:
        client.create_line("site-killed")
        operation = client.capture(machine="surge-bench-01", line="site-killed", number="1.0.0")
        system.when_running(operation, "copy")
        system.kill("standin")
        time.sleep(0.5)
        system.revive()
        assert client.wait(operation.id).state == "succeeded"
        log = " ".join(line.text for line in client.operation_log(operation.id))
        assert "again" in log, "the retries are visible in the operation"
    assert system.temporary_at_site(operation.id) == []


def test_postgres_killed_in_a_capture(system: System) -> None:
    with system.core as client:
        client.create_line("db-killed")
        operation = client.capture(machine="gauge-seed-01", line="db-killed", number="1.0.0")
        system.when_running(operation, "generalize")
        system.kill("postgres")
        time.sleep(0.5)
        system.revive()
        assert client.wait(operation.id).state == "succeeded"
        assert [v.number for v in client.versions("db-killed")] == ["1.0.0"]
    _check_source(system)


def test_a_site_that_fails_for_a_while_is_retried_visibly(system: System) -> None:
    with system.core as client:
        client.create_line("hard-times")
        operation = client.capture(machine="gauge-seed-01", line="hard-times", number="1.0.0")
        system.fault("rate-limit", target="/v1/disks", count=3, seconds=0.1)
        system.fault("fail", target="/v1/disks", count=3, status=500)
        system.fault("slow", target="/v1/machines", count=2, seconds=0.5)
        assert client.wait(operation.id).state == "succeeded"
        log = " ".join(x.text for x in client.operation_log(operation.id) if x.level == "warning")
        assert "429" in log or "500" in log


def test_the_guest_is_thawed_whatever_happens(system: System) -> None:
    """The snapshot hangs far beyond the deadline while a program in the guest goes on writing."""
    machine = system.site().machine_named("skerry-1", "gauge-seed-01")
    assert machine is not None and machine.boot_disk is not None
    told: dict[str, bytes] = {}

    def write() -> None:
        with system.site().agent(machine.id, timeout=60) as agent:
            logger = ["/var/lib/tide/live.log", "120", "50"]
            process = agent.call("guest-exec", path="/usr/bin/gauge-logger", arg=logger, capture_output=True)["pid"]
            while "out" not in told:
                time.sleep(0.2)
                with contextlib.suppress(AgentRefused):  # while it is frozen the agent refuses most commands
                    status = agent.call("guest-exec-status", pid=process)
                    if status["exited"]:
                        told["out"] = base64.b64decode(status["out-data"])

    with system.core as client:
        client.create_line("hung")
        system.fault("snapshot-fails", target=machine.boot_disk.id, count=1, seconds=8)
        writer = threading.Thread(target=write)
        writer.start()
        operation = client.capture(machine="gauge-seed-01", line="hung", number="1.0.0")
        frozen_at = until(lambda: not _thawed_quietly(system) and time.monotonic(), pause=0.01)
        until(lambda: _thawed_quietly(system), pause=0.05, seconds=6)
        assert time.monotonic() - frozen_at < 5.5, "the guard's deadline is 3 s"
        assert client.wait(operation.id).state == "succeeded", "the snapshot is taken again"
    writer.join(30)
    assert json.loads(told["out"])["slowest_write_seconds"] < 5.5


def _thawed_quietly(system: System) -> bool:
    try:
        return _thawed(system)
    except Exception:
        return True


def test_an_agent_that_dies_while_frozen(system: System) -> None:
    machine = system.site().machine_named("skerry-1", "gauge-seed-01")
    assert machine is not None
    system.fault("agent-dies-frozen", target=machine.id, seconds=4)
    with system.core as client:
        client.create_line("silent")
        operation = client.capture(machine="gauge-seed-01", line="silent", number="1.0.0")
        until(lambda: client.operation(operation.id).state != "queued")
        time.sleep(2)
        system.clear_faults()
        client.wait(operation.id)
    until(lambda: _thawed(system))


def test_a_launch_that_does_not_come_up_tells_the_console(system: System, ready: str) -> None:
    system.fault("boot-fails", count=1)
    with system.core as client:
        operation = client.launch(reference=ready, region="skerry-1", count=2, name="half-{n}", wait_seconds=6)
        with pytest.raises(
            OperationFailed, match=r"(?s)1 of 2 instances did not come up.*no bootable system"
        ) as caught:
            client.wait(operation.id)
        assert caught.value.code == "instances-failed"
        states = sorted(client.instance(f"half-{n}").state for n in (1, 2))
        assert states == ["failed", "running"]
        failed = next(i for i in client.instances(state=["failed"]) if i.name.startswith("half-"))
        assert "initramfs" in str(failed.reason)
        assert system.site().machine_named("skerry-1", failed.name) is None, "what failed is removed"
        client.retry(operation.id)
        client.wait(operation.id)
        assert client.instance(failed.id).state == "running"


def test_cancelling_cleans_up(system: System) -> None:
    with system.core as client:
        client.create_line("cancelled")
        operation = client.capture(machine="surge-bench-01", line="cancelled", number="1.0.0")
        system.when_running(operation, "snapshot")
        client.cancel(operation.id)
        with pytest.raises(OperationFailed, match="cancelled"):
            client.wait(operation.id)
        assert list(client.versions("cancelled")) == []
        assert "failed" not in {step.state for step in client.operation(operation.id).steps}
        assert system.temporary_at_site(operation.id) == []
        client.retry(operation.id)
        assert client.wait(operation.id).state == "succeeded"


def test_two_captures_for_one_number_have_one_winner(system: System) -> None:
    outcomes: list[str] = []
    with system.core as client:
        client.create_line("contested")

    def capture() -> None:
        with system.core as client:
            try:
                client.wait(client.capture(machine="gauge-seed-01", line="contested", number="1.0.0").id)
                outcomes.append("won")
            except Refused:
                outcomes.append("refused")

    threads = [threading.Thread(target=capture) for _ in range(3)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(outcomes) == ["refused", "refused", "won"]


def test_captures_of_one_machine_take_turns(system: System) -> None:
    with system.core as client:
        client.create_line("turns")
        started = [client.capture(machine="gauge-seed-01", line="turns", bump="minor") for _ in range(3)]
        assert [client.wait(o.id).state for o in started] == ["succeeded"] * 3
        assert sorted(v.number for v in client.versions("turns")) == ["1.0.0", "1.1.0", "1.2.0"]
        assert len({v.content_digest for v in client.versions("turns")}) == 1


def test_a_damaged_pack_is_named_and_never_launched(system: System) -> None:
    with system.core as client:
        reference = system.captured("rotten", number="1.0.0", machine="surge-bench-01", release=False)
        for finding in client.findings(reference):
            if finding.severity == "high":
                client.accept(reference, finding.id, "for the test")
        client.release(reference)
        store = system.data / "stores" / "skerry-1"
        manifest = RegionStore("skerry-1", f"file://{store}").get_manifest(client.version(reference).id)
        pack = next(store.glob(f"packs/*/{manifest.packs[0]}"))
        sound = pack.read_bytes()
        broken = bytearray(sound)
        broken[int(manifest.offset[0]) + 20] ^= 0xFF
        pack.write_bytes(broken)
        with pytest.raises(Damaged):
            client.export(reference, system.data / "never.raw")
        assert not (system.data / "never.raw").exists()
        with pytest.raises(OperationFailed, match=f"{pack.name[:16]} is damaged"):
            client.wait(client.launch(reference=reference, region="skerry-1", name="rotten-1").id)
        assert system.site().machine_named("skerry-1", "rotten-1") is None
        with pytest.raises(OperationFailed, match=pack.name[:16]):
            client.wait(client.verify(reference, "skerry-1").id)
        with pytest.raises(Refused, match="damaged"):
            client.launch(reference=reference, region="skerry-1", name="rotten-2")
        pack.write_bytes(sound)
        client.wait(client.verify(reference, "skerry-1").id)
        client.wait(client.launch(reference=reference, region="skerry-1", name="rotten-3").id)


@pytest.mark.skipif(os.geteuid() != 0, reason="mounting a small file system needs root")
@pytest.mark.parametrize("place", ["stores/skerry-1", "scratch"])
def test_a_full_disk_fails_clearly(system: System, place: str) -> None:
    folder = system.data / place
    kept = (
        [(p.relative_to(folder), p.read_bytes()) for p in folder.rglob("*") if p.is_file()] if "stores" in place else []
    )
    size = sum(len(data) for _, data in kept) + 3 * 1024 * 1024
    if subprocess.run(["mount", "-t", "tmpfs", "-o", f"size={size}", "tmpfs", str(folder)], check=False).returncode:
        pytest.skip("no file system can be mounted here")
    try:
        for name, data in kept:
            (folder / name).parent.mkdir(parents=True, exist_ok=True)
            (folder / name).write_bytes(data)
        system.give(folder)
        before = {p for p in (folder / "packs").rglob("*") if p.is_file()}
        machine = system.site().machine_named("skerry-1", "surge-bench-01")
        assert machine is not None
        with system.site().agent(machine.id) as agent:
            agent.write_file(f"/usr/lib/surge/new-{os.urandom(2).hex()}", os.urandom(8 * 1024 * 1024))
        with system.core as client:
            line = f"full-{place.split('/')[0]}"
            client.create_line(line)
            operation = client.capture(machine="surge-bench-01", line=line, number="1.0.0")
            with pytest.raises(OperationFailed, match="space"):
                client.wait(operation.id)
            assert list(client.versions(line)) == []
        assert {p for p in (folder / "packs").rglob("*") if p.is_file()} == before, "no half-written pack is visible"
    finally:
        subprocess.run(["umount", "-l", str(folder)], check=True)
    assert Path(folder).is_dir()
