"""Real guests: a machine that is a QEMU process, managed over QMP.

The process outlives the stand-in: after a crash the next life finds it by its pid file and goes on with it.  A
snapshot of a running disk is a fleecing node (QEMU's ``docs/interop/live-block-operations``): a backup job copies
what the guest is about to overwrite, so that the node goes on reading as the disk was at that moment.  Checkpoints
are dirty bitmaps, so that the changes since any of the last few are known.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import signal
import socket
import subprocess
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from standin.accelerator import accelerator
from standin.agentline import AgentLine
from standin.disks import create_overlay, tool
from standin.qmp import Monitor, MonitorError

_UP_WITHIN = 15.0
_DOWN_WITHIN = 10.0
_CONSOLE_TAIL = 64 * 1024
#: Checkpoints kept: older ones are forgotten, and a capture since then reads everything.
_CHECKPOINTS = 4
_BOOT_NODE = "disk0"


@dataclass(frozen=True)
class BodyFacts:
    """What a machine is made of: disks (id, file, format), the boot disk first; ``medium`` is the id of one that it
    reads as a removable medium."""

    machine: str
    folder: Path
    disks: tuple[tuple[str, Path, str], ...]
    address: str
    mac: str
    processors: int
    memory_mib: int
    medium: str | None = None


class QemuBody:
    """One QEMU process, started here or found running.  Raises `MonitorError` where it cannot be reached."""

    def __init__(self, facts: BodyFacts, *, on_off: Callable[[], None]) -> None:
        self.facts, self._on_off = facts, on_off
        self._monitor: Monitor | None = None
        self.agent = AgentLine(facts.folder / "agent.sock")

    # Life

    @property
    def pid(self) -> int | None:
        """The process, None where it does not run."""
        try:
            pid = int((self.facts.folder / "pid").read_text())
            command = Path(f"/proc/{pid}/cmdline").read_bytes()
        except (ValueError, OSError):
            return None
        return pid if self.facts.machine.encode() in command else None

    def start(self, seed: bytes | None) -> None:
        """Switch on."""
        folder = self.facts.folder
        folder.mkdir(parents=True, exist_ok=True)
        for stale in ("qmp.sock", "agent.sock"):
            (folder / stale).unlink(missing_ok=True)
        if seed is not None:
            (folder / "seed.iso").write_bytes(seed)
        with (folder / "qemu.log").open("ab") as log:
            process = subprocess.Popen(
                self._command(has_seed=seed is not None), stdin=subprocess.DEVNULL, stdout=log, stderr=log,
                start_new_session=True,
            )  # fmt: skip
        (folder / "pid").write_text(f"{process.pid}\n")
        deadline = time.monotonic() + _UP_WITHIN
        while time.monotonic() < deadline:
            if process.poll() is not None:
                break
            with contextlib.suppress(MonitorError, OSError):
                self.attach()
                return
            time.sleep(0.02)
        process.kill()
        told = (folder / "qemu.log").read_text(errors="replace").strip().splitlines()
        raise MonitorError(f"QEMU does not start: {' '.join(told[-3:])}")

    def _command(self, *, has_seed: bool) -> list[str]:
        f, kvm = self.facts, accelerator() == "kvm"
        network = f.address.rpartition(".")[0]
        command = [
            tool("qemu-system-x86_64"), "-name", f.machine, "-nodefaults", "-display", "none", "-no-shutdown",
            "-machine", "q35", "-accel", "kvm" if kvm else "tcg,thread=multi", "-cpu", "host" if kvm else "Nehalem",
            "-smp", str(f.processors), "-m", str(f.memory_mib),
            "-qmp", f"unix:{f.folder}/qmp.sock,server=on,wait=off",
            "-serial", f"file:{f.folder}/console.log",
            "-chardev", f"socket,id=agent,path={f.folder}/agent.sock,server=on,wait=off",
            "-device", "virtio-serial-pci",
            "-device", "virtserialport,chardev=agent,name=org.qemu.guest_agent.0",
            "-device", "virtio-rng-pci",
            # The guest gets its own address by DHCP, and reaches nothing: restrict keeps it to itself.
            "-netdev", f"user,id=net0,restrict=on,net={network}.0/24,host={network}.2,dhcpstart={f.address}",
            "-device", f"virtio-net-pci,netdev=net0,mac={f.mac}",
        ]  # fmt: skip
        for number, (disk, path, form) in enumerate(f.disks):
            node = f"disk{number}"
            if disk == f.medium:
                # Firmware tries one hard disk, then what is removable.
                command += [
                    "-blockdev", f"driver=file,node-name={node}-file,filename={path},read-only=on",
                    "-blockdev", f"driver={form},node-name={node},file={node}-file,read-only=on",
                    "-device", f"ide-cd,drive={node},bootindex={number}",
                ]  # fmt: skip
                continue
            command += [
                "-blockdev", f"driver=file,node-name={node}-file,filename={path},discard=unmap",
                "-blockdev", f"driver={form},node-name={node},file={node}-file,discard=unmap,detect-zeroes=unmap",
                "-device", f"virtio-blk-pci,drive={node},id={node}-device,bootindex={number},serial={disk[:20]}",
            ]  # fmt: skip
        if has_seed:
            command += [
                "-blockdev", f"driver=file,node-name=seed,filename={f.folder}/seed.iso,read-only=on",
                "-device", "virtio-blk-pci,drive=seed",
            ]  # fmt: skip
        return command

    def attach(self) -> None:
        """Connect to the process."""
        self._monitor = Monitor(self.facts.folder / "qmp.sock", self._heard)

    def _heard(self, event: str, data: dict[str, Any]) -> None:
        if event == "SHUTDOWN" and data.get("guest"):
            self._on_off()

    @property
    def monitor(self) -> Monitor:
        """The connection.  Raises `MonitorError` where there is none."""
        if self._monitor is None:
            raise MonitorError("the machine does not run")
        return self._monitor

    def stop(self) -> None:
        """The power is gone, and with it every snapshot that this process held."""
        self.agent.close()
        pid = self.pid
        if self._monitor is not None:
            with contextlib.suppress(MonitorError):
                self._monitor.run("quit")
            self._monitor.close()
            self._monitor = None
        if pid is not None:
            _end(pid)
        (self.facts.folder / "pid").unlink(missing_ok=True)

    def pause(self) -> None:
        """Stop the guest for good: it is off for its user, while its snapshots can still be read."""
        with contextlib.suppress(MonitorError):
            self.monitor.run("stop")

    def forget(self) -> None:
        """Remove what is left in files."""
        shutil.rmtree(self.facts.folder, ignore_errors=True)

    @property
    def console(self) -> str:
        """The end of the serial console's text."""
        try:
            with (self.facts.folder / "console.log").open("rb") as file:
                file.seek(max(0, os.fstat(file.fileno()).st_size - _CONSOLE_TAIL))
                return file.read().decode("utf-8", "replace")
        except OSError:
            return ""

    # Snapshots

    def snapshot(self, name: str, path: Path, *, checkpoint: bool, since: str | None) -> str | None:
        """The boot disk at this moment, as the node ``name`` over the new file ``path``.

        ``checkpoint`` starts to note changes from now on; ``since`` names an earlier checkpoint.  Returns the bitmap
        of what changed since then, None where that is not known.
        """
        create_overlay(path, None, self._size())
        self.monitor.run(
            "blockdev-add",
            driver="qcow2", node_name=name, backing=_BOOT_NODE,
            file={"driver": "file", "filename": str(path)},
        )  # fmt: skip
        kept = self._checkpoints()
        first = next((n for n, known in enumerate(kept) if since and known.endswith(since)), None)
        merged = kept[first:] if first is not None else []
        actions: list[tuple[str, dict[str, Any]]] = []
        if merged:
            actions.append(("block-dirty-bitmap-add", {"node": _BOOT_NODE, "name": f"since-{name}", "disabled": True}))
            actions.append(
                ("block-dirty-bitmap-merge", {"node": _BOOT_NODE, "target": f"since-{name}", "bitmaps": merged})
            )
        if checkpoint:
            if kept:
                actions.append(("block-dirty-bitmap-disable", {"node": _BOOT_NODE, "name": kept[-1]}))
            # Names sort by time, and end with the snapshot's.
            mark = f"{time.time_ns():020d}-{name}"
            actions.append(("block-dirty-bitmap-add", {"node": _BOOT_NODE, "name": mark, "persistent": True}))
        actions.append(
            ("blockdev-backup", {"job-id": f"job-{name}", "device": _BOOT_NODE, "target": name, "sync": "none"})
        )
        try:
            self.monitor.transaction(*actions)
        except MonitorError:
            with contextlib.suppress(MonitorError):
                self.monitor.run("blockdev-del", node_name=name)
            path.unlink(missing_ok=True)
            raise
        for old in kept[: max(0, len(kept) + 1 - _CHECKPOINTS)] if checkpoint else ():
            with contextlib.suppress(MonitorError):
                self.monitor.run("block-dirty-bitmap-remove", node=_BOOT_NODE, name=old)
        return f"since-{name}" if merged else None

    def _node(self) -> dict[str, Any]:
        nodes = self.monitor.run("query-named-block-nodes", flat=True)
        return next(n for n in nodes if n.get("node-name") == _BOOT_NODE)

    def _size(self) -> int:
        return int(self._node()["image"]["virtual-size"])

    def _checkpoints(self) -> list[str]:
        """Names of sound bitmaps, oldest first; one that a crash left unsure is removed."""
        found = []
        for bitmap in self._node().get("dirty-bitmaps", []):
            if "name" not in bitmap:
                continue  # a backup job's own
            if bitmap.get("inconsistent"):
                with contextlib.suppress(MonitorError):
                    self.monitor.run("block-dirty-bitmap-remove", node=_BOOT_NODE, name=bitmap["name"])
            elif not bitmap["name"].startswith("since-"):
                found.append(bitmap["name"])
        return sorted(found)

    def holds(self, name: str) -> bool:
        """Whether the process still holds a snapshot."""
        try:
            nodes = self.monitor.run("query-named-block-nodes", flat=True)
        except MonitorError:
            return False
        return any(n.get("node-name") == name for n in nodes)

    def drop_snapshot(self, name: str) -> None:
        """Let go of a snapshot."""
        with contextlib.suppress(MonitorError):
            self.monitor.run("block-job-cancel", device=f"job-{name}", force=True)
        deadline = time.monotonic() + _DOWN_WITHIN
        while time.monotonic() < deadline:
            try:
                self.monitor.run("blockdev-del", node_name=name)
                break
            except MonitorError:
                if not self.holds(name):
                    break
                time.sleep(0.05)
        with contextlib.suppress(MonitorError):
            self.monitor.run("block-dirty-bitmap-remove", node=_BOOT_NODE, name=f"since-{name}")

    # Exports

    def export(self, export: str, token: str, node: str, port: int | None, bitmap: str | None) -> int:
        """Offer a node over NBD by QEMU's own server; returns the port."""
        served = self._server(port)
        bitmaps: dict[str, Any] = {"bitmaps": [{"node": _BOOT_NODE, "name": bitmap}]} if bitmap else {}
        self.monitor.run(
            "block-export-add", type="nbd", id=export, node_name=node, name=token, writable=False, **bitmaps
        )
        return served

    def _server(self, port: int | None) -> int:
        file = self.facts.folder / "nbd-port"
        if file.exists() and file.read_text().startswith(f"{self.pid} "):
            return int(file.read_text().split()[1])
        chosen = port or _free_port()
        address = {"type": "inet", "data": {"host": "127.0.0.1", "port": str(chosen)}}
        self.monitor.run("nbd-server-start", addr=address)
        file.write_text(f"{self.pid} {chosen}")
        return chosen

    def end_export(self, export: str) -> None:
        """Stop offering a node; unknown ones are fine.  QEMU lets go of it, and of its bitmap, a moment later: wait."""
        deadline = time.monotonic() + _DOWN_WITHIN
        with contextlib.suppress(MonitorError):
            self.monitor.run("block-export-del", id=export, mode="hard")
            while (
                any(e["id"] == export for e in self.monitor.run("query-block-exports")) and time.monotonic() < deadline
            ):
                time.sleep(0.02)


def _end(pid: int) -> None:
    deadline = time.monotonic() + _DOWN_WITHIN
    while time.monotonic() < deadline:
        with contextlib.suppress(ChildProcessError):
            os.waitpid(pid, os.WNOHANG)
        if not Path(f"/proc/{pid}").exists():
            return
        time.sleep(0.02)
    with contextlib.suppress(ProcessLookupError):
        os.kill(pid, signal.SIGKILL)


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])
