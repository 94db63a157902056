"""Writing the audit trail: each event is chained to the one before by digest."""

from __future__ import annotations

import json
from contextvars import ContextVar
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from blake3 import blake3
from sqlalchemy import select, text
from sqlalchemy.event import listens_for
from sqlalchemy.orm import Session

from bathotype.service.records import Alert, Event
from bathotype.service.records.base import CHANGE, new_id, utcnow

_CHAIN_LOCK = 7_246_002
_WAITING = "events"  # in a session: what to append when it commits

#: The address that the current request comes from; empty for what the service does by itself.
origin: ContextVar[str] = ContextVar("origin", default="")


def record(
    session: Session,
    account_id: str,
    actor: str,
    action: str,
    subject: str,
    *,
    before: dict[str, Any] | None = None,
    after: dict[str, Any] | None = None,
) -> None:
    """Append one event in the caller's transaction: both are committed, or neither."""
    session.flush()
    event = Event(
        account_id=account_id, actor=actor, source=origin.get(), action=action, subject=subject, before=before, after=after
    )  # fmt: skip
    session.info.setdefault(_WAITING, []).append(event)


def append(session: Session) -> None:
    """Give what was recorded so far its place in the chain now, for whoever needs its number.

    From here to its end the transaction must not wait for anybody: see `_append`.
    """
    _append(session)


@listens_for(Session, "before_commit")
def _append(session: Session) -> None:
    """Chain what waits.

    The chain has one end: whoever appends waits for the one before to commit.  That comes last, when a transaction has
    every row that it changes: one that waited for a row with the chain in its hand could wait for somebody who, with
    that row, waits for the chain.
    """
    if session.in_nested_transaction() or _WAITING not in session.info:
        return
    session.flush()
    waiting: list[Event] = session.info.pop(_WAITING)
    session.execute(text("select pg_advisory_xact_lock(:n)"), {"n": _CHAIN_LOCK})
    last = session.scalar(select(Event.digest).order_by(Event.id.desc()).limit(1)) or ""
    for event in waiting:
        event.at = utcnow()
        event.digest = last = link(last, event)
        session.add(event)
        session.flush()  # their numbers are in the order of the chain


@listens_for(Session, "after_rollback")
def _forget(session: Session) -> None:
    session.info.pop(_WAITING, None)


def link(previous: str, event: Event) -> str:
    """The digest of an event, over the digest before it and all that the event says."""
    body = {
        "account": event.account_id,
        "at": _moment(event.at),
        "actor": event.actor,
        "source": event.source,
        "action": event.action,
        "subject": event.subject,
        "before": event.before,
        "after": event.after,
    }
    text_form = json.dumps(body, sort_keys=True, separators=(",", ":"), default=str)
    return "blake3:" + blake3(f"{previous}\n{text_form}".encode()).hexdigest()


def _moment(at: datetime) -> str:
    return f"{at.timestamp():.6f}"


@dataclass(frozen=True)
class Followed:
    """A part of the chain: how many events, the last one's number and digest, and those that do not follow."""

    events: int
    event: int
    digest: str
    broken: list[int]


def follow(session: Session, event: int, digest: str, *, most: int) -> Followed:
    """Look at the next events behind one with this number and digest (0 and nothing for the first), at most so many."""
    rows = session.scalars(select(Event).where(Event.id > event).order_by(Event.id).limit(most)).all()
    broken = []
    for row in rows:
        if link(digest, row) != row.digest:
            broken.append(row.id)
        event, digest = row.id, row.digest
    return Followed(len(rows), event, digest, broken)


#: Alerts about what has happened: they end when somebody acknowledges them.
HAPPENED = frozenset({"deleted-at-site", "mark-dropped"})


def raise_alert(session: Session, account_id: str, kind: str, subject: str, message: str) -> None:
    """Raise an alert, or raise it again if it was cleared; an alert that is raised already is not changed."""
    alert = session.scalar(
        select(Alert)
        .where(Alert.account_id == account_id, Alert.kind == kind, Alert.subject == subject)
        .with_for_update(**CHANGE)
    )
    if alert is None:
        session.add(Alert(id=new_id("al"), account_id=account_id, kind=kind, subject=subject, text=message))
    elif alert.cleared_at is not None:
        alert.cleared_at, alert.raised_at, alert.text = None, utcnow(), message
        alert.acknowledged_by = alert.acknowledged_at = alert.acknowledged_reason = None
    else:
        alert.text = message
        return
    record(session, account_id, "bathotype", "alert.raised", subject, after={"kind": kind, "text": message})


def clear_alert(session: Session, account_id: str, kind: str, subject: str) -> None:
    """Clear an alert if it is raised."""
    alert = session.scalar(
        select(Alert).where(
            Alert.account_id == account_id, Alert.kind == kind, Alert.subject == subject, Alert.cleared_at.is_(None)
        )
    )
    if alert is not None:
        alert.cleared_at = utcnow()
        record(session, account_id, "bathotype", "alert.cleared", subject, after={"kind": kind})
