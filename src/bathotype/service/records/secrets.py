"""Secrets of accounts, encrypted with the service's own key."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ForeignKey
from sqlalchemy.orm import Mapped, mapped_column

from bathotype.service.records.base import Base, utcnow


class Secret(Base):
    """One secret; nobody is shown its value again."""

    __tablename__ = "secrets"

    account_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"), primary_key=True)
    name: Mapped[str] = mapped_column(primary_key=True)
    sealed: Mapped[str]
    about: Mapped[str] = mapped_column(default="")
    set_by: Mapped[str]
    set_at: Mapped[datetime] = mapped_column(default=utcnow)
    used_at: Mapped[datetime | None]
    used_by: Mapped[str | None]
