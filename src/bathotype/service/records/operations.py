"""Operations: durable pieces of work, their steps and logs."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Identity, Index, String, text
from sqlalchemy.orm import Mapped, mapped_column

from bathotype.service.records.base import Base, utcnow
from bathotype.wire.operations import OperationState


class Operation(Base):
    """One operation.  ``memo`` is what its steps remember; ``ending`` is the outcome decided before clean-up;
    ``leftovers_removed`` is false while disks of it may remain at a site."""

    __tablename__ = "operations"
    __table_args__ = (
        Index("ix_operations_account_id_id", "account_id", "id"),
        Index("ix_operations_leftovers", "account_id", postgresql_where=text("not leftovers_removed")),
    )

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    account_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"))
    kind: Mapped[str]
    subject: Mapped[str]
    state: Mapped[OperationState] = mapped_column(String, default="queued", index=True)
    params: Mapped[dict[str, Any]]
    memo: Mapped[dict[str, Any]] = mapped_column(default=dict)
    ending: Mapped[dict[str, Any] | None]
    result: Mapped[dict[str, Any] | None]
    error: Mapped[dict[str, Any] | None]
    attempts: Mapped[int] = mapped_column(default=0)
    cancel_requested: Mapped[bool] = mapped_column(default=False)
    leftovers_removed: Mapped[bool] = mapped_column(default=True, server_default=text("true"))
    created_by: Mapped[str]
    request_id: Mapped[str] = mapped_column(default="")
    created_at: Mapped[datetime] = mapped_column(default=utcnow)
    #: Not before this moment, where it waits for one.
    start_at: Mapped[datetime | None]
    started_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    beat_at: Mapped[datetime | None]


class OperationStep(Base):
    """One step of an operation."""

    __tablename__ = "operation_steps"

    operation_id: Mapped[str] = mapped_column(ForeignKey("operations.id", ondelete="CASCADE"), primary_key=True)
    position: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    title: Mapped[str]
    weight: Mapped[int] = mapped_column(default=1)
    state: Mapped[str] = mapped_column(default="pending")
    #: How often it was begun without having ended: what ends its worker each time is given up.
    starts: Mapped[int] = mapped_column(default=0)
    bytes_done: Mapped[int] = mapped_column(default=0)
    bytes_total: Mapped[int] = mapped_column(default=0)
    started_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]


class LogLine(Base):
    """One line of an operation's log."""

    __tablename__ = "operation_log"

    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    operation_id: Mapped[str] = mapped_column(ForeignKey("operations.id", ondelete="CASCADE"), index=True)
    at: Mapped[datetime] = mapped_column(default=utcnow)
    level: Mapped[str]
    text: Mapped[str]
