"""Waiting until a machine has finished its first boot."""

from __future__ import annotations

import json
import time
from collections.abc import Callable

from bathotype.core.errors import BathotypeError, Unavailable
from bathotype.core.guest.agent import AgentRefused, GuestAgent
from bathotype.service.guests.ready import console_tail
from bathotype.sites.protocol import Site

_PAUSE = 0.5
_CALL_SECONDS = 5.0


def has_booted(agent: GuestAgent, instance_id: str) -> bool:
    """Whether first boot has finished for this seed.  A guest whose files its agent cannot read has booted by answering.

    Follows cloud-init: it notes the instance id, and writes its result when its last stage is over.
    """
    if not agent.commands() >= {"guest-file-open", "guest-file-read"}:
        return True
    if agent.read_text("/var/lib/cloud/data/instance-id").strip() != instance_id:
        return False
    json.loads(agent.read_text("/var/lib/cloud/data/result.json"))
    return True


def wait_until_booted(site: Site, machine: str, instance_id: str, *, seconds: float, check: Callable[[], None]) -> None:
    """Wait; ``check`` is called in each round and may raise.  Raises `Unavailable` with the end of its console."""
    deadline = time.monotonic() + seconds
    while True:
        try:
            with site.agent(machine, timeout=_CALL_SECONDS) as agent:
                if has_booted(agent, instance_id):
                    return
        except (BathotypeError, AgentRefused, ValueError, RecursionError):
            pass
        if time.monotonic() > deadline:
            raise Unavailable(
                f"The machine has not finished its first boot within {seconds:.0f} s. Its console ends: "
                + " | ".join(console_tail(site, machine)),
                advice="See whether instances of the base come up; or give it longer by machine.ready_seconds.",
                code="not-ready",
            )
        check()
        time.sleep(_PAUSE)
