"""NBD exports: one ``qemu-nbd`` process each, on loopback."""

from __future__ import annotations

import contextlib
import os
import signal
import socket
import subprocess
import time
from pathlib import Path

_START_WITHIN = 10.0


class ExportProcesses:
    """Starts and stops exports; process ids lie in files, so that a restart can reap what a crash left."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        folder.mkdir(parents=True, exist_ok=True)
        self._running: dict[str, subprocess.Popen[bytes]] = {}

    def reap_leftovers(self) -> None:
        """End export processes of an earlier life of the stand-in."""
        for file in self._folder.glob("*.pid"):
            with contextlib.suppress(ValueError, OSError):
                pid = int(file.read_text())
                if b"qemu-nbd" in Path(f"/proc/{pid}/cmdline").read_bytes():
                    os.kill(pid, signal.SIGKILL)
            file.unlink(missing_ok=True)

    def start(self, export: str, name: str, path: Path, form: str, *, writable: bool, port: int | None = None) -> int:
        """Offer a disk file; returns the port.  Raises `RuntimeError` where it does not start."""
        for _ in range(5):
            chosen = port or _free_port()
            command = [
                "qemu-nbd",
                "--persistent",
                "--shared=16",
                "--bind=127.0.0.1",
                f"--port={chosen}",
                f"--export-name={name}",
                f"--format={form}",
                "--cache=writeback",
                "--discard=unmap",
                f"--pid-file={self._folder / (export + '.pid')}",
            ]
            if not writable:
                command.append("--read-only")
            process = subprocess.Popen([*command, str(path)], stderr=subprocess.PIPE)
            if self._listening(process, chosen):
                self._running[export] = process
                return chosen
            process.kill()
            process.wait()
        raise RuntimeError(f"qemu-nbd does not start: {(process.stderr.read() if process.stderr else b'')!r}")

    @staticmethod
    def _listening(process: subprocess.Popen[bytes], port: int) -> bool:
        deadline = time.monotonic() + _START_WITHIN
        while time.monotonic() < deadline and process.poll() is None:
            with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
                return process.poll() is None
            time.sleep(0.005)
        return False

    def stop(self, export: str) -> None:
        """End an export; unknown ones are fine."""
        process = self._running.pop(export, None)
        if process is not None:
            process.terminate()
            try:
                process.wait(5)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()
        (self._folder / f"{export}.pid").unlink(missing_ok=True)

    def stop_all(self) -> None:
        """End every export."""
        for export in list(self._running):
            self.stop(export)


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])
