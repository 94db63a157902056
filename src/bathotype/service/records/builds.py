"""Build runs: which sheet ran with what, and what came of each of its steps."""

from __future__ import annotations

from typing import Any

from sqlalchemy import ForeignKey, Index
from sqlalchemy.orm import Mapped, mapped_column

from bathotype.service.records.base import Base


class BuildRun(Base):
    """One run.  ``steps`` is written while it goes on; the text of the sheet is kept, so that it can be looked at later."""

    __tablename__ = "build_runs"
    __table_args__ = (Index("ix_build_runs_account_id_operation_id", "account_id", "operation_id"),)

    operation_id: Mapped[str] = mapped_column(ForeignKey("operations.id", ondelete="CASCADE"), primary_key=True)
    account_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"))
    sheet: Mapped[str]
    digest: Mapped[str]
    text: Mapped[str]
    values: Mapped[dict[str, Any]]
    payload: Mapped[dict[str, Any]]
    base: Mapped[str]
    base_digest: Mapped[str]
    steps: Mapped[list[Any]]
    #: How busy its machine was, from time to time.
    figures: Mapped[list[Any]] = mapped_column(default=list, server_default="[]")
    #: Why it began: empty where somebody asked for it, `schedule`, `base` after a release of its base, `push`.
    cause: Mapped[str] = mapped_column(default="", server_default="")
    #: Which text of the saved sheet it was.
    saved_number: Mapped[int | None]
    #: The address of the repository that the text comes from, and its commit.
    repository: Mapped[str] = mapped_column(default="", server_default="")
    commit: Mapped[str] = mapped_column(default="", server_default="")
    #: The version that it makes again.
    repeats: Mapped[str] = mapped_column(default="", server_default="")
