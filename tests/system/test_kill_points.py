"""A worker killed with SIGKILL at named points of every step of every kind of operation: what it began is finished.

No worker runs in this system: each life of a worker is a process that is forked, ready loaded, for one operation.
"""

from __future__ import annotations

import hashlib
import multiprocessing
import signal
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest
import yaml

from bathotype.client import Client
from bathotype.core.checks.check import read_checks
from bathotype.core.disk.source import open_file
from bathotype.core.guest.files import GuestDisk
from bathotype.core.lifecycle.room import Room
from bathotype.demo.system import DESK_PROFILE
from bathotype.service.database import lock_number
from bathotype.service.everykind import KINDS
from bathotype.wire.builds import PayloadGiven
from bathotype.wire.operations import Operation
from standin.installer import make_medium
from tests.support import System, damage_pack, running_system, until
from tests.system.kill_child import run_operation

#: Where one worker after another dies: before anything is done, half-way (or, in a step that reports no progress, when
#: all is done), and when all is done but nothing is recorded.
DEATHS = ("begin", "progress done", "done")
#: Further deaths, in some steps.
MORE = {("capture", "snapshot"): ("frozen",)}
#: The account that the version is shared with, and what it asks for.
PARTNER = "chart-house"
OWN_TOOL = "capture by the system's own tool"
OF_THE_PARTNER = ("adopt", "launch of a shared version")
COPIED = "build on a copy of a machine"
#: Cases that die in some steps alone: the others are those of a case that dies in all.
INSTALLED = "build on an installed system"
SOME_STEPS = {COPIED: ("bring", "base_disk", "prepare", "clean_up"), INSTALLED: ("bring", "clean_up")}
SHEET = """\
sheet: killed
base: {base}
payload: {{settings: {{file: settings.conf}}}}
steps:
- {{id: once, do: run-script, script: "echo once >> /etc/tide/once"}}
- {{id: settings, do: put-file, payload: settings, to: /etc/tide/settings}}
checks:
- {{id: settings, is: file, path: /etc/tide/settings}}
result:
  line: killed
  number: {number}
  release: true
  marks: [{mark}]
  exports: [{{to: "s3://halvane-images/built/", disk: boot}}]
"""


@dataclass
class Lives:
    """The lives of workers in one system."""

    system: System
    numbers: int = 0

    def __post_init__(self) -> None:
        self._context = multiprocessing.get_context("forkserver")
        self._context.set_forkserver_preload(["bathotype.service.working", "bathotype.sites.standin.site"])

    @property
    def kill_file(self) -> Path:
        return self.system.data / "service" / "kill"

    def live(self, operation: str) -> int:
        """One life for one operation; the exit code, negative for a signal.

        PostgreSQL may need a moment to see that the life before is gone: until then, its operation is still that one's.
        """
        until(lambda: not self.held(operation), pause=0.01)
        environment = {**self.system.environment, "BATHOTYPE_KILL_FILE": str(self.kill_file)}
        process = self._context.Process(target=run_operation, args=(environment, operation, self.system.user))
        process.start()
        process.join(300)
        assert process.exitcode is not None, "a worker hangs"
        return process.exitcode

    def held(self, operation: str) -> bool:
        """Whether a worker holds the lock of an operation."""
        number = lock_number(f"operation {operation}")
        sql = "select 1 from pg_locks where locktype = 'advisory' and classid = %s and objid = %s and objsubid = 1"
        return bool(self.system.query(sql, number >> 32, number & 0xFFFFFFFF))

    def finish(self, client: Client, operation: Operation) -> Operation:
        """Run what was asked for to its end, without a death."""
        assert self.live(operation.id) == 0
        return client.wait(operation.id)

    def number(self) -> str:
        """A number that no version has."""
        self.numbers += 1
        return f"1.{self.numbers}.0"

    def version(self, client: Client, **options: object) -> str:
        """A released version of a demo machine that is off, so that nothing waits for a freeze."""
        request = {"machine": "gauge-seed-02", "line": "killed", "number": self.number(), "mode": "stopped",
                   "disks": ["all"], **options}  # fmt: skip
        done = self.finish(client, client.capture(**request))  # type: ignore[arg-type]
        reference = str((done.result or {})["reference"])
        client.release(reference)
        return reference


@pytest.fixture(scope="module")
def lives() -> Iterator[Lives]:
    with running_system(worker=False) as system:
        with system.core as client, system.client(PARTNER) as other:
            client.create_line("killed")
            other.create_line("kept")
        yield Lives(system)


