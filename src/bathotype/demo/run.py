"""``bathotype demo``: everything on one machine until it is stopped."""

from __future__ import annotations

import os
import signal
import sys
import time
from pathlib import Path

from bathotype.core.errors import Invalid
from bathotype.demo import life
from bathotype.demo.people import PEOPLE, people_are_there
from bathotype.demo.system import DemoSystem


def run_demo(data: Path, port: int, *, lived_in: bool = False) -> int:
    """Start the demo, say so, and keep it running until it is stopped.  ``lived_in`` fills it at its first start."""
    if not 0 <= port < 65536:
        raise Invalid(f"{port} is not a port.")
    stopping: list[int] = []
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda n, _: stopping.append(n))
    system = DemoSystem(data, port)
    try:
        system.start()
        if lived_in:
            _give_life(system, stopping)
        if not stopping:
            print(f"ready {system.url}", flush=True)
            _introduce(system)
        while not stopping:
            time.sleep(0.2)
            system.supervisor.look()
    finally:
        system.stop()
    return 0


def _give_life(system: DemoSystem, stopping: list[int]) -> None:
    """Fill an empty demo; say so where the filling was or is cut short."""
    if life.is_whole(system) and not life.is_there(system):  # what was begun would meet its own first lines
        filling = life.begin(system, _say)
        while filling.is_alive() and not stopping:
            system.supervisor.look()
            filling.join(0.2)
        filling.kill()  # only where the demo is to stop
        filling.join()
    if not life.is_whole(system):
        _say(
            f"The demo's life was not made to its end. For a whole one: stop the demo, remove {system.data}, "
            "and start it again."
        )


def _introduce(system: DemoSystem) -> None:
    if people_are_there(system.owner_database):
        _say(f"The console is at {system.url}. These people can sign in:")
        for name, roles in PEOPLE.items():
            held = ", ".join(f"{role} of {account}" for account, role in roles.items())
            _say(f"  {name:<6} {system.secrets['people'][name]:<38} {held}")
    else:
        _say(f"The console is at {system.url}. `bathotype members add NAME --role steward` invites somebody to it.")
    if os.geteuid() == 0 and system.user is None:
        _say(
            "The service runs as root: no other user can reach the project or the data. Put both where others may read."
        )
    _say(f"In another terminal:  . {system.data}/demo.env && .venv/bin/bathotype machines list")


def _say(line: str) -> None:
    print(line, file=sys.stderr, flush=True)
