"""Subscriptions to events, and the messages that are sent for them."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import BigInteger, ForeignKey, Index, String, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column

from bathotype.service.records.base import Base, utcnow
from bathotype.wire.subscriptions import DeliveryState


class Subscription(Base):
    """Who is notified of which events.  Events after ``cursor`` have not been looked at yet."""

    __tablename__ = "subscriptions"
    __table_args__ = (UniqueConstraint("account_id", "name"),)

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    account_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"))
    name: Mapped[str]
    url: Mapped[str | None]
    mail_to: Mapped[list[Any] | None]
    events: Mapped[list[Any]]
    lines: Mapped[list[Any]]
    #: The webhook's key, encrypted with the service's secret.
    sealed: Mapped[str] = mapped_column(default="")
    paused: Mapped[bool] = mapped_column(default=False)
    cursor: Mapped[int] = mapped_column(BigInteger)
    made_by: Mapped[str]
    made_at: Mapped[datetime] = mapped_column(default=utcnow)


class Delivery(Base):
    """One event on its way to a subscriber."""

    __tablename__ = "deliveries"
    __table_args__ = (
        Index("ix_deliveries_next_at", "next_at", postgresql_where=text("state = 'pending'")),
        Index("ix_deliveries_subscription_id_id", "subscription_id", "id"),
        UniqueConstraint("subscription_id", "event_id"),
    )

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    subscription_id: Mapped[str] = mapped_column(ForeignKey("subscriptions.id", ondelete="CASCADE"))
    event_id: Mapped[int] = mapped_column(BigInteger)  # events are never removed
    state: Mapped[DeliveryState] = mapped_column(String, default="pending")
    attempts: Mapped[int] = mapped_column(default=0)
    next_at: Mapped[datetime] = mapped_column(default=utcnow)
    answer: Mapped[str] = mapped_column(default="")
    made_at: Mapped[datetime] = mapped_column(default=utcnow)
    ended_at: Mapped[datetime | None]
