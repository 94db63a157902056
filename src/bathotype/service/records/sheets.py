"""Saved sheets: each text that a sheet had, the files that go with it, and when it runs by itself."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import BigInteger, ForeignKey, ForeignKeyConstraint, Index, String, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from bathotype.service.records.base import Base, utcnow


class SavedSheet(Base):
    """A sheet under its name.  ``number`` is its current text's; ``next_at`` the date at which it runs next by itself.

    ``base_seen`` is the version that its base was when it ran last, or when it was saved: a newer one is a reason to run.
    ``noted`` says what came of the last time that it was to run by itself, where that made no run.
    """

    __tablename__ = "saved_sheets"
    __table_args__ = (UniqueConstraint("account_id", "name"), Index("ix_saved_sheets_next_at", "next_at"))

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    account_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"))
    name: Mapped[str]
    number: Mapped[int]
    base: Mapped[str]
    line: Mapped[str]
    after_base: Mapped[bool]
    after_push: Mapped[bool] = mapped_column(default=False, server_default="false")
    paused: Mapped[bool] = mapped_column(default=False)
    next_at: Mapped[datetime | None]
    base_seen: Mapped[str | None] = mapped_column(String(40))
    last_run: Mapped[str | None] = mapped_column(String(40))
    noted: Mapped[str] = mapped_column(default="")
    noted_at: Mapped[datetime | None]
    #: Where it comes from; it is not in the newest commit any more where it is withdrawn.
    repository_id: Mapped[str | None] = mapped_column(ForeignKey("repositories.id", ondelete="SET NULL"), index=True)
    path: Mapped[str] = mapped_column(default="", server_default="")
    withdrawn: Mapped[bool] = mapped_column(default=False, server_default="false")
    #: Whether a push has changed it since it ran, and it asks to run then.
    pushed: Mapped[bool] = mapped_column(default=False, server_default="false")
    #: Whether it is a part that sheets include; it has no base and no line then, and never runs.
    is_part: Mapped[bool] = mapped_column(default=False, server_default="false")


class SheetText(Base):
    """One text of a sheet, with the values that it runs with.  Texts are only ever added."""

    __tablename__ = "sheet_texts"

    sheet_id: Mapped[str] = mapped_column(ForeignKey("saved_sheets.id", ondelete="CASCADE"), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    text: Mapped[str]
    digest: Mapped[str]
    values: Mapped[dict[str, Any]]
    note: Mapped[str] = mapped_column(default="")
    saved_by: Mapped[str]
    saved_at: Mapped[datetime] = mapped_column(default=utcnow)
    #: The address of the repository that it comes from, and the commit that brought it.
    repository: Mapped[str] = mapped_column(default="", server_default="")
    commit: Mapped[str] = mapped_column(default="", server_default="")


class SheetFile(Base):
    """A file of the payload of one text: the upload that holds it, which is kept for as long as this refers to it; none for
    a file in a bucket."""

    __tablename__ = "sheet_files"
    __table_args__ = (
        ForeignKeyConstraint(
            ["sheet_id", "number"], ["sheet_texts.sheet_id", "sheet_texts.number"], ondelete="CASCADE"
        ),
    )

    sheet_id: Mapped[str] = mapped_column(String(40), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(primary_key=True)
    upload_id: Mapped[str | None] = mapped_column(ForeignKey("uploads.id"), index=True)
    bytes: Mapped[int] = mapped_column(BigInteger)
    sha256: Mapped[str]
