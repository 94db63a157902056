"""Shares between accounts, launch rules and allowances."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from sqlalchemy import ForeignKey, Index, String, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column

from bathotype.service.records.base import Base, utcnow


class Share(Base):
    """One account's grant of a line, or one version of it, to another; without ``consumer_id`` to every account."""

    __tablename__ = "shares"
    __table_args__ = (
        # Of one thing to one account, one share at a time.
        Index(
            "uq_shares_standing",
            "line_id",
            text("coalesce(version_id, '')"),
            text("coalesce(consumer_id, '')"),
            unique=True,
            postgresql_where=text("state in ('proposed', 'active')"),
        ),
        Index("ix_shares_consumer_id_state", "consumer_id", "state"),
    )

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    owner_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"), index=True)
    consumer_id: Mapped[str | None] = mapped_column(ForeignKey("accounts.id"))
    line_id: Mapped[str] = mapped_column(ForeignKey("lines.id"), index=True)
    version_id: Mapped[str | None] = mapped_column(ForeignKey("versions.id"), index=True)
    regions: Mapped[list[Any] | None]
    until: Mapped[date | None]
    note: Mapped[str] = mapped_column(default="")
    state: Mapped[str] = mapped_column(default="proposed")  # proposed | active | declined | ended
    proposed_by: Mapped[str]
    proposed_at: Mapped[datetime] = mapped_column(default=utcnow)
    decided_by: Mapped[str | None]
    decided_at: Mapped[datetime | None]
    ended_by: Mapped[str | None]
    ended_at: Mapped[datetime | None]


class Notice(Base):
    """A notice to an account about another account's version, such as the sunset of a version that it runs."""

    __tablename__ = "notices"
    __table_args__ = (UniqueConstraint("account_id", "kind", "version_id"),)

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    account_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"))
    kind: Mapped[str]
    version_id: Mapped[str] = mapped_column(ForeignKey("versions.id"), index=True)
    text: Mapped[str]
    at: Mapped[datetime] = mapped_column(default=utcnow)


class RuleRow(Base):
    """A launch rule of an account; without an account it holds for all."""

    __tablename__ = "launch_rules"
    __table_args__ = (
        Index("uq_launch_rules_name", text("coalesce(account_id, '')"), "name", unique=True),
        Index("ix_launch_rules_account_id", "account_id"),
    )

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    account_id: Mapped[str | None] = mapped_column(ForeignKey("accounts.id"))
    name: Mapped[str]
    body: Mapped[dict[str, Any]]
    set_by: Mapped[str]
    set_at: Mapped[datetime] = mapped_column(default=utcnow)


class Allowance(Base):
    """How many instances may run, by the scope that they are counted in.

    ``kind`` ``line`` and ``version`` count what runs of the owner's; ``account`` what an account runs; ``pool`` what
    runs of the lines of ``lines``.  ``consumer_id`` narrows it to one account's instances.
    """

    __tablename__ = "allowances"
    __table_args__ = (UniqueConstraint("account_id", "name"),)

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    account_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"))
    name: Mapped[str]
    kind: Mapped[str]  # line | version | account | pool
    line_id: Mapped[str | None] = mapped_column(ForeignKey("lines.id"), index=True)
    version_id: Mapped[str | None] = mapped_column(ForeignKey("versions.id"), index=True)
    consumer_id: Mapped[str | None] = mapped_column(ForeignKey("accounts.id"))
    most: Mapped[int]
    set_by: Mapped[str]
    set_at: Mapped[datetime] = mapped_column(default=utcnow)


class PoolLine(Base):
    """A line whose instances count in a licence pool."""

    __tablename__ = "pool_lines"

    allowance_id: Mapped[str] = mapped_column(ForeignKey("allowances.id", ondelete="CASCADE"), primary_key=True)
    line_id: Mapped[str] = mapped_column(ForeignKey("lines.id"), primary_key=True, index=True)
