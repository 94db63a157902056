"""The thaw guard: a process of its own that thaws a guest when whoever froze it does not.

Started *before* a freeze, in a session of its own, so that neither the death of the worker nor a hang of it
can leave a guest frozen.  It reads one JSON line (site address, token, machine, deadline in seconds) from
standard input, answers ``ready``, and then waits: ``thawed`` on standard input ends it; the end of standard
input (the worker died) or the deadline makes it thaw the guest.  Secrets pass by the pipe, never in argv.
"""

from __future__ import annotations

import io
import json
import select
import subprocess
import sys
import time
from typing import Any

_KEEP_TRYING = 120.0


class ThawGuard:
    """The worker's side: hold it around a freeze.

    ``deadline`` is counted from `start`, in seconds.  Use as a context manager; call `freed` once the guest
    has been thawed in the ordinary way.
    """

    def __init__(self, url: str, token: str, machine: str, *, deadline: float) -> None:
        order = {"url": url, "token": token, "machine": machine, "deadline": deadline}
        self._process = subprocess.Popen(
            [sys.executable, "-m", "bathotype.sites.thawguard"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            start_new_session=True,
        )
        self._tell(json.dumps(order))
        assert self._process.stdout is not None
        if self._process.stdout.readline().strip() != "ready":
            raise RuntimeError("the thaw guard did not start")

    def start(self) -> None:
        """The deadline begins to run: call right before freezing."""
        self._tell("freezing")

    def freed(self) -> None:
        """The guest is thawed: nothing is left to guard."""
        self._tell("thawed")
        self._process.wait(10)

    def _tell(self, line: str) -> None:
        assert self._process.stdin is not None
        try:
            self._process.stdin.write(line + "\n")
            self._process.stdin.flush()
        except BrokenPipeError:
            pass  # it has done its work and gone

    def __enter__(self) -> ThawGuard:
        return self

    def __exit__(self, *_: object) -> None:
        assert self._process.stdin is not None
        try:
            self._process.stdin.close()  # not freed: the guard thaws now
        except BrokenPipeError:
            pass
        self._process.wait(_KEEP_TRYING)


def _guard(order: dict[str, Any], orders: io.RawIOBase) -> None:
    deadline: float | None = None
    while True:
        left = None if deadline is None else max(0.0, deadline - time.monotonic())
        ready, _, _ = select.select([orders], [], [], left)
        if not ready:
            break
        line = orders.readline().decode().strip()
        if line == "thawed":
            return
        if line == "freezing":
            deadline = time.monotonic() + order["deadline"]
            continue
        if deadline is None:
            return  # the worker is gone before it froze anything
        break
    _thaw(order)


def _thaw(order: dict[str, Any]) -> None:
    from bathotype.core.errors import BathotypeError
    from bathotype.sites.standin import StandinSite

    site = StandinSite(order["url"], order["token"], timeout=3, patience=3)
    give_up = time.monotonic() + _KEEP_TRYING
    while time.monotonic() < give_up:
        try:
            with site.agent(order["machine"], timeout=2) as agent:
                agent.thaw()
                return
        except BathotypeError:
            time.sleep(0.3)


if __name__ == "__main__":
    # Unbuffered: a line read ahead would be a line that select() does not see.
    commands = open(0, "rb", buffering=0)  # noqa: SIM115
    first = json.loads(commands.readline())
    # Everything that a thaw needs is loaded before the guest is frozen.
    import bathotype.sites.standin  # noqa: F401

    print("ready", flush=True)
    _guard(first, commands)
