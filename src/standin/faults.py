"""Faults: what shall go wrong, how often, and finding the one that a call runs into."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from standin.records import Fault

#: What may be asked for.  ``target`` is a path prefix, machine, disk, zone or region, as the kind needs.
KINDS = {
    "fail": "the next COUNT calls under the path TARGET answer STATUS",
    "rate-limit": "the next COUNT calls under the path TARGET answer 429 with Retry-After SECONDS",
    "slow": "the next COUNT calls under the path TARGET take SECONDS longer",
    "hang": "the next COUNT calls under the path TARGET answer only after SECONDS",
    "region-out": "every call about region TARGET answers 503",
    "zone-out": "nothing can be created or started in zone TARGET",
    "agent-silent": "the agent of machine TARGET does not answer",
    "agent-dies-frozen": "the agent of machine TARGET falls silent for SECONDS once it has frozen",
    "snapshot-fails": "the next COUNT snapshots of disk TARGET (any where empty) fail with 500 after SECONDS",
    "boot-fails": "the next COUNT machines that start never come up",
    "machine-dies": "machine TARGET stops at once",
    "disk-damage": "sixteen KiB in the middle of disk TARGET's data turn to garbage",
    "disk-lost": "disk TARGET is deleted behind everybody's back",
    "machine-lost": "machine TARGET is deleted behind everybody's back",
    "rename": "machine TARGET gets a name with '-renamed' at the end",
}

_STANDING = {"region-out", "zone-out", "agent-silent", "agent-dies-frozen"}


def take(session: Session, kinds: tuple[str, ...], target: str, *, prefix: bool = False) -> Fault | None:
    """The first fault of these kinds that applies; one that counts is used up by one.

    The caller commits.
    """
    query = select(Fault).where(Fault.kind.in_(kinds)).order_by(Fault.id).with_for_update()
    for fault in session.scalars(query):
        hit = target.startswith(fault.target) if prefix else fault.target in ("", target)
        if not hit:
            continue
        if fault.kind not in _STANDING:
            fault.count -= 1
            if fault.count <= 0:
                session.delete(fault)
        return fault
    return None
