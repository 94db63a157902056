"""Stored bytes over time."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import BigInteger, ForeignKey
from sqlalchemy.orm import Mapped, mapped_column

from bathotype.service.records.base import Base


class StoredBytes(Base):
    """What an account needed of a region's store when that was measured; with a line, what its versions needed.

    ``alone`` are compressed bytes of chunks that nobody else needed, ``shared`` of those that others needed as well:
    other accounts, or for a line other lines.
    """

    __tablename__ = "stored_bytes"

    account_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"), primary_key=True)
    at: Mapped[datetime] = mapped_column(primary_key=True, index=True)
    region: Mapped[str] = mapped_column(primary_key=True)
    #: Empty for the whole account.
    line_id: Mapped[str] = mapped_column(primary_key=True)
    alone: Mapped[int] = mapped_column(BigInteger)
    shared: Mapped[int] = mapped_column(BigInteger)
