"""Replicate: a version to another region, whole and proved; drain: out of one again."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from bathotype.core.errors import Damaged, NotFound, Refused
from bathotype.core.signing.statement import check_digest
from bathotype.core.store.manifest import ChunkIndex, Manifest
from bathotype.core.store.materialise import damaged_rows
from bathotype.core.store.region import RegionStore
from bathotype.core.store.transfer import missing_rows, transfer
from bathotype.core.units import iec, plural
from bathotype.service import audit
from bathotype.service.keys import check_signature, facts_of
from bathotype.service.operations.work import StepPlan, Work, WorkContext
from bathotype.service.records import BaseDisk, Replica, Version
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.work.basedisks import BaseDisks, remove_base_disk
from bathotype.service.work.moving import ArrivalLedger, LinkPace, forget_arrivals, patiently, sources_of
from bathotype.service.work.purge import collect_region

_MOST_REFERENCES = 12


class Replicate(Work):
    """Move what a region lacks, read every chunk back, record the replica, have its copies stand.

    Where the replica is sound already only its copies are brought to their number.
    """

    kind = "replicate"
    steps = (
        StepPlan("survey", "See what the region lacks"),
        StepPlan("move", "Move chunks", 8),
        StepPlan("read_back", "Read every chunk back", 4),
        StepPlan("record", "Record the replica"),
        StepPlan("base_disks", "Bring the base disks to their number", 4),
    )

    @property
    def _version(self) -> str:
        return str(self.context.params["version_id"])

    @property
    def _region(self) -> str:
        return str(self.context.params["region"])

    @property
    def _reference(self) -> str:
        return str(self.context.params["reference"])

    def survey(self) -> None:
        """Check the signature, and find the nearest region that has the version."""
        self._alone()
        with self.context.session() as session:
            version = session.get_one(Version, self._version)
            check_signature(session, version)
            if version.state in ("retired", "purged"):
                raise Refused(f"{self._reference} is {version.state}: it is not replicated any more.")
            replica = session.get_one(Replica, (self._version, self._region), with_for_update=CHANGE)
            if replica.state == "ready":
                self.context.remember(there=True, moved=0)
                return
            replica.state = "coming"
        source = self._source()
        self.context.remember(there=False, source=source)
        self.context.log(f"It comes from {source}.")

    def _alone(self) -> None:
        """Of two that bring one version to one region, the second waits, and finds it there."""
        self.context.lock(
            f"replica {self._version} {self._region}", why=f"Another operation changes its replica in {self._region}."
        )
        self.context.keep_chunks(self._region)

    def _source(self) -> str:
        with self.context.session() as session:
            regions = sources_of(session, self.context.reach, self._version, self._region)
        if not regions:
            raise Refused(
                f"No other region holds a sound replica of {self._reference}.",
                advice="Verify its replicas, or capture it again.",
                code="no-source",
            )
        return regions[0]

    def move(self) -> bool | None:
        """Bring what is missing; a region that is out is waited for."""
        if self.context.memo["there"]:
            return False
        self._alone()
        moved = patiently(self.context, "The transfer", self._move)
        self.context.remember(moved=moved, there=False)
        return None

    def _move(self) -> int:
        source = self._source()  # another one than before, where that was damaged meanwhile
        self.context.remember(source=source)
        self.context.keep_chunks(source)
        context, here, there = self.context, self.context.store(source), self.context.store(self._region)
        try:
            manifest = here.get_manifest(self._version)
            with context.session() as session:
                version = session.get_one(Version, self._version)
                check_digest(facts_of(session, version), manifest.content_digest)
                wanted = relatives(session, version, self._region)
            known = ChunkIndex(manifests(there, wanted))
            missing = missing_rows(manifest, known)
            context.log(f"{iec(missing.bytes)} of {iec(manifest.stored_bytes)} are missing in {self._region}.")
            pace = LinkPace(context, source, self._region)
            placed = transfer(
                manifest, here, there, known, ArrivalLedger(context, self._region),
                streams=context.settings.transfer_streams, pace=pace, progress=context.progress,
            )  # fmt: skip
        except (Damaged, NotFound) as error:
            mark_damaged(context, self._version, source, self._reference, error.message)
            context.log(f"{source}: {error.message} Another region is tried.", "warning")
            return self._move()
        pace.note()
        there.put_manifest(self._version, placed)
        self.context.log(f"{iec(pace.moved)} moved from {source}.")
        return pace.moved

    def read_back(self) -> bool | None:
        """A replica counts only when every chunk of it has been read and checked."""
        if self.context.memo["there"]:
            return False
        self._alone()
        return patiently(self.context, "Reading back", self._read_back)

    def _read_back(self) -> None:
        store = self.context.store(self._region)
        manifest = store.get_manifest(self._version)
        rows, told = damaged_rows(manifest, store, progress=self.context.progress)
        if len(rows):
            raise Damaged(
                f"{plural(len(rows), 'chunk')} did not arrive whole in {self._region}: {told[0]}",
                advice="See whether the region's store keeps what is written, then retry.",
                code="pack-damaged",
            )

    def record(self) -> None:
        """From now on it can be launched there."""
        with self.context.session() as session:
            replica = session.get_one(Replica, (self._version, self._region), with_for_update=CHANGE)
            before = replica.state
            replica.state = "ready"
            if before != "ready":
                replica.verified_at = utcnow()
                audit.record(
                    session, self.context.account_id, self.context.created_by, "version.replicated", self._reference,
                    after={"region": self._region, "from": self.context.memo["source"], "bytes": self.context.memo["moved"]},
                )  # fmt: skip

    def base_disks(self) -> bool | None:
        """Raise or lower the copies to what is wanted by now; with none, the first launch there writes one."""
        bases = BaseDisks(self.context, self._version, self._region)
        bases.lock()
        with self.context.session() as session:
            replica = session.get_one(Replica, (self._version, self._region))
        made, removed = bases.bring_to(replica.copies, multi_zone=replica.multi_zone)
        self.context.remember(made=made, removed=removed, copies=replica.copies)
        return None if made or removed else False

    def on_end(self, session: Session, outcome: str) -> None:
        forget_arrivals(session, self.context.id)
        if outcome != "succeeded":
            replica = session.get(Replica, (self._version, self._region))
            if replica is not None and replica.state == "coming":
                replica.state = "removed"

    def result(self) -> dict[str, Any]:
        memo = self.context.memo
        return {
            "reference": self._reference,
            "region": self._region,
            "from": memo.get("source"),
            "moved_bytes": memo["moved"],
            "copies": memo["copies"],
        }


def relatives(session: Session, version: Version, region: str) -> list[str]:
    """Versions in a region in which chunks of this one are likely to be: its line's nearest, and its kin."""
    here = (
        select(Version.id)
        .join(Replica)
        .where(Replica.region == region, Replica.state.in_(("ready", "draining")), Version.id != version.id)
    )
    line = here.where(Version.line_id == version.line_id)
    older, newer = Version.sort_key < version.sort_key, Version.sort_key > version.sort_key
    wanted = [
        *session.scalars(line.where(older).order_by(Version.sort_key.desc()).limit(4)),
        *session.scalars(line.where(newer).order_by(Version.sort_key).limit(4)),
    ]
    kin = [i for i in (version.parent_id, version.adopted_from_id) if i]
    wanted += session.scalars(
        here.where(
            Version.id.in_(kin)
            | Version.parent_id.in_([version.id, *kin])
            | Version.adopted_from_id.in_([version.id, *kin])
            | (Version.content_digest == version.content_digest)
        ).limit(4)
    )
    return list(dict.fromkeys(wanted))[:_MOST_REFERENCES]