@pytest.fixture(scope="module")
def ready(lives: Lives, tmp_path_factory: pytest.TempPathFactory) -> tuple[str, Path]:
    """A released version, shared with chart-house, and its disk as a file."""
    target = tmp_path_factory.mktemp("disk") / "disk.raw"
    with lives.system.core as client, lives.system.client(PARTNER) as other:
        reference = lives.version(client)
        other.accept_share(client.share(subject=reference, consumer=PARTNER).id)
        client.export(reference, target, disk="boot")
    return reference, target


def begin(kind: str, lives: Lives, client: Client, ready: tuple[str, Path]) -> tuple[Operation, Callable[[], None]]:
    """Ask for an operation of a kind, and what must be so when it has succeeded."""
    reference, image = ready
    number = lives.number()

    def whole(made: str = f"killed@{number}", region: str = "skerry-1") -> None:
        version = client.version(made)
        assert [v.number for v in client.versions("killed")].count(version.number) == 1
        done = lives.finish(client, client.verify(made, region))
        assert (done.result or {})["healed"] == 0

    match kind:
        case "capture":
            return client.capture(machine="surge-bench-01", line="killed", number=number, disks=["all"]), whole
        case "capture by the system's own tool":  # OWN_TOOL
            profile = yaml.safe_load(DESK_PROFILE.read_text())
            return client.capture(machine="pilot-desk-01", line="killed", number=number, profile=profile), whole
        case "capture-plan":
            return client.plan_capture(machine="gauge-seed-01"), lambda: None
        case "import":
            upload = client.upload(image, region="skerry-1").id
            return client.import_image(upload=upload, line="killed", number=number), whole
        case "edit":
            steps = [{"id": "blob", "do": "put-file", "path": "/opt/tide.bin", "content": f"{number}\n" * 20000}]
            return client.edit(reference=reference, steps=steps, number=number), whole
        case "build on a copy of a machine":  # COPIED
            text = f"sheet: copied\nbase: {{machine: surge-bench-01}}\nmachine: {{size: small}}\nsteps: [{{id: a, do: restart}}]\nresult: {{line: killed, number: {number}}}\n"  # fmt: skip

            def copied() -> None:
                whole()
                [run] = client.builds(made=f"killed@{number}")
                assert not list(lives.system.site().disks("skerry-1", tag=("bathotype-operation", run.operation)))

            return client.build(text), copied
        case "build on an installed system":  # INSTALLED
            medium = lives.system.data / "medium.iso"
            make_medium(image, medium)
            upload = client.upload(medium, region="skerry-1")
            sha256 = hashlib.sha256(medium.read_bytes()).hexdigest()
            file = lives.system.data / "answers.yaml"
            file.write_text("host-name: fresh\n")
            answers = client.upload(file, region="skerry-1")
            given = {
                "medium": PayloadGiven(upload=upload.id, bytes=upload.size, sha256=sha256),
                "answers": PayloadGiven(
                    upload=answers.id, bytes=answers.size, sha256=hashlib.sha256(file.read_bytes()).hexdigest()
                ),
            }
            text = f"sheet: installed\nbase: {{medium: medium, disk_size: 512MiB, answers: {{answers.yaml: answers}}}}\nmachine: {{size: small}}\npayload: {{medium: {{file: m}}, answers: {{file: a}}}}\nsteps: [{{id: a, do: restart}}]\nresult: {{line: killed, number: {number}}}\n"  # fmt: skip

            def installed() -> None:
                whole()
                names = [m.name for m in lives.system.site().machines("skerry-1")]
                assert not [name for name in names if name.startswith(("install-", "build-"))]

            return client.build(text, payload=given), installed
        case "build":
            file = lives.system.data / "settings.conf"
            file.write_text(f"number = {number}\n")
            upload = client.upload(file, region="skerry-1")
            sha256 = hashlib.sha256(file.read_bytes()).hexdigest()
            given = {"settings": PayloadGiven(upload=upload.id, bytes=upload.size, sha256=sha256)}

            def built() -> None:
                whole()
                made = client.version(f"killed@{number}")
                assert made.state == "released" and made.parent == reference
                assert [run.passed for run in client.check_runs(f"killed@{number}")] == [True]
                assert client.resolve(f"killed@built-{number[2:-2]}").reference == f"tide-core/killed@{number}"
                names = [m.name for m in lives.system.site().machines("skerry-1")]
                assert not [name for name in names if name.startswith("build-")]
                target = lives.system.data / f"built-{number}.raw"
                client.export(f"killed@{number}", target, disk="boot")
                with open_file(target) as disk:
                    once = GuestDisk.open(disk).read("/etc/tide/once")
                assert once == b"once\n", "interrupted steps begin again in a new machine"
                address = f"s3://halvane-images/built/killed-{number}.qcow2"
                told = [e for e in client.events(action="version.exported") if (e.after or {})["to"] == address]
                sha256 = hashlib.sha256(lives.system.from_bucket(address)).hexdigest()
                assert [(e.after or {})["sha256"] for e in told] == [sha256], "recorded once"
                [run] = client.builds(made=f"killed@{number}")
                delivered = client.build_run(run.operation).delivered
                assert delivered == ["released", f"killed@built-{number[2:-2]}", address], "told once"

            sheet = SHEET.format(base=reference, number=number, mark=f"built-{number[2:-2]}")
            return client.build(sheet, payload=given), built
        case "launch" | "launch of a shared version":
            name, shared = f"k-{number.replace('.', '-')}", kind != "launch"
            account = PARTNER if shared else "tide-core"
            caller = lives.system.client(account)

            def each_once() -> None:
                names = [f"{name}-{n}" for n in (1, 2)]
                assert [caller.instance(n).state for n in names] == ["running"] * 2
                there = [m for m in lives.system.site(account).machines("skerry-1") if m.name in names]
                assert sorted(m.name for m in there) == names, "nothing is doubled"
                assert [[d.size >> 20 for d in m.disks] for m in there] == [[512, 64, 8]] * 2
                assert bases(lives, client.version(fresh).id, "skerry-1") == 1
                made = [caller.act_on_instance(n, "terminate").id for n in names]
                site = lives.system.site(account)
                assert not [d for one in made for d in site.disks("skerry-1", tag=("bathotype-extra", one))]

            fresh = lives.version(client)
            if shared:
                caller.accept_share(client.share(subject=fresh, consumer=PARTNER).id)
                fresh = f"tide-core/{fresh}"
            room = Room(boot_bytes=512 << 20, extra_disks=[8 << 20])
            return caller.launch(
                reference=fresh, region="skerry-1", count=2, name=f"{name}-{{n}}", room=room
            ), each_once
        case "change-instances":
            names = [f"many-{number.replace('.', '-')}-{n}" for n in (1, 2)]
            launched = client.launch(reference=reference, region="skerry-1", count=2, name=names[0][:-1] + "{n}")
            lives.finish(client, launched)

            def ended() -> None:
                assert [client.instance(n).state for n in names] == ["terminated"] * 2
                assert not {m.name for m in lives.system.site().machines("skerry-1")} & set(names)
                for n in names:
                    told = [e.action for e in client.events(subject=n)]
                    assert told.count("instance.terminated") == 1, "recorded once"

            return client.change_instances("terminate", instances=names), ended
        case "prove":
            checks = read_checks("checks:\n- {id: host, is: program, argv: [hostname], prints: prove-op}\n")

            def proven() -> None:
                [run] = client.check_runs(fresh)
                assert run.passed and [j.id for j in run.judgements] == ["boots", "first-boot", "identity", "host"]
                names = [m.name for m in lives.system.site().machines("skerry-1")]
                assert not [name for name in names if name.startswith("prove-")]

            fresh = edited(lives, client, reference)
            return client.prove(fresh, checks=checks), proven
        case "replicate":
            fresh = edited(lives, client, reference)

            def there() -> None:
                whole(fresh, "fjord-2")
                assert bases(lives, client.version(fresh).id, "fjord-2") == 2
                assert lives.system.query("select count(*) from arrivals") == [(0,)]

            return client.replicate(fresh, [{"region": "fjord-2", "copies": 2}])[0], there
        case "export-digest":

            def learnt() -> None:
                rows = lives.system.query("select size, sha256 from export_digests where format = 'vhd-data-1'")
                client.export_file(reference, lives.system.data / "disk.vhd", "vhd", disk="data-1")
                data = (lives.system.data / "disk.vhd").read_bytes()
                assert rows == [(len(data), hashlib.sha256(data).hexdigest())]

            return client.work_out_digest(reference, "vhd", disk="data-1"), learnt
        case "bucket-digest":
            address = "s3://halvane-images/killed/known"
            lives.system.to_bucket(address, b"known" * 2_000_000)

            def told() -> None:
                [done] = [o for o in client.operations(kind="bucket-digest") if o.subject == address]
                sha256 = hashlib.sha256(b"known" * 2_000_000).hexdigest()
                assert done.result == {"address": address, "bytes": 10_000_000, "sha256": sha256}

            return client.digest_in_bucket(address), told
        case "event-check":

            def followed() -> None:
                [done] = client.operations(kind="event-check")
                assert done.result is not None and done.result["whole"] and done.result["events"] > 10

            return client.start_event_check(), followed
        case "export":
            to = f"s3://halvane-images/killed/{number}.qcow2"

            def sent() -> None:
                stored = lives.system.from_bucket(to)
                client.export_file(reference, lives.system.data / "disk.qcow2", "qcow2-zstd", disk="boot")
                assert stored == (lives.system.data / "disk.qcow2").read_bytes()
                [event] = [e for e in client.events(action="version.exported") if (e.after or {})["to"] == to]
                assert (event.after or {})["sha256"] == hashlib.sha256(stored).hexdigest()

            return client.export_to_bucket(reference, to, "qcow2-zstd", disk="boot"), sent
        case "drain":
            fresh = edited(lives, client, reference)
            lives.finish(client, client.replicate(fresh, [{"region": "lagoon-3", "copies": 1}])[0])

            def gone() -> None:
                assert [r.region for r in client.replicas(fresh)] == ["skerry-1"]
                assert bases(lives, client.version(fresh).id, "lagoon-3") == 0
                manifests = lives.system.data / "stores" / "lagoon-3" / "manifests"
                assert not list(manifests.glob(f"{client.version(fresh).id}*"))
                whole(fresh)

            return client.drain(fresh, "lagoon-3"), gone
        case "verify":
            fresh = edited(lives, client, reference)
            lives.finish(client, client.replicate(fresh, [{"region": "fjord-2", "copies": 0}])[0])
            damage_pack(lives.system.data / "stores" / "fjord-2", client.version(fresh).id)
            return client.verify(fresh, "fjord-2"), lambda: whole(fresh, "fjord-2")
        case "purge":
            fresh = edited(lives, client, reference)
            client.retire(fresh)

            def purged() -> None:
                assert client.version(fresh).regions == []
                whole(reference)

            return client.purge(fresh, waive_grace=True), purged
        case "adopt":
            other = lives.system.client(PARTNER)

            def adopted() -> None:
                assert [v.number for v in other.versions("kept")].count(number) == 1
                assert other.signature(f"kept@{number}").holds
                assert other.version(f"kept@{number}").regions == ["skerry-1"]
                done = lives.finish(other, other.verify(f"kept@{number}", "skerry-1"))
                assert (done.result or {})["healed"] == 0

            return other.adopt(f"tide-core/{reference}", line="kept", number=number), adopted
    raise AssertionError(f"nothing asks for an operation of kind {kind}: add it here")


