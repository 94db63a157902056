"""Running several processes as one: started in order, started again when they die, stopped together."""

from __future__ import annotations

import ctypes
import os
import pwd
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from bathotype.core.errors import Unavailable

_PR_SET_PDEATHSIG = 1
_READY_WITHIN = 300.0  # seconds; a busy host is slow


@dataclass
class Child:
    """A process to keep running; ``stop_signal`` asks it to end."""

    name: str
    argv: list[str]
    environment: dict[str, str] = field(default_factory=dict)
    user: str | None = None
    ready: Callable[[], bool] = lambda: True
    stop_signal: signal.Signals = signal.SIGTERM
    process: subprocess.Popen[bytes] | None = None
    restarts: int = 0


class Supervisor:
    """Holds children; must be used from the main thread, whose end the children are bound to."""

    def __init__(self, log_folder: Path) -> None:
        self.children: list[Child] = []
        self._logs = log_folder
        log_folder.mkdir(parents=True, exist_ok=True)

    def add(self, *children: Child) -> None:
        """Start children side by side and wait until all are ready.  Raises `Unavailable` with the end of a log."""
        for child in children:
            self.children.append(child)
            self._start(child)
        for child in children:
            self.wait_ready(child)

    def wait_ready(self, child: Child) -> None:
        """Wait for a child's readiness."""
        deadline = time.monotonic() + _READY_WITHIN
        while not child.ready():
            assert child.process is not None
            if child.process.poll() is not None or time.monotonic() > deadline:
                log = (self._logs / f"{child.name}.log").read_text(errors="replace").strip().splitlines()
                raise Unavailable(f"{child.name} does not start: {' '.join(log[-3:])}")
            time.sleep(0.05)

    def _start(self, child: Child) -> None:
        identity: dict[str, object] = {}
        if child.user:
            entry = pwd.getpwnam(child.user)
            identity = {"user": entry.pw_uid, "group": entry.pw_gid, "extra_groups": [], "cwd": "/"}
        with (self._logs / f"{child.name}.log").open("ab") as log:
            child.process = subprocess.Popen(  # type: ignore[call-overload]
                child.argv,
                env={**os.environ, **child.environment},
                stdout=log,
                stderr=log,
                stdin=subprocess.DEVNULL,
                preexec_fn=lambda: end_with_parent(child.stop_signal),
                **identity,
            )
        self._write_pid(child)

    def _write_pid(self, child: Child) -> None:
        assert child.process is not None
        (self._logs / f"{child.name}.pid").write_text(f"{child.process.pid}\n")

    def look(self) -> None:
        """Start again whatever has died."""
        for child in self.children:
            if child.process is not None and child.process.poll() is not None:
                child.restarts += 1
                print(
                    f"{child.name} ended ({child.process.returncode}); starting it again", file=sys.stderr, flush=True
                )
                time.sleep(min(0.2 * child.restarts, 2.0))
                self._start(child)

    def stop(self) -> None:
        """End all children, last started first."""
        for child in reversed(self.children):
            process = child.process
            if process is None or process.poll() is not None:
                continue
            process.send_signal(child.stop_signal)
            try:
                process.wait(10)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()
        self.children.clear()


def end_with_parent(number: signal.Signals) -> None:
    """Called in a child: the kernel sends it this signal when the thread that started it ends."""
    ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, int(number))
    os.setpgid(0, 0)  # Ctrl-C reaches the supervisor only, which stops the others in order
