"""The index of the chunks that each region's store holds."""

from __future__ import annotations

from sqlalchemy import Identity, Integer, LargeBinary, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from bathotype.service.records.base import Base


class StoredPack(Base):
    """A pack in a region's store that a recorded version needs, or needed until packs are collected there."""

    __tablename__ = "stored_packs"
    __table_args__ = (UniqueConstraint("region", "name"),)

    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    region: Mapped[str]
    name: Mapped[str]


class StoredChunk(Base):
    """A chunk in a pack, by its BLAKE3 digest.

    No foreign key: it would take as long as the rest of adding a row, and a row whose pack is not listed finds nothing.
    """

    __tablename__ = "stored_chunks"

    digest: Mapped[bytes] = mapped_column(LargeBinary, primary_key=True)
    pack_id: Mapped[int] = mapped_column(primary_key=True, index=True)
    offset: Mapped[int] = mapped_column(Integer)
    length: Mapped[int] = mapped_column(Integer)
