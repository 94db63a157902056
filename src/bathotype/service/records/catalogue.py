"""The catalogue: lines, versions, their contents, and where their bytes are."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from sqlalchemy import ForeignKey, Identity, Index, String, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column, relationship

from bathotype.service.records.base import Base, utcnow
from bathotype.wire.versions import Severity


class Line(Base):
    """A named, owned sequence of versions."""

    __tablename__ = "lines"
    __table_args__ = (UniqueConstraint("account_id", "name"),)

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    account_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"))
    name: Mapped[str]
    about: Mapped[str] = mapped_column(default="")
    demands: Mapped[Severity] = mapped_column(String, default="high")  # findings from this severity on block a release
    proven_first: Mapped[bool] = mapped_column(
        default=False
    )  # whether the last checks must have passed before a release
    created_at: Mapped[datetime] = mapped_column(default=utcnow)


class NumberClaim(Base):
    """A number that a capture in progress will use: of two captures for one number the database picks one."""

    __tablename__ = "number_claims"

    line_id: Mapped[str] = mapped_column(ForeignKey("lines.id"), primary_key=True)
    number: Mapped[str] = mapped_column(primary_key=True)
    operation_id: Mapped[str] = mapped_column(ForeignKey("operations.id"), index=True)


class Version(Base):
    """One version.  ``sort_key`` orders numbers as Semantic Versioning does; ``digest``, number and sizes never change."""

    __tablename__ = "versions"
    __table_args__ = (
        UniqueConstraint("line_id", "number"),
        Index("ix_versions_line_id_state_sort_key", "line_id", "state", "sort_key"),
        # What a bare line may mean: how far a version is behind is counted in here alone.
        Index(
            "ix_versions_offered",
            "line_id",
            "sort_key",
            postgresql_where=text("state = 'released' and not pin_only"),
            postgresql_include=["number"],
        ),
    )

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    line_id: Mapped[str] = mapped_column(ForeignKey("lines.id"))
    number: Mapped[str]
    sort_key: Mapped[str] = mapped_column(String(collation="C"))
    state: Mapped[str] = mapped_column(default="staged")
    pin_only: Mapped[bool] = mapped_column(default=False)
    notes: Mapped[str] = mapped_column(default="")
    content_digest: Mapped[str]
    virtual_bytes: Mapped[int]
    disks: Mapped[list[Any]]  # role, bytes, used_bytes, holds, digest of each, the boot disk first
    used_bytes: Mapped[int]
    stored_bytes: Mapped[int]
    new_bytes: Mapped[int]
    mode: Mapped[str]
    source: Mapped[dict[str, Any]]
    parent_id: Mapped[str | None] = mapped_column(ForeignKey("versions.id"), index=True)
    adopted_from_id: Mapped[str | None] = mapped_column(ForeignKey("versions.id"), index=True)
    signature: Mapped[dict[str, Any] | None]
    profile: Mapped[dict[str, Any] | None]
    steps: Mapped[list[Any]]
    contents: Mapped[dict[str, Any]]
    purpose: Mapped[dict[str, Any]] = mapped_column(default=dict)
    proof: Mapped[dict[str, Any] | None]
    operation_id: Mapped[str] = mapped_column(ForeignKey("operations.id"), unique=True)
    sunset_on: Mapped[date | None]
    retire_on: Mapped[date | None]
    created_at: Mapped[datetime] = mapped_column(default=utcnow)
    released_at: Mapped[datetime | None]
    retired_at: Mapped[datetime | None]
    purged_at: Mapped[datetime | None]

    line: Mapped[Line] = relationship(lazy="joined", innerjoin=True)


class VersionPackage(Base):
    """One package in one version: package → versions is an index look-up."""

    __tablename__ = "version_packages"
    __table_args__ = (Index("ix_version_packages_name", "name"),)

    version_id: Mapped[str] = mapped_column(ForeignKey("versions.id", ondelete="CASCADE"), primary_key=True)
    name: Mapped[str] = mapped_column(primary_key=True)
    architecture: Mapped[str] = mapped_column(primary_key=True)
    version: Mapped[str] = mapped_column(primary_key=True)
    manager: Mapped[str]


class Finding(Base):
    """One finding of a version's residue scan, and who accepted it why."""

    __tablename__ = "findings"

    version_id: Mapped[str] = mapped_column(ForeignKey("versions.id", ondelete="CASCADE"), primary_key=True)
    name: Mapped[str] = mapped_column(primary_key=True)
    position: Mapped[int]
    rule: Mapped[str]
    severity: Mapped[Severity] = mapped_column(String)
    path: Mapped[str]
    line: Mapped[int]
    excerpt: Mapped[str]
    advice: Mapped[str]
    accepted_by: Mapped[str | None]
    accepted_reason: Mapped[str | None]
    accepted_at: Mapped[datetime | None]


