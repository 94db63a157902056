"""The base of all records, and accounts."""

from __future__ import annotations

import secrets
import time
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import BigInteger, DateTime, MetaData, String
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column

#: Row lock for rows that a transaction changes, for ``with_for_update``.  It does not lock the key, so that rows that
#: refer to this one can still be inserted.  Lock order: the line, then its versions, then everything else, and several
#: rows by ascending id.  Every transaction that keeps this order cannot deadlock with another one.
CHANGE: dict[str, Any] = {"key_share": True}
#: Row lock for rows that a change depends on: shared, and whoever changes the row waits.
REST: dict[str, Any] = {"read": True}


class Base(DeclarativeBase):
    """All tables; constraints are named by rule, so that migrations can name them too."""

    metadata = MetaData(
        naming_convention={
            "ix": "ix_%(column_0_label)s",
            "uq": "uq_%(table_name)s_%(column_0_name)s",
            "ck": "ck_%(table_name)s_%(constraint_name)s",
            "fk": "fk_%(table_name)s_%(column_0_name)s",
            "pk": "pk_%(table_name)s",
        }
    )
    type_annotation_map = {
        datetime: DateTime(timezone=True),
        dict[str, Any]: JSONB(none_as_null=True),
        dict[str, str]: JSONB(none_as_null=True),
        list[Any]: JSONB(none_as_null=True),
        int: BigInteger,
    }


def utcnow() -> datetime:
    """The present, in UTC."""
    return datetime.now(UTC)


def new_id(prefix: str) -> str:
    """An id that sorts by creation time: ``op-0001a2b3c4d5-6e7f8091``."""
    return f"{prefix}-{time.time_ns() // 1_000_000:012x}-{secrets.token_hex(4)}"


class Account(Base):
    """Who owns lines and launches instances."""

    __tablename__ = "accounts"

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    created_at: Mapped[datetime] = mapped_column(default=utcnow)
