"""The stand-in keeps its word: real disks, rules, and a state that survives kill -9."""

from __future__ import annotations

import json
import os
import socket
import subprocess
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from io import BytesIO
from pathlib import Path

import pycdlib
import pytest

from bathotype.core.errors import NotFound, Refused
from bathotype.core.guest.agent import AgentRefused
from standin.agentline import AgentLine
from standin.guestfiles import Edits, GuestFiles
from standin.labfiles import FILES
from tests.support import System, holds, until

TAGS = {"owner": "x", "purpose": "y"}


def test_rules_and_quotas(system: System) -> None:
    site = system.site()
    limits = site.limits()
    assert limits.demanded_tags == ("owner", "purpose") and limits.regions["fjord-2"] == (
        "fjord-2a",
        "fjord-2b",
        "fjord-2c",
    )
    with pytest.raises(Refused, match="demands the tags purpose"):
        site.create_disk("skerry-1", 1024 * 1024, key="k1", name="untagged", tags={"owner": "x"})
    first = site.create_disk("skerry-1", 1024 * 1024, key="k2", name="tagged", tags=TAGS)
    assert site.create_disk("skerry-1", 1024 * 1024, key="k2", name="tagged", tags=TAGS).id == first.id
    with pytest.raises(NotFound):
        system.site("harbour-watch").snapshot(first.id, key="k3", name="theirs", tags=TAGS)
    with site.open_disk(first.id, writable=True) as disk:
        disk.write(4096, b"tide" * 1024)
        disk.flush()
    site.seal(first.id)
    with pytest.raises(Refused, match="can be written"), site.open_disk(first.id, writable=True):
        pass
    site.delete_disk(first.id)


def test_agent_writes_are_on_the_disk_and_freezing_holds_them_back(system: System) -> None:
    site = system.site()
    machine = site.machine_named("skerry-1", "surge-old-01")
    assert machine is not None
    with site.agent(machine.id) as agent:
        agent.write_file("/var/lib/tide/marker", b"a-marker-for-the-test")
        assert holds(system.disk_file("surge-old-01"), b"a-marker-for-the-test")
        assert agent.freeze(timeout=3) == 1 and agent.freeze_status() == "frozen"
        with pytest.raises(AgentRefused, match="frozen"):
            agent.write_file("/var/lib/tide/marker", b"not-while-frozen")
    # Frozen is a state of the guest: it outlives the connection and the stand-in's process.
    system.kill("standin")
    system.revive()
    with site.agent(machine.id) as agent:
        assert agent.freeze_status() == "frozen"
        assert agent.thaw() == 1 and agent.freeze_status() == "thawed"
        assert agent.read_file("/var/lib/tide/marker") == b"a-marker-for-the-test"
        agent.run(["/bin/rm", "/var/lib/tide/marker"])


def test_a_guest_reads_what_its_disk_holds_whoever_wrote_it(system: System) -> None:
    site, other = system.site(), GuestFiles(system.disk_file("surge-old-01"))
    machine = site.machine_named("skerry-1", "surge-old-01")
    assert machine is not None
    path = "/var/lib/tide/seen"
    with site.agent(machine.id) as agent:
        for number in range(3):
            edits = Edits()
            edits.write(path, f"reading {number}\n")
            other.change(edits)
            assert agent.read_file(path) == f"reading {number}\n".encode()
            time.sleep(0.15)  # from now on the model remembers it
            assert agent.read_file(path) == agent.read_file(path) == f"reading {number}\n".encode()
        agent.run(["/bin/rm", path])
        assert not other.exists(path)
        with pytest.raises(AgentRefused, match="No such file"):
            agent.read_file(f"{path}\nrm /etc/hostname")
        assert agent.read_file("/etc/hostname").startswith(b"surge-old-01")


def test_power_and_shutdown(system: System) -> None:
    site = system.site()
    machine = site.machine_named("skerry-1", "surge-old-01")
    assert machine is not None
    with site.agent(machine.id) as agent:
        identity = agent.read_file("/etc/machine-id")
        agent.call("guest-shutdown", mode="powerdown")
    until(lambda: site.machine(machine.id).state == "stopped")
    site.power(machine.id, "on")
    with site.agent(machine.id) as agent:
        assert agent.read_file("/etc/machine-id") == identity, "a machine that starts again stays itself"
    assert "login:" in site.console(machine.id)


