"""Build runs, the whole way: packages, files, services and accounts in a temporary machine, and what stops them."""

from __future__ import annotations

import base64
import hashlib
import json
import subprocess
from pathlib import Path
from typing import Any

import pytest

from bathotype.client import OperationFailed
from bathotype.core.errors import BathotypeError, Refused
from bathotype.core.signing.envelope import open_envelope
from bathotype.wire.builds import PayloadGiven
from tests.support import System, e2fsck, until

SETTINGS = b"interval = 30\n"
SHEET = """\
sheet: logging
base: built@1.0.0
parameters:
  station: {type: text, allowed: [harbour, outer]}
  tools: {type: boolean, default: false}
payload:
  settings: {file: files/logger.conf}
steps:
  - {id: updates, do: update-packages}
  - {id: logger, do: install-packages, packages: ["tide-logger=2.1.0-1"]}
  - {id: charts, do: install-packages, packages: [chart-tools], only_if: {tools: true}}
  - {id: group, do: add-group, group: tides, system: true}
  - {id: user, do: add-user, user: keeper, groups: [tides]}
  - {id: settings, do: put-file, payload: settings, to: /etc/tide/logger.conf, mode: "0640", group: tides}
  - id: station
    do: run-script
    environment: {STATION: "{station}"}
    script: |
      set -e
      echo $STATION > /etc/tide/station
      echo left > /var/tmp/left
      echo rotated > /var/log/gauge.log.1
    makes: [/etc/tide/station]
  - {id: clean, do: clean-disk, what: [downloads, lists, unneeded, logs, temporary]}
  - {id: run, do: service, service: tide-logger, enabled: true, state: restarted}
  - {id: restart, do: restart}
  - {id: up, do: wait-for, file: /etc/tide/station, seconds: 30}
result: {line: built, bump: minor, notes: "Logs of {station}", release: true, marks: [stable]}
"""


@pytest.fixture(scope="module")
def base(system: System) -> str:
    return system.captured("built", number="1.0.0")


@pytest.fixture
def sheet(tmp_path: Path) -> Path:
    (tmp_path / "files").mkdir()
    (tmp_path / "files/logger.conf").write_bytes(SETTINGS)
    (tmp_path / "logging.yaml").write_text(SHEET)
    return tmp_path / "logging.yaml"


def short(steps: str, **result: object) -> str:
    """A sheet with these steps alone."""
    wanted = json.dumps({"line": "built", "bump": "patch", **result})
    return f"sheet: short\nbase: built@1.0.0\nsteps:\n{steps}\nresult: {wanted}\n"


def left(system: System, operation: str) -> list[str]:
    """What is left at the site of a run."""
    machines = [m.name for m in system.site().machines("skerry-1") if operation in m.name]
    disks = system.site().disks("skerry-1", tag=("bathotype-operation", operation))
    return machines + [disk.id for disk in disks if "bathotype-base" not in disk.tags]


