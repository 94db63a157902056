"""Placements: the regions where versions are kept; and transfers under way."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ForeignKey, LargeBinary
from sqlalchemy.orm import Mapped, mapped_column

from bathotype.service.records.base import Base, utcnow


class Placement(Base):
    """A region in which a line's released versions are kept, with so many copies; or one that they leave as
    soon as each is in the regions of the placement."""

    __tablename__ = "placements"

    line_id: Mapped[str] = mapped_column(ForeignKey("lines.id"), primary_key=True)
    region: Mapped[str] = mapped_column(primary_key=True)
    copies: Mapped[int] = mapped_column(default=1)
    multi_zone: Mapped[bool] = mapped_column(default=False)
    leaving: Mapped[bool] = mapped_column(default=False)
    position: Mapped[int] = mapped_column(default=0)  # as they were named
    set_by: Mapped[str] = mapped_column(default="")
    set_at: Mapped[datetime] = mapped_column(default=utcnow)


class Arrival(Base):
    """A chunk on its way to a region, claimed by one operation; ``pack`` is set once it has arrived.

    Of two operations that want one chunk the second waits for the first; after a crash nothing that arrived is moved
    again.  An operation's rows go when it ends.
    """

    __tablename__ = "arrivals"

    region: Mapped[str] = mapped_column(primary_key=True)
    digest: Mapped[bytes] = mapped_column(LargeBinary, primary_key=True)
    operation_id: Mapped[str] = mapped_column(ForeignKey("operations.id", ondelete="CASCADE"), index=True)
    pack: Mapped[str | None]
    offset: Mapped[int] = mapped_column(default=0)
    length: Mapped[int] = mapped_column(default=0)


class Link(Base):
    """The line between two regions: when it is free again (for its bandwidth limit), and what it did lately."""

    __tablename__ = "links"

    source: Mapped[str] = mapped_column(primary_key=True)
    target: Mapped[str] = mapped_column(primary_key=True)
    free_at: Mapped[datetime] = mapped_column(default=utcnow)
    bytes_moved: Mapped[int] = mapped_column(default=0)
    rate: Mapped[float | None]  # bytes a second, of the last transfers
