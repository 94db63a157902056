"""Waiting for a guest, and what its console says when it does not come up."""

from __future__ import annotations

import json
import time
from collections.abc import Callable

from bathotype.core.errors import BathotypeError, Unavailable
from bathotype.core.guest.agent import GuestAgent
from bathotype.sites.protocol import Site

_LINES = 5
_LONGEST_LINE = 200
#: Of the pauses between two questions, in seconds.
_SHORTEST, _LONGEST = 0.3, 4.0
_CALL_SECONDS = 5.0


def pause_after(waited: float) -> float:
    """Seconds until a guest is asked again that has been waited for so long: a twentieth of that, so that a slow one is not
    kept busy with answering."""
    return min(max(_SHORTEST, waited / 20), _LONGEST)


def first_booted(agent: GuestAgent, instance_id: str) -> bool | None:
    """Whether first boot has finished for this seed; None where the agent reads no files, so that nobody knows.

    Follows cloud-init: it notes the instance id, and writes its result when its last stage is over.  Raises where a file
    is not there yet.
    """
    if not agent.commands() >= {"guest-file-open", "guest-file-read"}:
        return None
    if agent.read_text("/var/lib/cloud/data/instance-id").strip() != instance_id:
        return False
    json.loads(agent.read_text("/var/lib/cloud/data/result.json"))
    return True


def wait_for_agent(site: Site, machine: str, *, seconds: float, check: Callable[[], None], code: str) -> None:
    """Wait until a machine's agent answers.  Raises as `_wait` does."""

    def answers(agent: GuestAgent) -> bool:
        agent.ping()
        return True

    _wait(
        site, machine, answers, seconds, check,
        "The clone's agent did not answer", "See whether the machine boots by itself.", code,
    )  # fmt: skip


def wait_until_booted(
    site: Site, machine: str, instance_id: str, *, host_name: str, seconds: float, check: Callable[[], None]
) -> None:
    """Wait until a machine's first boot is finished.  Raises as `_wait` does.

    ``host_name`` is what a guest whose files cannot be read then calls itself; empty where that is not known.
    """

    def booted(agent: GuestAgent) -> bool:
        done = first_booted(agent, instance_id)
        return done if done is not None else not host_name or agent.host_name() == host_name

    _wait(
        site, machine, booted, seconds, check, "The machine has not finished its first boot",
        "See whether instances of the base come up; or give it longer by machine.ready_seconds.", "not-ready",
    )  # fmt: skip


def _wait(
    site: Site, machine: str, ready: Callable[[GuestAgent], bool], seconds: float, check: Callable[[], None], what: str,
    advice: str, code: str,
) -> None:  # fmt: skip
    """Wait; ``check`` is called in each round and may raise to stop.  Raises `Unavailable` with the end of the console."""
    began = time.monotonic()
    deadline = began + seconds
    while True:
        try:
            with site.agent(machine, timeout=_CALL_SECONDS) as agent:
                if ready(agent):
                    return
        except (BathotypeError, ValueError, RecursionError):
            pass  # it is on its way
        if time.monotonic() > deadline:
            tail = " | ".join(console_tail(site, machine))
            raise Unavailable(f"{what} within {seconds:.0f} s. Its console ends: {tail}", advice=advice, code=code)
        check()
        time.sleep(pause_after(time.monotonic() - began))


def console_tail(site: Site, machine: str) -> list[str]:
    """The last lines of a machine's console; none where the site does not give it."""
    try:
        lines = site.console(machine).strip().splitlines()
    except BathotypeError:
        return []
    return [line[-_LONGEST_LINE:] for line in lines[-_LINES:]]