def edited(lives: Lives, client: Client, reference: str) -> str:
    """A version with a few chunks of its own."""
    number = lives.number()
    steps = [{"id": "blob", "do": "put-file", "path": "/opt/blob", "content": f"{number}\n" * 30000}]
    done = lives.finish(client, client.edit(reference=reference, steps=steps, number=number))
    made = str((done.result or {})["reference"])
    client.release(made)
    return made


def bases(lives: Lives, version_id: str, region: str) -> int:
    names = [d.name for d in lives.system.site().disks(region, tag=("owner", "tide-core"))]
    return names.count(f"base-{version_id}")


@pytest.mark.parametrize("case", [*sorted(KINDS), "launch of a shared version", OWN_TOOL, COPIED, INSTALLED])
def test_an_operation_that_is_killed_in_each_of_its_steps_is_finished(
    case: str, lives: Lives, ready: tuple[str, Path]
) -> None:
    with lives.system.core as client:
        operation, check = begin(case, lives, client, ready)
        kind = operation.kind
        for step in SOME_STEPS.get(case, (*(s.name for s in KINDS[kind].steps), "clean_up")):
            for points in (*DEATHS, *MORE.get((kind, step), ())):
                lives.kill_file.write_text(f"{kind} {step} {points}")
                assert lives.live(operation.id) == -signal.SIGKILL, f"{step}: {points} was never reached"
        assert lives.live(operation.id) == 0
        owner = lives.system.client(PARTNER) if case in OF_THE_PARTNER else client
        done = owner.operation(operation.id)
        assert done.state == "succeeded", done.error
        check()
        assert lives.system.temporary_at_site(operation.id) == []
    assert not (lives.system.data / "scratch" / operation.id).exists()
    machine = lives.system.site().machine_named("skerry-1", "surge-bench-01")
    assert machine is not None
    with lives.system.site().agent(machine.id) as agent:
        assert agent.freeze_status() == "thawed"
