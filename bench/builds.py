"""What a build run costs beyond the work of its steps: on the lab guest, a real Debian under QEMU."""

from __future__ import annotations

import hashlib
import json
import os
import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

from bathotype.client import Client
from bathotype.core.errors import BathotypeError
from bathotype.demo.system import DemoSystem
from bathotype.sites.standin import StandinSite
from bathotype.wire.builds import PayloadGiven
from bench.report import Row

RUNS, _REFERENCES = 2, 2
_BOOT_SECONDS = 900.0
_LINE = "bench-lab"
_WORK = "find /usr/lib -xdev -type f -print0 | sort -z | head -z -n 1500 | xargs -0 sha256sum >/var/tmp/sums"
_PACK = "tar -C /usr/share/zoneinfo -cf - . | gzip -1 | wc -c >/var/tmp/packed"
_SHEET = f"""\
sheet: bench-logger
base: {_LINE}@1.0.0
payload:
  package: {{file: tide-logger.deb}}
steps:
- {{id: package, do: install-packages, files: [package]}}
- {{id: settings, do: put-file, to: /etc/tide/logger.conf, content: "interval = 30"}}
- {{id: sums, do: run-script, seconds: 3600, script: "{_WORK}", makes: [/var/tmp/sums]}}
- {{id: pack, do: run-script, seconds: 3600, script: "{_PACK}", makes: [/var/tmp/packed]}}
- {{id: run, do: service, service: tide-logger, enabled: true, state: running}}
result: {{line: {_LINE}, bump: minor}}
"""
#: The same without any of our steps: what somebody would have typed.
_SCRIPT = f"""set -e
apt-get -y -q install /root/tide-logger.deb
mkdir -p /etc/tide; echo 'interval = 30' >/etc/tide/logger.conf
{_WORK}
{_PACK}
systemctl enable --now tide-logger
"""


def rows(running: DemoSystem, folder: Path, say: Callable[[str], None]) -> list[Row]:
    """All of it; takes a quarter of an hour under software emulation."""
    site = StandinSite(running.site_url, running.secrets["site"]["tide-core"])
    say("the lab guest boots ...")
    environment = {**os.environ, "STANDIN_URL": running.site_url, "STANDIN_OPERATOR_TOKEN": running.secrets["operator"]}
    lab = subprocess.run(
        [sys.executable, "-m", "bathotype.cli.main", "lab"], env=environment, check=True, capture_output=True, text=True
    )
    machine = lab.stdout.strip()
    boot = _booted(site, machine)
    package = _package(folder)
    with running.client() as client:
        client.create_line(_LINE)
        name = next(m.name for m in site.machines("skerry-1") if m.id == machine)
        client.wait(client.capture(machine=name, line=_LINE, number="1.0.0").id)
        upload = client.upload(package, region="skerry-1")
        sha256 = hashlib.sha256(package.read_bytes()).hexdigest()
        given = {"package": PayloadGiven(upload=upload.id, bytes=upload.size, sha256=sha256)}
        client.save_sheet("bench-logger", _SHEET, payload=given)
        client.release(f"{_LINE}@1.0.0")
        site.delete_machine(machine)
        reference = _reference(client, site, package, say)
        steps, wholes = [], []
        for number in range(RUNS):
            say(f"run {number + 1} of {RUNS} ...")
            stage, whole = _run(client, say)
            steps.append(stage)
            wholes.append(whole)
    began = time.perf_counter()
    told = _nothing_new(running)
    nothing = time.perf_counter() - began
    assert told, "the sheet was to be the same"
    mine, theirs, whole = statistics.median(steps), statistics.median(reference), statistics.median(wholes)
    return [
        Row("the steps of a run on the lab guest", f"{mine:.1f} s", "the same commands by one script in a guest that has just booted",
            f"{theirs:.1f} s", mine / theirs, 1.1),
        Row("all else of the run: boot, capture, scan, clean-up", f"{whole - mine:.1f} s", "two boots of that guest",
            f"{2 * boot:.1f} s", (whole - mine) / (2 * boot), 1.0),
        Row("`sheets run --unless-same` where nothing is new", f"{nothing:.2f} s", "2 s", "", nothing / 2, 1.0),
    ]  # fmt: skip


def _run(client: Client, say: Callable[[str], None]) -> tuple[float, float]:
    """Seconds of the stage in which the steps are done, and of the whole run."""
    operation = client.wait(client.run_sheet("bench-logger").id)
    assert operation.started_at is not None and operation.ended_at is not None
    stage = next(step for step in operation.steps if step.name == "build")
    say(", ".join(f"{step.id} {step.seconds} s" for step in client.build_run(operation.id).steps))
    assert stage.started_at is not None and stage.ended_at is not None
    return (stage.ended_at - stage.started_at).total_seconds(), (
        operation.ended_at - operation.started_at
    ).total_seconds()


def _reference(client: Client, site: StandinSite, package: Path, say: Callable[[str], None]) -> list[float]:
    """Seconds that the commands take in a machine that has just booted, as that of a run has."""
    taken = []
    for number in range(_REFERENCES):
        say(f"the commands alone, {number + 1} of {_REFERENCES} ...")
        name = f"reference-{number}"
        client.wait(client.launch(reference=f"{_LINE}@1.0.0", region="skerry-1", name=name, wait_seconds=900).id)
        with site.agent(str(client.instance(name).machine_id), timeout=60) as agent:
            agent.write_file("/root/tide-logger.deb", package.read_bytes())
            began = time.perf_counter()
            done = agent.run(["/bin/bash", "-c", _SCRIPT], timeout=3600)
            taken.append(time.perf_counter() - began)
            assert done.exit_code == 0, done.err.decode()
        client.act_on_instance(name, "terminate")
    return taken


def _nothing_new(running: DemoSystem) -> bool:
    environment = {
        **os.environ,
        "BATHOTYPE_URL": running.url,
        "BATHOTYPE_TOKEN": running.secrets["api"]["tide-core"],
    }
    command = [sys.executable, "-m", "bathotype.cli.main", "sheets", "run", "bench-logger", "--unless-same", "--json"]
    done = subprocess.run(command, env=environment, check=True, capture_output=True, text=True)
    return "nothing_new" in json.loads(done.stdout)


def _booted(site: StandinSite, machine: str) -> float:
    """Seconds until first boot has finished."""
    began = time.perf_counter()
    while time.perf_counter() - began < _BOOT_SECONDS:
        try:
            with site.agent(machine, timeout=10) as agent:
                json.loads(agent.read_file("/var/lib/cloud/data/result.json"))
            return time.perf_counter() - began
        except (BathotypeError, ValueError):
            time.sleep(1)
    raise RuntimeError("The lab guest does not come up.")


def _package(folder: Path) -> Path:
    """A Debian package with a service that sleeps."""
    files = {
        "DEBIAN/control": "Package: tide-logger\nVersion: 1.10\nArchitecture: all\nMaintainer: orla <orla@tide.example>\n"
        "Description: sends readings\n",
        "lib/systemd/system/tide-logger.service": "[Service]\nExecStart=/bin/sleep 1000000\n[Install]\n"
        "WantedBy=multi-user.target\n",
    }
    for name, text in files.items():
        (folder / "deb" / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / "deb" / name).write_text(text)
    made = folder / "tide-logger.deb"
    command = ["dpkg-deb", "--build", "--root-owner-group", str(folder / "deb"), str(made)]
    subprocess.run(command, check=True, capture_output=True)
    return made