def test_a_sheet_becomes_a_released_version(system: System, base: str, sheet: Path, cli: Any) -> None:
    refused = cli("build", str(sheet), "--set", "station=outer")
    assert refused.returncode == 4 and "no lock" in refused.stderr
    assert "1 file" in cli("sheets", "lock", str(sheet)).stderr
    assert "is valid: 11 steps" in cli("sheets", "check", str(sheet)).stderr
    planned = cli("build", str(sheet), "--set", "station=outer", "--plan").stdout
    assert "makes\tbuilt@1.1.0" in planned and "put-file" in planned
    done = json.loads(cli("build", str(sheet), "--set", "station=outer", "--json").stdout)
    assert done["result"]["delivered"] == ["released", "built@stable"] and left(system, done["id"]) == []
    with system.core as client:
        run, made = client.build_run(done["id"]), client.version("built@stable")
        steps = {step.id: step for step in run.steps}
        assert [step.state for step in run.steps] == ["done", "done", "skipped", *["done"] * 8]
        rounds = {line.partition(":")[0] for line in steps["updates"].changed}
        assert rounds == {"round 1", "round 2"}, "what is there only after the first round is updated too"
        assert steps["logger"].changed == ["libtide-wire2 2.4-1 (new)", "tide-logger 2.1.0-1 (new)"]
        assert len(run.figures) >= 9 and all(f.seconds > 0 and f.memory_used < f.memory for f in run.figures)
        assert 0 < max(f.processor for f in run.figures) <= 1, "the machine was busy"
        assert sum(f.written * f.seconds for f in run.figures) > 96 * 1024, "and wrote what was downloaded"
        cleaned, used = steps["clean"].cleaned, steps["clean"].used
        assert used is not None and cleaned["downloads"] > 96 * 1024 and cleaned["unneeded"] == 0
        assert sum(cleaned.values()) == used[0] - used[1] and steps["clean"].changed[0].startswith("downloads: ")
        assert run.payload == {"settings": hashlib.sha256(SETTINGS).hexdigest()} and run.values["station"] == "outer"
        assert made.reference == "built@1.1.0" and made.parent == base and made.notes == "Logs of outer"
        assert made.source["sheet_digest"] == run.digest and client.signature(made.reference).holds
        assert client.difference(base, made.reference).services_added == ["tide-logger.service"]
        assert not [f for f in client.findings(made.reference) if f.severity == "high"]
        launched = client.wait(client.launch(reference="built@stable", region="skerry-1", name="logs-1").id)
        machine = client.instance(str((launched.result or {})["instances"][0]["id"])).machine_id
        with system.site().agent(str(machine)) as agent:
            assert agent.read_file("/etc/tide/station") == b"outer\n"
            assert agent.read_file("/etc/tide/logger.conf") == SETTINGS
            assert agent.run(["stat", "-c", "%a %U %G", "/etc/tide/logger.conf"]).out == b"640 root tides\n"
            assert agent.run(["find", "/var/tmp", "/var/cache/apt/archives", "-mindepth", "1", "-name", "left", "-name", "*.deb", "-print"]).out == b""  # fmt: skip
            assert "keeper:x:" in agent.read_text("/etc/passwd")
        client.act_on_instance("logs-1", "terminate")
        keys = {key.id: base64.b64decode(key.public) for key in client.keys("tide-core")}
        told = open_envelope(client.signature(made.reference).envelope, keys)["predicate"]
        went_in = told["buildDefinition"]["resolvedDependencies"]
        assert [one["uri"].rpartition(":")[2] for one in went_in] == ["parent", "sheet", "base", "payload"]
        assert went_in[1]["digest"] == {"blake3": run.digest} and went_in[2]["digest"] == went_in[0]["digest"]
        assert went_in[3]["digest"] == {"sha256": run.payload["settings"]}
        assert [one["uri"] for one in told["runDetails"]["byproducts"]] == ["urn:bathotype:steps"]
        assert "outer" not in json.dumps(told), "values and names stay with the account"
    assert "a run of sheet logging on built@1.0.0" in cli("versions", "show", "built@1.1.0").stdout
    shown = cli("builds", "show", done["id"], "--step", "updates").stdout
    assert "changed\tround 1" in shown or "changed  round 1" in shown


@pytest.mark.parametrize(
    ("steps", "why"),
    [
        ("- {id: a, do: install-packages, packages: [no-such-thing]}", "Step a: apt-get ended with exit code 100"),
        ("- {id: a, do: install-packages, packages: [tide-logger=9.9]}", "Version '9.9' for 'tide-logger'"),
        ("- {id: a, do: run-script, script: 'exit 3'}", "Step a: /bin/sh ended with exit code 3"),
        ("- {id: a, do: run-script, script: 'exit 0', makes: [/etc/x]}", "It ended well, and /etc/x is not there"),
        ("- {id: a, do: service, service: nosuch, enabled: true}", "Unit file nosuch.service does not exist"),
        ("- {id: a, do: add-user, user: b, groups: [nosuch]}", "There is no group nosuch"),
        ("- {id: a, do: run-program, argv: [nosuch]}", "Failed to execute child process"),
        ("- {id: a, do: put-file, content: x, to: /etc/x, owner: nosuch}", "/etc/x cannot be given to nosuch:root: "),
        ("- {id: a, do: wait-for, file: /etc/x, seconds: 2}", "It was waited for 2 s. /etc/x is not there."),
    ],
)
def test_a_step_that_fails_makes_no_version(steps: str, why: str, system: System, base: str) -> None:
    with system.core as client:
        operation = client.build(short(steps), number="7.0.0")
        with pytest.raises(OperationFailed) as failed:
            client.wait(operation.id)
        assert why in str(failed.value) and left(system, operation.id) == []
        run = client.build_run(operation.id)
        assert (run.state, run.steps[0].state) == ("failed", "failed") and run.steps[0].error
        assert "7.0.0" not in [v.number for v in client.versions("built")]