def manifests(store: RegionStore, versions: list[str]) -> list[Manifest]:
    """Those of them that can be read."""
    found = []
    for version in versions:
        try:
            found.append(store.get_manifest(version))
        except (NotFound, Damaged):
            continue
    return found


def mark_damaged(context: WorkContext, version_id: str, region: str, reference: str, told: str) -> None:
    """Take a replica out of service, with an event and an alert for the line's owner."""
    with context.session() as session:
        owner = session.get_one(Version, version_id).line.account_id
        row = session.get_one(Replica, (version_id, region), with_for_update=CHANGE)
        if row.state != "damaged":
            audit.record(
                session, owner, context.created_by, "replica.damaged", reference,
                before={"state": row.state}, after={"region": region, "why": told},
            )  # fmt: skip
        row.state = "damaged"
        audit.raise_alert(session, owner, "replica-damaged", f"{reference} in {region}", told)


class Drain(Work):
    """Remove a version from a region, after what forbids it was looked for."""

    kind = "drain"
    steps = (
        StepPlan("base_disks", "Remove base disks at the site", 2),
        StepPlan("collect", "Remove chunks that nothing needs", 3),
    )

    @property
    def _version(self) -> str:
        return str(self.context.params["version_id"])

    @property
    def _region(self) -> str:
        return str(self.context.params["region"])

    def base_disks(self) -> bool | None:
        """Machines cloned of them stand on their own."""
        self.context.lock(f"replica {self._version} {self._region}")
        self.context.lock(f"base disk {self._version} {self._region}")
        with self.context.session() as session:
            rows = list(
                session.scalars(
                    select(BaseDisk).where(
                        BaseDisk.version_id == self._version,
                        BaseDisk.region == self._region,
                        BaseDisk.state != "removed",
                    )
                )
            )
        for row in rows:
            remove_base_disk(self.context, row)
        return None if rows else False

    def collect(self) -> None:
        """Captures and transfers in the region wait meanwhile."""
        self.context.lock(f"region {self._region}", why=f"Waiting for captures and transfers in {self._region} to end.")
        freed = patiently(self.context, "The drain", lambda: collect_region(self.context, self._region, self._version))
        self.context.remember(freed=freed)
        with self.context.session() as session:
            audit.record(
                session, self.context.account_id, self.context.created_by, "version.drained",
                str(self.context.params["reference"]), after={"region": self._region, "freed": freed},
            )  # fmt: skip

    def on_end(self, session: Session, outcome: str) -> None:
        if outcome != "succeeded":  # it still is there
            session.execute(
                update(Replica)
                .where(Replica.version_id == self._version, Replica.region == self._region, Replica.state == "draining")
                .values(state="ready")
            )

    def result(self) -> dict[str, Any]:
        return {
            "reference": self.context.params["reference"],
            "region": self._region,
            "freed_bytes": self.context.memo["freed"],
        }
