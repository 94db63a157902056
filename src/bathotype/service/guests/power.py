"""Shutting a machine down by its own agent."""

from __future__ import annotations

import time
from collections.abc import Callable

from bathotype.core.errors import Refused
from bathotype.core.guest.agent import AgentSilent
from bathotype.service.operations.context import WorkContext
from bathotype.sites.protocol import Site

#: How long a system may take to shut down, in seconds.
_SECONDS = 300.0
_PAUSE = 1.0


def shut_down(context: WorkContext, site: Site, machine: str, *, asked: bool = False) -> None:
    """Ask the agent to shut a machine down, and wait until the site says that it is off.

    ``asked`` says that it may have been asked before: then its agent may be gone already.
    Raises `Refused` where it does not shut down, and `AgentSilent` where nobody can be asked; it is never switched off by
    force.
    """
    if site.machine(machine).state == "stopped":
        return
    try:
        with site.agent(machine) as agent:
            agent.shutdown()
    except AgentSilent:
        if not asked:
            raise
    if not wait_until_off(site, machine, _SECONDS, check=context.check):
        raise Refused(
            f"The machine did not shut down within {_SECONDS:.0f} s.",
            advice="See what keeps it from shutting down, or capture it while it runs.",
            code="no-shutdown",
        )


def wait_until_off(site: Site, machine: str, seconds: float, *, check: Callable[[], None] = lambda: None) -> bool:
    """Wait so long at most; whether it is off then.  ``check`` is called in each round and may raise to stop."""
    deadline = time.monotonic() + seconds
    while site.machine(machine).state != "stopped":
        if time.monotonic() > deadline:
            return False
        check()
        time.sleep(_PAUSE)
    return True