def test_the_machine_of_a_failed_run_stays_where_that_is_asked(
    system: System, base: str, tmp_path: Path, cli: Any
) -> None:
    file = tmp_path / "failing.yaml"
    file.write_text(short("- {id: a, do: run-program, argv: [/bin/false]}"))
    assert cli("build", str(file), "--keep-on-failure", "soon").returncode == 2
    failed = cli("build", str(file), "--keep-on-failure", "2h")
    assert failed.returncode == 1
    with system.core as client:
        run = next(client.builds(sheet="short"))
        machine = system.site().machine_named("skerry-1", f"build-{run.operation}")
        assert machine is not None and machine.state == "running"
        assert f"{machine.name} in skerry-1" in cli("builds", "show", run.operation).stdout
        assert cli("builds", "drop-machine", run.operation).returncode == 0
        until(lambda: left(system, run.operation) == [], seconds=60)
        assert client.build_run(run.operation).kept is None


def test_nothing_new_starts_nothing(system: System, base: str, tmp_path: Path, cli: Any) -> None:
    file = tmp_path / "same.yaml"
    file.write_text(short("- {id: a, do: put-file, content: a, to: /etc/same}").replace("sheet: short", "sheet: same"))
    made = json.loads(cli("build", str(file), "--unless-same", "--json").stdout)["result"]["reference"]
    assert (
        cli("build", str(file), "--unless-same").stdout
        == f"nothing new: {made} was built from the same sheet, values, payload and base\n"
    )
    for_shell = cli("build", str(file), "--unless-same", "--format", "env").stdout
    assert f"export BATHOTYPE_REFERENCE={made}\n" in for_shell and "export BATHOTYPE_RELEASED=false\n" in for_shell
    assert all(line.startswith("export BATHOTYPE_") for line in for_shell.splitlines())
    assert json.loads(cli("build", str(file), "--unless-same", "--format", "json").stdout) == {"nothing_new": made}
    assert cli("sheets", "save", str(file)).returncode == 0
    assert cli("sheets", "run", "same", "--unless-same", "--format", "env").stdout == for_shell
    with system.core as client:
        assert len(list(client.builds(sheet="same"))) == 1
        with pytest.raises(Refused, match="Nothing new") as refused:
            client.build(file.read_text(), unless_same=True)
        assert refused.value.code == "nothing-new"
        assert client.plan_build(file.read_text() + "# changed\n").same_as is None
        assert client.plan_build(SHEET, values={"station": "outer"}).same_as is None, "updates may be out"


def test_a_version_may_have_a_larger_disk_than_its_base(system: System, base: str, tmp_path: Path) -> None:
    text = short("- {id: a, do: put-file, content: x, to: /etc/x}") + "machine: {boot_size: %s}\n"
    with system.core as client:
        before = client.version(base).disks[0].bytes
        client.wait(client.build(text % "512MiB", number="4.0.0").id)
        made = client.version("built@4.0.0")
        assert before < made.disks[0].bytes == 512 << 20
        client.export("built@4.0.0", tmp_path / "disk.raw")
        for size, why in (("1MiB", "is smaller than the version's"), ("900TiB", "the site takes")):
            with pytest.raises((Refused, BathotypeError), match=why):
                client.build(text % size, number="4.0.1")
    e2fsck(tmp_path / "disk.raw")
    partitions = json.loads(
        subprocess.run(["sfdisk", "-J", tmp_path / "disk.raw"], capture_output=True, check=True).stdout
    )
    last = partitions["partitiontable"]["partitions"][-1]
    assert (last["start"] + last["size"]) * 512 > (500 << 20), "the last partition has grown"


def test_a_run_is_done_again_and_what_differs_is_told(system: System, base: str, tmp_path: Path, cli: Any) -> None:
    (tmp_path / "reading.conf").write_text("seconds = 5\n")
    text = short("- {id: a, do: put-file, payload: conf, to: /etc/reading.conf}", release=True, marks=["again"])
    text = text.replace("steps:", "payload: {conf: {file: reading.conf}}\nsteps:").replace("built@1.0.0", "built")
    (tmp_path / "again.yaml").write_text(text)
    assert cli("sheets", "lock", str(tmp_path / "again.yaml")).returncode == 0
    first = json.loads(cli("build", str(tmp_path / "again.yaml"), "--number", "3.0.0", "--json").stdout)
    assert first["result"]["delivered"] == ["released", "built@again"]
    gone = cli("build", "built@again", "--again")
    assert gone.returncode == 4 and "conf is not kept here any more" in gone.stderr
    (tmp_path / "other.conf").write_text("seconds = 6\n")
    wrong = cli("build", "built@again", "--again", "--payload", f"conf={tmp_path / 'other.conf'}")
    assert wrong.returncode == 4 and "is not the file of that run" in wrong.stderr
    done = cli("build", "built@again", "--again", "--payload", f"conf={tmp_path / 'reading.conf'}")
    assert "made\tbuilt@3.0.0-again.1" in done.stdout and "from\tbuilt@" in done.stdout
    assert "of their disks differ, counted in whole chunks." in done.stderr and "changed\t" not in done.stdout
    with system.core as client:
        made, before = client.version("built@3.0.0-again.1"), client.version("built@3.0.0")
        assert (made.state, made.parent, before.marks) == ("staged", before.parent, ["again"])
        assert made.source["repeats"] == "built@3.0.0" and client.version("built").reference != made.reference
        assert client.build_run(str(next(client.builds(made="built@3.0.0-again.1")).operation)).repeats == "built@3.0.0"
    assert "was not made by a run" in cli("build", "built@1.0.0", "--again").stderr


