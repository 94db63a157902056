"""Waiting for a guest, and what its console says when it does not come up."""

from __future__ import annotations

import time
from collections.abc import Callable

from bathotype.core.errors import BathotypeError, Unavailable
from bathotype.sites.protocol import Site

_LINES = 5
_LONGEST_LINE = 200
_PAUSE = 1.0
_CALL_SECONDS = 5.0


def wait_for_agent(site: Site, machine: str, *, seconds: float, check: Callable[[], None], code: str) -> None:
    """Wait until a machine's agent answers; ``check`` is called in each round and may raise to stop.

    Raises `Unavailable` with the end of the console after ``seconds``.
    """
    deadline = time.monotonic() + seconds
    while True:
        try:
            with site.agent(machine, timeout=_CALL_SECONDS) as agent:
                agent.ping()
                return
        except BathotypeError as error:
            if time.monotonic() > deadline:
                raise Unavailable(
                    f"The clone's agent did not answer within {seconds:.0f} s. Its console ends: "
                    + " | ".join(console_tail(site, machine)),
                    advice="See whether the machine boots by itself.",
                    code=code,
                ) from error
        check()
        time.sleep(_PAUSE)


def console_tail(site: Site, machine: str) -> list[str]:
    """The last lines of a machine's console; none where the site does not give it."""
    try:
        lines = site.console(machine).strip().splitlines()
    except BathotypeError:
        return []
    return [line[-_LONGEST_LINE:] for line in lines[-_LINES:]]
