"""Shutting a machine down by its own agent."""

from __future__ import annotations

import time

from bathotype.core.errors import Refused
from bathotype.service.operations.context import WorkContext
from bathotype.sites.protocol import Site

#: How long a system may take to shut down, in seconds.
_SECONDS = 300.0
_PAUSE = 1.0


def shut_down(context: WorkContext, site: Site, machine: str) -> None:
    """Ask the agent to shut a machine down, and wait until the site says that it is off.

    Raises `Refused` where it does not, and `AgentSilent` where nobody can be asked; it is never switched off by force.
    """
    if site.machine(machine).state == "stopped":
        return
    with site.agent(machine) as agent:
        agent.shutdown()
    deadline = time.monotonic() + _SECONDS
    while site.machine(machine).state != "stopped":
        if time.monotonic() > deadline:
            raise Refused(
                f"The machine did not shut down within {_SECONDS:.0f} s.",
                advice="See what keeps it from shutting down, or capture it while it runs.",
                code="no-shutdown",
            )
        context.check()
        time.sleep(_PAUSE)
