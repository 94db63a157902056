"""The stand-in's own database."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

from sqlalchemy import JSON, BigInteger, DateTime, ForeignKey, LargeBinary, String, Text, UniqueConstraint
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


class Base(DeclarativeBase):
    """All tables of the stand-in."""


def now() -> datetime:
    """The present, in UTC."""
    return datetime.now(UTC)


class Disk(Base):
    """A disk, a snapshot of one, or a sealed base disk: one file.

    ``format`` is ``raw``, ``qcow2``, or ``fleece`` for a snapshot that the QEMU process of ``held_by`` holds.  A disk
    of kind ``gone`` was deleted, but its file is what others build upon (``backing``).
    """

    __tablename__ = "disks"
    __table_args__ = (UniqueConstraint("account", "client_key"),)

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    account: Mapped[str]
    region: Mapped[str]
    zone: Mapped[str] = mapped_column(default="")
    name: Mapped[str]
    kind: Mapped[str]  # disk | snapshot | base | gone
    backing: Mapped[str | None] = mapped_column(index=True)
    held_by: Mapped[str | None]
    bitmap: Mapped[str | None]
    format: Mapped[str] = mapped_column(default="raw")
    size: Mapped[int] = mapped_column(BigInteger)
    file: Mapped[str]
    source_disk: Mapped[str | None]
    tags: Mapped[dict[str, str]] = mapped_column(JSON, default=dict)
    client_key: Mapped[str | None]
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), default=now)


class DiskGrant(Base):
    """Another account that may make machines from a base disk."""

    __tablename__ = "disk_grants"

    disk_id: Mapped[str] = mapped_column(ForeignKey("disks.id", ondelete="CASCADE"), primary_key=True)
    account: Mapped[str] = mapped_column(primary_key=True)


class Machine(Base):
    """A virtual machine; ``body`` says what plays it: ``modelled`` (this process) or ``qemu``."""

    __tablename__ = "machines"
    __table_args__ = (UniqueConstraint("account", "client_key"),)

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    account: Mapped[str]
    region: Mapped[str]
    zone: Mapped[str]
    name: Mapped[str]
    size: Mapped[str]
    body: Mapped[str] = mapped_column(default="modelled")
    state: Mapped[str]  # running | stopped
    address: Mapped[str]
    mac: Mapped[str]
    tags: Mapped[dict[str, str]] = mapped_column(JSON, default=dict)
    created_from: Mapped[str | None]
    seed: Mapped[bytes | None] = mapped_column(LargeBinary)
    guest: Mapped[dict[str, Any]] = mapped_column(JSON, default=dict)
    console: Mapped[str] = mapped_column(Text, default="")
    client_key: Mapped[str | None]
    subnet: Mapped[str] = mapped_column(default="")  # empty for an isolated machine
    firewalls: Mapped[list[str]] = mapped_column(JSON, default=list)
    public_address: Mapped[str | None]
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), default=now)


class Attachment(Base):
    """A disk in a machine; position 0 is the one it boots from."""

    __tablename__ = "attachments"

    disk_id: Mapped[str] = mapped_column(ForeignKey("disks.id"), primary_key=True)
    machine_id: Mapped[str] = mapped_column(ForeignKey("machines.id", ondelete="CASCADE"), index=True)
    position: Mapped[int]


class Export(Base):
    """A disk offered over NBD by a ``qemu-nbd`` process, or by the QEMU process of the machine ``served_by``."""

    __tablename__ = "exports"

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    account: Mapped[str]
    disk_id: Mapped[str] = mapped_column(ForeignKey("disks.id", ondelete="CASCADE"))
    port: Mapped[int]
    name: Mapped[str]
    writable: Mapped[bool]
    served_by: Mapped[str | None]
    changes: Mapped[str | None]
    client_key: Mapped[str | None]


class Fault(Base):
    """A fault that was asked for."""

    __tablename__ = "faults"

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    kind: Mapped[str]
    target: Mapped[str] = mapped_column(default="")
    count: Mapped[int] = mapped_column(default=1)
    seconds: Mapped[float] = mapped_column(default=0.0)
    status: Mapped[int] = mapped_column(default=500)