def test_lineage_tells_what_is_built_on_what_and_what_is_behind(system: System, base: str, cli: Any) -> None:
    def build(of: str, line: str) -> None:
        text = short("- {id: a, do: put-file, content: a, to: /etc/a}", line=line, release=True, bump="minor")
        client.wait(client.build(text.replace("base: built@1.0.0", f"base: {of}")).id)

    with system.core as client:
        client.create_line("middle")
        client.create_line("top")
        build("built@1.0.0", "middle")
        build("middle", "top")
        build("built@1.0.0", "built")
        found = client.lineage("middle")
        assert [(b.reference, b.moved) for b in found.bases] == [("built@1.0.0", True)], (
            "a newer one was released since"
        )
        assert [(b.reference, b.base, b.behind, b.sheet) for b in found.built] == [
            ("top@1.0.0", "middle@1.0.0", False, "short")
        ]  # fmt: skip
        build("built", "middle")
        below = {b.reference: (b.depth, b.behind) for b in client.lineage("built").built}
        assert below == {"middle@1.1.0": (1, False), "top@1.0.0": (2, True)}
        assert [b.reference for b in client.lineage("top").bases] == ["middle@1.0.0", "built@1.0.0"]
    told = cli("lines", "lineage", "built")
    assert "behind middle@1.0.0" in told.stdout and "1 version is behind" in told.stderr


def test_an_isolated_machine_reaches_no_repository(system: System, base: str) -> None:
    text = short("- {id: a, do: install-packages, packages: [tide-logger]}") + "machine: {isolated: true}\n"
    with system.core as client, pytest.raises(OperationFailed, match="the network is unreachable"):
        client.wait(client.build(text, number="7.1.0").id)


def test_what_would_fail_is_said_before_anything_starts(system: System, base: str, sheet: Path, cli: Any) -> None:
    machines = len(list(system.site().machines("skerry-1")))
    (sheet.parent / "files/logger.conf").rename(sheet.parent / "files/logger.cfg")
    missing = cli("build", str(sheet), "--set", "station=outer")
    assert missing.returncode == 3 and "settings (files/logger.conf) is not there" in missing.stderr
    with system.core as client:
        wrong = short("- {id: a, do: restart}", line="nosuch") + "machine: {size: vast, zone: nowhere}\n"
        told = " ".join(client.plan_build(wrong, number="1.2.3.4").blockers)
        assert all(text in told for text in ("no machine size 'vast'", "no zone nowhere", "no line 'nosuch'"))
        with pytest.raises(Refused, match="Of the payload settings"):
            client.build(SHEET, values={"station": "outer"})
        with pytest.raises(BathotypeError, match=r"line 5, column 3: steps\.0"):
            client.build(short("- {id: a, do: bake}").replace("sheet: short\n", "sheet: short\ndescription: x\n"))
    assert len(list(system.site().machines("skerry-1"))) == machines


def test_a_payload_that_is_not_as_locked_fails_before_a_machine_is_made(
    system: System, base: str, tmp_path: Path
) -> None:
    (tmp_path / "logger.conf").write_bytes(b"interval = 99\n")
    with system.core as client:
        upload = client.upload(tmp_path / "logger.conf", region="skerry-1")
        given = PayloadGiven(upload=upload.id, bytes=14, sha256=hashlib.sha256(SETTINGS).hexdigest())
        operation = client.build(SHEET, values={"station": "outer"}, payload={"settings": given})
        with pytest.raises(OperationFailed, match="settings of the payload is not what the lock says"):
            client.wait(operation.id)
        assert not any(line.text.startswith("A temporary machine") for line in client.operation_log(operation.id))