class Replica(Base):
    """A version's chunks in a region; its manifest lies in the region's store under the version's id."""

    __tablename__ = "replicas"

    version_id: Mapped[str] = mapped_column(ForeignKey("versions.id"), primary_key=True)
    region: Mapped[str] = mapped_column(primary_key=True)
    state: Mapped[str] = mapped_column(default="ready")  # coming | ready | damaged | draining | removed
    copies: Mapped[int] = mapped_column(default=0)  # wanted number of launch-ready base disks; launches make the first
    multi_zone: Mapped[bool] = mapped_column(default=False)
    verified_at: Mapped[datetime | None]
    indexed: Mapped[bool] = mapped_column(default=False)  # whether the index of chunks lists all of it


class Upload(Base):
    """A file that a client is bringing in, in parts that lie in a region's store until it is imported."""

    __tablename__ = "uploads"

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    account_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"), index=True)
    region: Mapped[str]
    name: Mapped[str]
    size: Mapped[int]
    part_bytes: Mapped[int]
    created_at: Mapped[datetime] = mapped_column(default=utcnow)


class ExportDigest(Base):
    """Size and digest of a version as a file of one format; known after the first export, and always the same."""

    __tablename__ = "export_digests"

    version_id: Mapped[str] = mapped_column(ForeignKey("versions.id", ondelete="CASCADE"), primary_key=True)
    format: Mapped[str] = mapped_column(primary_key=True)
    size: Mapped[int]
    sha256: Mapped[str]


class Checkpoint(Base):
    """Where the site began to note a machine's changes: at the snapshot that a version was captured from."""

    __tablename__ = "checkpoints"

    account_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"), primary_key=True)
    machine_id: Mapped[str] = mapped_column(primary_key=True)
    region: Mapped[str]
    site_snapshot: Mapped[str]
    version_id: Mapped[str] = mapped_column(ForeignKey("versions.id"), index=True)
    noted_at: Mapped[datetime] = mapped_column(default=utcnow, onupdate=utcnow)


class BaseDisk(Base):
    """A launch-ready disk of a version at a region's site, in the account that owns the version's line."""

    __tablename__ = "base_disks"

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    version_id: Mapped[str] = mapped_column(ForeignKey("versions.id"), index=True)
    account_id: Mapped[str] = mapped_column(ForeignKey("accounts.id"))
    region: Mapped[str]
    zone: Mapped[str] = mapped_column(default="")
    site_disk: Mapped[str | None] = mapped_column(index=True)
    data_disks: Mapped[list[Any]] = mapped_column(default=list)  # those of data disks at the site, in order
    state: Mapped[str]  # building | ready | removed
    launching: Mapped[int] = mapped_column(default=0)  # machines being made from it just now
    granted_to: Mapped[list[Any]] = mapped_column(default=list)  # names of other accounts that may launch from it
    created_at: Mapped[datetime] = mapped_column(default=utcnow)

    @property
    def all_disks(self) -> list[str]:
        """Ids at the site: the boot disk's, then those of data disks."""
        return [str(self.site_disk), *self.data_disks]


class Mark(Base):
    """A movable name on a line."""

    __tablename__ = "marks"

    line_id: Mapped[str] = mapped_column(ForeignKey("lines.id"), primary_key=True)
    name: Mapped[str] = mapped_column(primary_key=True)
    version_id: Mapped[str] = mapped_column(ForeignKey("versions.id"), index=True)


class MarkMove(Base):
    """One move of a mark."""

    __tablename__ = "mark_moves"
    __table_args__ = (Index("ix_mark_moves_line_id_name", "line_id", "name"),)

    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    line_id: Mapped[str] = mapped_column(ForeignKey("lines.id"))
    name: Mapped[str]
    number: Mapped[str]
    moved_by: Mapped[str]
    moved_at: Mapped[datetime] = mapped_column(default=utcnow)


class Hold(Base):
    """A named reason that forbids purging a version."""

    __tablename__ = "holds"

    version_id: Mapped[str] = mapped_column(ForeignKey("versions.id"), primary_key=True)
    name: Mapped[str] = mapped_column(primary_key=True)
    reason: Mapped[str]
    placed_by: Mapped[str]
    placed_at: Mapped[datetime] = mapped_column(default=utcnow)
