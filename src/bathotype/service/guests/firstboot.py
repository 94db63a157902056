"""What a guest made of its first-boot settings, as its agent reports it."""

from __future__ import annotations

from typing import Any

from bathotype.core.firstboot.checks import Seen, key_of
from bathotype.core.firstboot.settings import FirstBoot
from bathotype.core.guest.agent import AgentRefused, GuestAgent

_ZONE_FOLDER = "/zoneinfo/"


def read_seen(agent: GuestAgent, settings: FirstBoot, identity: dict[str, Any], *, root: bool = False) -> Seen:
    """What can be compared with the settings; only what they name is read, and with ``root`` how large its file system
    is. Raises where the agent is silent."""
    zone = _zone(agent) if settings.time_zone else None
    homes = _homes(agent) if settings.users else None
    keys = {}
    for user in settings.users:
        home = (homes or {}).get(user.name)
        if home and user.ssh_public_keys:
            keys[user.name] = _keys(agent, home)
    return Seen(
        str(identity.get("host_name", "")),
        tuple(identity.get("addresses", ())),
        zone,
        None if homes is None else frozenset(homes),
        keys,
        _root_bytes(agent) if root else None,
    )


def _root_bytes(agent: GuestAgent) -> int | None:
    try:
        return agent.mounted_bytes("/")
    except AgentRefused:
        return None


def _zone(agent: GuestAgent) -> str | None:
    """Its time zone by name; None where it does not say."""
    try:
        return agent.read_text("/etc/timezone").strip()
    except AgentRefused:
        pass
    try:
        target = agent.run(["/usr/bin/readlink", "/etc/localtime"], timeout=5).out.decode("utf-8", "replace").strip()
    except AgentRefused:
        return None
    return target.rpartition(_ZONE_FOLDER)[2] if _ZONE_FOLDER in target else None


def _homes(agent: GuestAgent) -> dict[str, str] | None:
    """The home of each user (passwd(5)); None where it does not say."""
    try:
        text = agent.read_text("/etc/passwd")
    except AgentRefused:
        return None
    rows = (line.split(":") for line in text.splitlines())
    return {row[0]: row[5] for row in rows if len(row) == 7}


def _keys(agent: GuestAgent, home: str) -> frozenset[str]:
    try:
        text = agent.read_text(f"{home}/.ssh/authorized_keys")
    except AgentRefused:
        return frozenset()
    return frozenset(key_of(line) for line in text.splitlines() if line.strip())