def test_a_run_is_cancelled_and_done_again(system: System, base: str) -> None:
    text = short("- {id: a, do: wait-for, file: /etc/x}\n- {id: b, do: put-file, content: b, to: /etc/b}")
    with system.core as client:
        operation = client.build(text, number="8.0.0")
        until(lambda: client.build_run(operation.id).steps[0].state == "running")
        client.cancel(operation.id)
        with pytest.raises(OperationFailed, match="cancelled"):
            client.wait(operation.id)
        assert left(system, operation.id) == []
        client.retry(operation.id)
        until(lambda: client.build_run(operation.id).steps[0].state == "running")
        found = system.site().machine_named("skerry-1", f"build-{operation.id}")
        assert found is not None
        with system.site().agent(found.id) as agent:
            agent.write_file("/etc/x", b"now\n")
        done = client.wait(operation.id)
        assert (done.result or {})["reference"] == "built@8.0.0" and left(system, operation.id) == []


def test_what_is_accepted_once_stays_accepted_in_a_file_that_is_the_same(system: System, base: str) -> None:
    def key(letter: str) -> str:
        return f"- {{id: key, do: put-file, to: /opt/gauge/test.key, content: 'ghp_{letter * 36}'}}"

    other = "- {id: other, do: put-file, to: /opt/gauge/other, content: x}"
    with system.core as client:
        client.create_line("keyed")

        def made(steps: str, on: str) -> dict[str, str | None]:
            text = short(steps, line="keyed", bump="minor", number=None, release=True).replace("built@1.0.0", on)
            result = client.wait(client.build(text).id).result or {}
            found = [f for f in client.findings(result["reference"]) if f.severity == "high"]
            assert (result["held_back"] == "") == all(f.accepted_by for f in found)
            return {"reference": result["reference"], "reason": found[0].accepted_reason, "path": found[0].path}

        first = made(key("Q"), base)
        assert first["reason"] is None and str(first["path"]) == "/opt/gauge/test.key"
        [finding] = [f for f in client.findings("keyed@1.0.0") if f.severity == "high"]
        client.accept("keyed@1.0.0", finding.id, "opens nothing")
        client.release("keyed@1.0.0")
        assert made(other, "keyed@1.0.0")["reason"] == "opens nothing (as in keyed@1.0.0)"
        assert made(other, "keyed@1.1.0")["reason"] == "opens nothing (as in keyed@1.0.0)"
        assert made(key("Q"), base)["reason"] == "opens nothing (as in keyed@1.0.0)", "as in the version before it"
        assert made(key("R"), "keyed@1.1.0")["reason"] is None, "another key in its place is another finding"


def test_a_released_version_is_written_to_a_bucket(system: System, base: str, tmp_path: Path) -> None:
    step = "- {id: a, do: put-file, content: sent, to: /etc/sent}"
    with system.core as client:
        client.create_line("sent")
        to = [{"to": "s3://halvane-images/sent/"}, {"to": "s3://halvane-images/sent/", "format": "vmdk-stream"}]
        text = short(step, line="sent", number="1.0.0", bump=None, release=True, exports=to)
        result = client.wait(client.build(text).id).result or {}
        names = ["s3://halvane-images/sent/sent-1.0.0.qcow2", "s3://halvane-images/sent/sent-1.0.0.vmdk"]
        assert result["delivered"] == ["released", *names]
        client.export("sent@1.0.0", tmp_path / "disk.raw")
        for name, form in zip(names, ("qcow2", "vmdk"), strict=True):
            data = system.from_bucket(name)
            assert hashlib.sha256(data).hexdigest() in {one["sha256"] for one in result["exports"]}
            (tmp_path / "file").write_bytes(data)
            judge = ["qemu-img", "compare", "-f", "raw", "-F", form, str(tmp_path / "disk.raw"), str(tmp_path / "file")]
            subprocess.run(judge, check=True, capture_output=True)
        told = {(e.after or {})["to"] for e in client.events(action="version.exported", subject="sent@1.0.0")}
        assert told == {*names}
        with pytest.raises(Refused, match="is there already"):
            client.export_to_bucket("sent@1.0.0", names[0], "qcow2")
        with pytest.raises(Refused, match="may not export to the bucket 'elsewhere'"):
            client.build(text.replace("halvane-images", "elsewhere").replace('"1.0.0"', '"1.1.0"'))
        for wrong in ("s3://halvane-images/a/../b", "s3://halvane-images//b", "s3://Halvane/b", "/etc/passwd"):
            with pytest.raises((Refused, BathotypeError, ValueError), match="must be an address"):
                client.export_to_bucket("sent@1.0.0", wrong, "qcow2")
    with system.client("chart-house") as stranger, pytest.raises(BathotypeError, match="has no line 'sent'"):
        stranger.export_to_bucket("sent@1.0.0", "s3://halvane-images/x", "qcow2")
