"""Runs of checks: on a throwaway instance of a version, or on an instance that runs."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index
from sqlalchemy.orm import Mapped, mapped_column

from bathotype.service.records.base import Base, utcnow


class CheckRun(Base):
    """One run.  ``passed`` is None until it has ended; ``instance_id`` is None for a throwaway instance."""

    __tablename__ = "check_runs"
    __table_args__ = (Index("ix_check_runs_version_id_operation_id", "version_id", "operation_id"),)

    operation_id: Mapped[str] = mapped_column(ForeignKey("operations.id", ondelete="CASCADE"), primary_key=True)
    account_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"))
    version_id: Mapped[str] = mapped_column(ForeignKey("versions.id"))
    instance_id: Mapped[str | None] = mapped_column(ForeignKey("instances.id"))
    region: Mapped[str]
    machine_size: Mapped[str]
    checks: Mapped[list[Any]]
    judgements: Mapped[list[Any]] = mapped_column(default=list)
    passed: Mapped[bool | None]
    boot_seconds: Mapped[float | None]
    at: Mapped[datetime] = mapped_column(default=utcnow)
