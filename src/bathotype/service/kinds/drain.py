"""Drain: remove a version from a region, once nothing there needs it."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from bathotype.service import audit
from bathotype.service.kinds.basedisks import remove_base_disk
from bathotype.service.kinds.purge import collect_region
from bathotype.service.kinds.replicate import ReplicaParams
from bathotype.service.kinds.transfers import patiently
from bathotype.service.operations.kind import Kind, Memo, Step
from bathotype.service.records import BaseDisk, Replica


class DrainParams(ReplicaParams):
    """``was`` is the replica's state before: it is that again where the drain fails."""

    was: str = "ready"


class DrainMemo(Memo):
    """Bytes freed."""

    freed: int = 0


class Drain(Kind[DrainParams, DrainMemo]):
    """The caller has checked that nothing forbids it; the replica's state is ``draining``."""

    name = "drain"
    params_type, memo_type = DrainParams, DrainMemo
    steps = (
        Step("base_disks", "Remove base disks at the site", 2),
        Step("collect", "Remove chunks that nothing needs", 3),
    )

    def base_disks(self) -> bool | None:
        """Remove them; machines that were cloned from them have disks of their own."""
        version, region = self.params.version_id, self.params.region
        self.context.lock(f"replica {version} {region}")
        self.context.lock(f"base disk {version} {region}")
        with self.context.session() as session:
            rows = session.scalars(
                select(BaseDisk).where(
                    BaseDisk.version_id == version, BaseDisk.region == region, BaseDisk.state != "removed"
                )
            ).all()
        for row in rows:
            remove_base_disk(self.context, row)
        return None if rows else False

    def collect(self) -> None:
        """Captures and transfers in the region wait meanwhile."""
        region = self.params.region
        self.context.lock(f"region {region}", why=f"Waiting for captures and transfers in {region} to end.")
        self.memo.freed = patiently(
            self.context, "The drain", lambda: collect_region(self.context, region, self.params.version_id)
        )
        self.save()
        with self.context.session() as session:
            audit.record(
                session, self.context.account_id, self.context.created_by, "version.drained", self.params.reference,
                after={"region": region, "freed": self.memo.freed},
            )  # fmt: skip

    def on_end(self, session: Session, outcome: str) -> None:
        if outcome != "succeeded":  # it is still there
            session.execute(
                update(Replica)
                .where(
                    Replica.version_id == self.params.version_id,
                    Replica.region == self.params.region,
                    Replica.state == "draining",
                )
                .values(state=self.params.was)
            )

    def result(self) -> dict[str, Any]:
        return {
            "reference": self.params.reference,
            "region": self.params.region,
            "freed_bytes": self.memo.freed,
        }
