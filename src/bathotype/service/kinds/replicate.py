"""Replicate: bring a version to another region, whole and verified."""

from __future__ import annotations

from typing import Any

from sqlalchemy.orm import Session

from bathotype.core.errors import Damaged, NotFound, Refused
from bathotype.core.signing.statement import check_digest
from bathotype.core.store.materialise import damaged_rows
from bathotype.core.store.transfer import missing_rows, transfer
from bathotype.core.units import iec, plural
from bathotype.service import audit
from bathotype.service.chunks import RegionChunks, add_version
from bathotype.service.kinds.basedisks import BaseDisks
from bathotype.service.kinds.transfers import ArrivalLedger, LinkPace, forget_arrivals, patiently, sources_of
from bathotype.service.operations.context import WorkContext
from bathotype.service.operations.kind import Kind, Memo, Params, Step
from bathotype.service.records import Replica, Version
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.signatures import check_signature, facts_of


class ReplicaParams(Params):
    """A version in a region."""

    version_id: str
    reference: str
    region: str


class ReplicateMemo(Memo):
    """``there`` says that the replica was sound already; bytes moved, and the base disks made and removed."""

    there: bool = False
    source: str | None = None
    moved: int = 0
    made: int = 0
    removed: int = 0
    copies: int = 0


class Replicate(Kind[ReplicaParams, ReplicateMemo]):
    """Move what a region lacks, read every chunk back, record the replica, bring its base disks to their number.

    Where the replica is sound already, only the number of base disks is changed.
    """

    name = "replicate"
    params_type, memo_type = ReplicaParams, ReplicateMemo
    steps = (
        Step("survey", "Find what the region lacks"),
        Step("move", "Move chunks", 8),
        Step("read_back", "Read every chunk back", 4),
        Step("record", "Record the replica"),
        Step("base_disks", "Add or remove base disks", 4),
    )

    def survey(self) -> None:
        """Check the signature, and find the nearest region that has the version."""
        self._alone()
        with self.context.session() as session:
            version = session.get_one(Version, self.params.version_id)
            check_signature(session, version)
            if version.state in ("retired", "purged"):
                raise Refused(f"{self.params.reference} is {version.state}: it is not replicated any more.")
            replica = session.get_one(Replica, (self.params.version_id, self.params.region), with_for_update=CHANGE)
            if replica.state == "ready":
                self.memo.there = True
                self.save()
                return
            replica.state = "coming"
        source = self._source()
        self.memo.there, self.memo.source = False, source
        self.save()
        self.context.log(f"It comes from {source}.")

    def _alone(self) -> None:
        """If two operations replicate one version to one region, the second waits for the first."""
        self.context.lock(
            f"replica {self.params.version_id} {self.params.region}",
            why=f"Another operation changes its replica in {self.params.region}.",
        )
        self.context.keep_chunks(self.params.region)

    def _source(self) -> str:
        with self.context.session() as session:
            regions = sources_of(session, self.context.reach, self.params.version_id, self.params.region)
        if not regions:
            raise Refused(
                f"No other region holds a sound replica of {self.params.reference}.",
                advice="Verify its replicas, or capture it again.",
                code="no-source",
            )
        return regions[0]

    def move(self) -> bool | None:
        """Move the missing chunks; wait for a region that cannot be reached."""
        if self.memo.there:
            return False
        self._alone()
        moved = patiently(self.context, "The transfer", self._move)
        self.memo.moved = moved
        self.save()
        return None

    def _move(self) -> int:
        source = self._source()  # another one than before, where that was damaged meanwhile
        self.memo.source = source
        self.save()
        self.context.keep_chunks(source)
        context, here, there = self.context, self.context.store(source), self.context.store(self.params.region)
        try:
            manifest = here.get_manifest(self.params.version_id)
            with context.session() as session:
                version = session.get_one(Version, self.params.version_id)
                check_digest(facts_of(session, version), manifest.content_digest)
            known = RegionChunks(context.database, self.params.region)
            missing = missing_rows(manifest, known)
            context.log(f"{iec(missing.bytes)} of {iec(manifest.stored_bytes)} are missing in {self.params.region}.")
            pace = LinkPace(context, source, self.params.region)
            placed = transfer(
                manifest, here, there, known, ArrivalLedger(context, self.params.region),
                streams=context.settings.transfer_streams, pace=pace, progress=context.progress,
            )  # fmt: skip
        except (Damaged, NotFound) as error:
            mark_damaged(context, self.params.version_id, source, self.params.reference, error.message)
            context.log(f"{source}: {error.message} Another region is tried.", "warning")
            return self._move()
        pace.note()
        there.put_manifest(self.params.version_id, placed)
        self.context.log(f"{iec(pace.moved)} moved from {source}.")
        return pace.moved

    def read_back(self) -> bool | None:
        """A replica counts only when every chunk of it has been read and checked."""
        if self.memo.there:
            return False
        self._alone()
        patiently(self.context, "Reading back", self._read_back)
        return None

    def _read_back(self) -> None:
        store = self.context.store(self.params.region)
        manifest = store.get_manifest(self.params.version_id)
        rows, problems = damaged_rows(manifest, store, progress=self.context.progress)
        if len(rows):
            raise Damaged(
                f"{plural(len(rows), 'chunk')} arrived damaged in {self.params.region}: {problems[0]}",
                advice="See whether the region's store keeps what is written, then retry.",
                code="pack-damaged",
            )

    def record(self) -> None:
        """Mark the replica as ready, so that it can be launched there."""
        with self.context.session() as session:
            replica = session.get_one(Replica, (self.params.version_id, self.params.region), with_for_update=CHANGE)
            before = replica.state
            replica.state = "ready"
            if before != "ready":
                replica.verified_at = utcnow()
                audit.record(
                    session, self.context.account_id, self.context.created_by, "version.replicated", self.params.reference,
                    after={"region": self.params.region, "from": self.memo.source, "bytes": self.memo.moved},
                )  # fmt: skip
        self._alone()
        manifest = self.context.store(self.params.region).get_manifest(self.params.version_id)
        add_version(self.context.database, self.params.region, self.params.version_id, manifest)

    def base_disks(self) -> bool | None:
        """Make or remove copies until there are as many as wanted; with none, the first launch there writes one."""
        bases = BaseDisks(self.context, self.params.version_id, self.params.region)
        bases.lock()
        with self.context.session() as session:
            replica = session.get_one(Replica, (self.params.version_id, self.params.region))
        made, removed = bases.bring_to(replica.copies, multi_zone=replica.multi_zone)
        self.memo.made, self.memo.removed, self.memo.copies = made, removed, replica.copies
        self.save()
        return None if made or removed else False

    def on_end(self, session: Session, outcome: str) -> None:
        forget_arrivals(session, self.context.id)
        if outcome != "succeeded":
            replica = session.get(Replica, (self.params.version_id, self.params.region))
            if replica is not None and replica.state == "coming":
                replica.state = "removed"

    def result(self) -> dict[str, Any]:
        return {
            "reference": self.params.reference,
            "region": self.params.region,
            "from": self.memo.source,
            "moved_bytes": self.memo.moved,
            "copies": self.memo.copies,
        }


def mark_damaged(context: WorkContext, version_id: str, region: str, reference: str, why: str) -> None:
    """Take a replica out of service, with an event and an alert for the line's owner."""
    with context.session() as session:
        owner = session.get_one(Version, version_id).line.account_id
        row = session.get_one(Replica, (version_id, region), with_for_update=CHANGE)
        if row.state != "damaged":
            audit.record(
                session, owner, context.created_by, "replica.damaged", reference,
                before={"state": row.state}, after={"region": region, "why": why},
            )  # fmt: skip
        row.state = "damaged"
        audit.raise_alert(session, owner, "replica-damaged", f"{reference} in {region}", why)