def test_a_guest_that_goes_off_without_an_answer_keeps_nobody_waiting(tmp_path: Path) -> None:
    asked, server = threading.Event(), socket.socket(socket.AF_UNIX)
    server.bind(str(tmp_path / "agent.sock"))
    server.listen()

    def guest() -> None:
        with server, server.accept()[0] as connection, connection.makefile("rwb") as lines:
            told = json.loads(lines.readline().lstrip(b"\xff"))
            lines.write(b"\xff" + json.dumps({"return": told["arguments"]["id"]}).encode() + b"\n")
            lines.flush()
            assert b"guest-shutdown" in lines.readline()
            asked.set()
            lines.read()

    line = AgentLine(tmp_path / "agent.sock")
    with ThreadPoolExecutor() as pool:
        pool.submit(guest)
        answer = pool.submit(line.ask, b'{"execute": "guest-shutdown"}')
        assert asked.wait(20)
        pool.submit(line.close).result(timeout=20)
        assert answer.result(timeout=20) is None


def test_a_real_machine_with_a_blank_disk_boots_from_a_medium(system: System) -> None:
    # Eight instructions of a boot loader (16 bit): write this very sector to the first hard disk, and switch the power off.
    loader = bytes.fromhex("31c0 8ec0 bb007c b80103 b90100 ba8000 cd13 ba0406 b80020 ef f4 ebfd")
    iso = pycdlib.PyCdlib()
    iso.new()
    iso.add_fp(BytesIO(loader.ljust(2048, b"\0")), 2048, "/BOOT.;1")
    iso.add_eltorito("/BOOT.;1", bootcatfile="/BOOT.CAT;1")
    out = BytesIO()
    iso.write_fp(out)
    site, image = system.site(), out.getvalue().ljust(1 << 20, b"\0")
    medium = site.create_disk("skerry-1", len(image), key="m1", name="medium", tags=TAGS)
    with site.open_disk(medium.id, writable=True) as disk:
        disk.write(0, image)
        disk.flush()
    blank = site.create_disk("skerry-1", 8 << 20, key="m2", name="blank", tags=TAGS)
    site.seal(blank.id)
    machine = site.create_machine(
        key="m3", name="install-real", region="skerry-1", zone=None, machine_size="lab-small", boot_disk=blank.id,
        medium=medium.id, tags=TAGS,
    )  # fmt: skip
    assert machine.boot_disk is not None
    site.power(machine.id, "on")
    until(lambda: site.machine(machine.id).state == "stopped")
    with site.open_disk(machine.boot_disk.id) as disk:
        assert disk.read(0, len(loader)) == loader
    site.delete_machine(machine.id)
    site.delete_disk(blank.id)


@pytest.mark.parametrize("killed", [False, True])
def test_a_stage_of_the_lab_guest_runs_whatever_becomes_of_what_serves_it(tmp_path: Path, killed: bool) -> None:
    folder, own, ask = tmp_path / "stages", tmp_path / "cloud-init", tmp_path / "ask"
    folder.mkdir()
    [text] = [text for name, text in FILES.items() if name.endswith("/lab-stages/ask")]
    ask.write_text(text.replace("/run/lab-stages", str(folder)).replace("/usr/bin/cloud-init", str(own)))
    own.write_text(f'#!/bin/sh\necho "$@" >{tmp_path}/by-itself\nexit 4\n')
    for program in (ask, own):
        program.chmod(0o755)
    for pipe in ("asked", "ended"):
        os.mkfifo(folder / pipe)
    serves = (
        "read stage <asked; [ $stage = init ] || exit; echo 3 >ended" if not killed else "read stage <asked; kill -9 $$"
    )
    server = subprocess.Popen(["bash", "-c", f"echo $$ >server; {serves}"], cwd=folder)
    until(lambda: (folder / "server").exists() and (folder / "server").read_text().strip(), seconds=10)
    stage = subprocess.Popen([ask, "init"])
    server.wait(10)
    assert stage.wait(30) == (4 if killed else 3)
    assert (tmp_path / "by-itself").exists() is killed
    assert subprocess.run([ask, "modules", "--mode=final"], timeout=30, check=False).returncode == 4, (
        "nothing serves it"
    )
    assert (tmp_path / "by-itself").read_text() == "modules --mode=final\n"


def test_conversations_at_once_each_get_their_own_processes_and_files(system: System) -> None:
    machine = system.site().machine_named("skerry-1", "gauge-seed-01")
    assert machine is not None

    def converse(number: int) -> None:
        with system.site().agent(machine.id, timeout=120) as agent:  # real guests may run beside
            for turn in range(40):
                said = f"{number} {turn}".encode()
                agent.write_file(f"/tmp/said-{number}", said)
                assert agent.run(["cat", f"/tmp/said-{number}"]).out == said

    with ThreadPoolExecutor(4) as at_once:
        list(at_once.map(converse, range(4)))
