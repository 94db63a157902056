"""Verify: read every chunk of a version in a region and check it."""

from __future__ import annotations

from typing import Any

from sqlalchemy import update

from bathotype.core.errors import Damaged
from bathotype.core.store.materialise import verify
from bathotype.service import audit
from bathotype.service.operations.work import StepPlan, Work
from bathotype.service.records import Replica
from bathotype.service.records.base import utcnow


class Verify(Work):
    """A damaged replica is named, taken out of service and alerted; a sound one is put back."""

    kind = "verify"
    steps = (StepPlan("read", "Read and check every chunk"),)

    def read(self) -> None:
        """Go through the whole version."""
        params = self.context.params
        region, version = params["region"], params["version_id"]
        subject = f"{params['reference']} in {region}"
        self.context.keep_chunks(region)
        store = self.context.store(region)
        found: list[Damaged] = []
        try:
            manifest = store.get_manifest(version)
            found = verify(manifest, store, progress=self.context.progress)
        except Damaged as error:
            found = [error]
        with self.context.session() as session:
            session.execute(
                update(Replica)
                .where(Replica.version_id == version, Replica.region == region)
                .values(state="damaged" if found else "ready", verified_at=utcnow())
            )
            if found:
                told = " ".join(error.message for error in found)
                audit.raise_alert(session, self.context.account_id, "replica-damaged", subject, told)
            else:
                audit.clear_alert(session, self.context.account_id, "replica-damaged", subject)
        if found:
            raise Damaged(found[0].message, advice=found[0].advice, code="pack-damaged")
        self.context.remember(chunks=len(manifest))

    def result(self) -> dict[str, Any]:
        return {"reference": self.context.params["reference"], "chunks": self.context.memo["chunks"]}
