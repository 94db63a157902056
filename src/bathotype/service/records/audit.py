"""The audit trail, alerts, and answers kept for repeated requests."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Identity, Index, String, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from bathotype.service.records.base import Base, utcnow


class Event(Base):
    """One line of the audit trail.  The database refuses to change or remove it (a trigger)."""

    __tablename__ = "events"
    __table_args__ = (
        Index("ix_events_account_id_id", "account_id", "id"),
        Index("ix_events_account_id_subject_id", "account_id", "subject", "id"),
        Index("ix_events_account_id_action_id", "account_id", "action", "id"),
    )

    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    account_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"))
    at: Mapped[datetime] = mapped_column(default=utcnow)
    actor: Mapped[str]
    source: Mapped[str] = mapped_column(default="")
    action: Mapped[str]
    subject: Mapped[str]
    before: Mapped[dict[str, Any] | None]
    after: Mapped[dict[str, Any] | None]
    digest: Mapped[str]


class Alert(Base):
    """A condition that needs attention; raised once for one subject, cleared when it is over.

    Who acknowledged it has seen it: it stays raised, and needs nobody else.
    """

    __tablename__ = "alerts"
    __table_args__ = (UniqueConstraint("account_id", "kind", "subject"),)

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    account_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"))
    kind: Mapped[str]
    subject: Mapped[str]
    text: Mapped[str]
    raised_at: Mapped[datetime] = mapped_column(default=utcnow)
    cleared_at: Mapped[datetime | None]
    acknowledged_by: Mapped[str | None]
    acknowledged_at: Mapped[datetime | None]
    acknowledged_reason: Mapped[str | None]


class IdempotentAnswer(Base):
    """The first answer to a creating request with an ``Idempotency-Key``."""

    __tablename__ = "idempotent_answers"

    account_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"), primary_key=True)
    key: Mapped[str] = mapped_column(String(200), primary_key=True)
    fingerprint: Mapped[str]
    status: Mapped[int] = mapped_column(default=0)
    body: Mapped[dict[str, Any] | None]
    created_at: Mapped[datetime] = mapped_column(default=utcnow)
