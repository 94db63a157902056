"""Git repositories that sheets come from."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index, String, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from bathotype.service.records.base import Base, utcnow


class Repository(Base):
    """A branch, and a folder of it, whose sheets are the account's.

    ``commit`` is the one that was read last, and empty before there was one; ``problem`` is why it could not be read last
    time, and ``wrong`` are the faults of files that are meant to be sheets.  It is read when ``next_at`` has come.
    """

    __tablename__ = "repositories"
    __table_args__ = (UniqueConstraint("account_id", "name"), Index("ix_repositories_next_at", "next_at"))

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    account_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"))
    name: Mapped[str]
    address: Mapped[str]
    branch: Mapped[str]
    folder: Mapped[str] = mapped_column(default="")
    #: The name of the account's secret that opens it.
    secret: Mapped[str | None]
    signers: Mapped[list[Any]]
    values: Mapped[dict[str, Any]]
    every_minutes: Mapped[int]
    #: The key that pushes are signed with, encrypted with the service's secret.
    sealed: Mapped[str]
    made_by: Mapped[str]
    made_at: Mapped[datetime] = mapped_column(default=utcnow)
    commit: Mapped[str] = mapped_column(default="")
    author: Mapped[str] = mapped_column(default="")
    subject: Mapped[str] = mapped_column(default="")
    signer: Mapped[str] = mapped_column(default="")
    committed_at: Mapped[datetime | None]
    read_at: Mapped[datetime | None]
    tried_at: Mapped[datetime | None]
    next_at: Mapped[datetime | None]
    #: Whether its commit is taken over once more, though it is the same.
    again: Mapped[bool] = mapped_column(default=True)
    problem: Mapped[str] = mapped_column(default="")
    wrong: Mapped[list[Any]]
