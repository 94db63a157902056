"""Faults: what is to go wrong, how often, and finding the one that a call runs into."""

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


class Book:
    """Remembers that there is no fault at all, so that a call need not ask: there seldom is one."""

    def __init__(self) -> None:
        self._entries, self._empty_at = 0, -1

    @property
    def entries(self) -> int:
        """How often a fault was asked for, in this life of the stand-in."""
        return self._entries

    @property
    def empty(self) -> bool:
        """Whether there is surely no fault."""
        return self._empty_at == self._entries

    def entered(self) -> None:
        """A fault was asked for, and is recorded."""
        self._entries += 1

    def found_empty(self, entries: int) -> None:
        """There was no fault when it was looked, which began when so many had been asked for."""
        self._empty_at = entries


def take(session: Session, kinds: tuple[str, ...], target: str, *, prefix: bool = False) -> Fault | None:
    """The first fault of these kinds that applies; one that counts is used up by one.

    The caller commits.
    """
    book: Book = session.info["faults"]
    if book.empty:
        return None
    entries = book.entries
    query = select(Fault).where(Fault.kind.in_(kinds)).order_by(Fault.id).with_for_update()
    for fault in session.scalars(query):
        hit = target.startswith(fault.target) if prefix else fault.target in ("", target)
        if not hit:
            continue
        if fault.kind not in _STANDING:
            session.info["taken"] = True
            fault.count -= 1
            if fault.count <= 0:
                session.delete(fault)
        return fault
    # What this very transaction has used up is there again if it fails.
    if "taken" not in session.info and session.scalar(select(Fault.id).limit(1)) is None:
        book.found_empty(entries)
    return None
