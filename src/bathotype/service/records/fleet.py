"""Instances, identities and saved first-boot settings."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index, String, literal_column, text
from sqlalchemy.orm import Mapped, mapped_column

from bathotype.service.records.base import Base, utcnow

#: States in which an instance counts as running, which prevents a purge.
PRESENT = ("pending", "starting", "running", "stopped", "lost")
_PRESENT = f"state in {PRESENT}"


class Instance(Base):
    """A machine made from a version; ``site_machine`` is the site's id once it exists.

    ``acted_at`` is when this service last started or changed it, by the database's clock: what a site reported before that is outdated.
    """

    __tablename__ = "instances"
    __table_args__ = (
        Index("ix_instances_version_id_state", "version_id", "state"),
        Index("ix_instances_account_id_id", "account_id", "id"),
        Index("ix_instances_account_id_version_id_state", "account_id", "version_id", "state"),
        # What runs a version, and how many.
        Index("ix_instances_present", "version_id", "account_id", postgresql_where=text(_PRESENT)),
        # The site's order of machines, for the reconciler.
        Index("ix_instances_account_id_region_site_machine", "account_id", "region", "site_machine"),
    )

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    account_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"))
    version_id: Mapped[str] = mapped_column(ForeignKey("versions.id"))
    operation_id: Mapped[str | None] = mapped_column(ForeignKey("operations.id"), index=True)
    name: Mapped[str]
    region: Mapped[str]
    zone: Mapped[str] = mapped_column(default="")
    machine_size: Mapped[str] = mapped_column("size", default="small")
    state: Mapped[str] = mapped_column(default="pending")
    origin: Mapped[str] = mapped_column(default="launched")
    site_machine: Mapped[str | None] = mapped_column(String(collation="C"), index=True)
    address: Mapped[str | None]
    host_name: Mapped[str] = mapped_column(default="")
    first_boot: Mapped[dict[str, Any]] = mapped_column(default=dict)
    identity: Mapped[dict[str, Any]] = mapped_column(default=dict)
    reason: Mapped[str | None]
    differences: Mapped[list[Any]] = mapped_column(default=list)  # from its first-boot settings, as sentences
    disks: Mapped[list[Any]] = mapped_column(
        default=list
    )  # role, bytes, grown_from, kept, and disk: its id at the site
    attach: Mapped[dict[str, Any]] = mapped_column(
        default=dict
    )  # asked for; then subnet, firewalls, public_address as they are
    launched_at: Mapped[datetime] = mapped_column(default=utcnow)
    seen_at: Mapped[datetime | None]
    asked_at: Mapped[datetime | None]
    acted_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]


#: Whether an instance is in one of these states; written out, so that PostgreSQL knows the index that holds them alone.
IS_PRESENT = Instance.state.in_([literal_column(f"'{state}'") for state in PRESENT])


class Identity(Base):
    """What a machine's agent reported as its identity: one value of one kind, held by one machine."""

    __tablename__ = "identities"
    __table_args__ = (Index("ix_identities_kind_value", "kind", "value"),)

    site_machine: Mapped[str] = mapped_column(primary_key=True)
    kind: Mapped[str] = mapped_column(primary_key=True)
    value: Mapped[str] = mapped_column(primary_key=True)
    account_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"))
    machine_name: Mapped[str]
    region: Mapped[str]
    seen_at: Mapped[datetime] = mapped_column(default=utcnow)


class FirstBootSet(Base):
    """First-boot settings saved under a name."""

    __tablename__ = "first_boot_sets"

    account_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"), primary_key=True)
    name: Mapped[str] = mapped_column(primary_key=True)
    settings: Mapped[dict[str, Any]]
