"""Counts of instances over time."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ForeignKey
from sqlalchemy.orm import Mapped, mapped_column

from bathotype.service.records.base import Base


class CountSample(Base):
    """A moment at which all instances were counted; without it a count of none would look like no count."""

    __tablename__ = "count_samples"

    at: Mapped[datetime] = mapped_column(primary_key=True)


class InstanceCount(Base):
    """How many instances of a version an account had in a region, in one state, at the moment of a sample."""

    __tablename__ = "instance_counts"

    version_id: Mapped[str] = mapped_column(ForeignKey("versions.id"), primary_key=True)
    at: Mapped[datetime] = mapped_column(
        ForeignKey("count_samples.at", ondelete="CASCADE"), primary_key=True, index=True
    )
    account_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"), primary_key=True)
    region: Mapped[str] = mapped_column(primary_key=True)
    state: Mapped[str] = mapped_column(primary_key=True)
    count: Mapped[int]
