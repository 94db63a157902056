"""Identities that guests report, and noticing one that two machines have."""

from __future__ import annotations

import base64
import hashlib
import re
from typing import Any

from sqlalchemy import select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from bathotype.core.errors import BathotypeError
from bathotype.core.guest.agent import AgentRefused, GuestAgent
from bathotype.service import audit
from bathotype.service.records import Identity
from bathotype.service.records.base import utcnow
from bathotype.sites.protocol import SiteMachine

_KEY_FILES = ("ed25519", "ecdsa", "rsa")
_SINGULAR = {"host_name": "host-name", "machine_id": "machine-id"}


def read_identity(agent: GuestAgent) -> dict[str, Any]:
    """What a guest says of itself: host name, machine id, SSH host key fingerprints, addresses."""
    found: dict[str, Any] = {"host_name": agent.host_name(), "addresses": agent.addresses()}
    try:
        machine_id = agent.read_text("/etc/machine-id").strip()
        if re.fullmatch(r"[0-9a-f]{32}", machine_id):  # machine-id(5)
            found["machine_id"] = machine_id
    except AgentRefused:
        pass
    keys = []
    for kind in _KEY_FILES:
        try:
            keys.append(fingerprint(agent.read_text(f"/etc/ssh/ssh_host_{kind}_key.pub")))
        except (AgentRefused, BathotypeError, ValueError, IndexError):
            continue
    found["host_keys"] = keys
    return found


def fingerprint(public_key: str) -> str:
    """The fingerprint of an SSH public key, as OpenSSH shows it: ``SHA256:`` and unpadded base64."""
    blob = base64.b64decode(public_key.split()[1])
    return "SHA256:" + base64.b64encode(hashlib.sha256(blob).digest()).decode().rstrip("=")


def remember_identity(session: Session, account_id: str, machine: SiteMachine, found: dict[str, Any]) -> None:
    """Record a machine's identity and raise an alert for each value that another machine has too."""
    values = [(kind, found[key]) for key, kind in _SINGULAR.items() if found.get(key)]
    values += [("host-key", key) for key in found.get("host_keys", [])]
    session.query(Identity).filter(Identity.site_machine == machine.id).delete()
    for kind, value in values:
        session.execute(
            insert(Identity)
            .values(
                site_machine=machine.id,
                kind=kind,
                value=value,
                account_id=account_id,
                machine_name=machine.name,
                region=machine.region,
                seen_at=utcnow(),
            )
            .on_conflict_do_nothing()
        )
    session.flush()
    for kind, value in values:
        _judge(session, account_id, kind, value)


def forget_identity(session: Session, account_id: str, site_machine: str) -> None:
    """Forget the identity of a machine that is gone, and clear alerts about values that it shared."""
    held = list(session.scalars(select(Identity).where(Identity.site_machine == site_machine)))
    for row in held:
        session.delete(row)
    session.flush()
    for row in held:
        _judge(session, account_id, row.kind, row.value)


def _judge(session: Session, account_id: str, kind: str, value: str) -> None:
    names = list(
        session.scalars(
            select(Identity.machine_name)
            .where(Identity.kind == kind, Identity.value == value, Identity.account_id == account_id)
            .order_by(Identity.machine_name)
        )
    )
    subject = f"{kind} {value}"
    if len(names) > 1:
        text = f"{', '.join(names)} have the same {kind.replace('-', ' ')}."
        audit.raise_alert(session, account_id, "identity-twice", subject, text)
    else:
        audit.clear_alert(session, account_id, "identity-twice", subject)
