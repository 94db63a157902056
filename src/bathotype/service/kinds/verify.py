"""Verify: read every chunk of a version in a region, and heal what is damaged from another region."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import numpy as np
from pydantic import AliasChoices, Field
from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.errors import Damaged, NotFound
from bathotype.core.store.manifest import ChunkIndex, Indices, Manifest
from bathotype.core.store.materialise import damaged_rows
from bathotype.core.store.region import RegionStore
from bathotype.core.store.transfer import moved_places, transfer
from bathotype.core.units import plural
from bathotype.service import audit
from bathotype.service.chunks import add_chunks, forget_chunks
from bathotype.service.kinds.replicate import ReplicaParams, mark_damaged
from bathotype.service.kinds.transfers import ArrivalLedger, LinkPace, forget_arrivals, sources_of
from bathotype.service.operations.kind import Kind, Memo, Step
from bathotype.service.operations.start import start_operation, unattended_principal
from bathotype.service.records import Line, Replica, Version
from bathotype.service.records.base import CHANGE, utcnow


class VerifyMemo(Memo):
    """Chunks read, rows that are damaged, what is wrong, and what was healed from where."""

    chunks: int = 0
    bad: list[int] = []
    problems: list[str] = Field(default=[], validation_alias=AliasChoices("problems", "told"))  # "told" until 0.1
    healed: int = 0
    healed_from: str | None = None


class Verify(Kind[ReplicaParams, VerifyMemo]):
    """A damaged replica is taken out of service and an alert is raised; a sound or a healed one is put back."""

    name = "verify"
    params_type, memo_type = ReplicaParams, VerifyMemo
    steps = (
        Step("read", "Read and check every chunk", 4),
        Step("heal", "Heal what is damaged from another region", 2, restart_from="read"),
    )

    @property
    def _subject(self) -> str:
        return f"{self.params.reference} in {self.params.region}"

    @property
    def _store(self) -> RegionStore:
        return self.context.store(self.params.region)

    def read(self) -> None:
        """Read and check every chunk of the version."""
        self.context.keep_chunks(self.params.region)
        bad, problems, count = self._look()
        if not problems:
            self._sound()
        else:
            mark_damaged(
                self.context, self.params.version_id, self.params.region, self.params.reference, " ".join(problems)
            )
            self.context.log(f"{plural(len(bad), 'chunk')} damaged: {problems[0]}", "error")
            self._forget(bad)
            self._mark_others(bad)
        self.memo.chunks, self.memo.bad, self.memo.problems = count, bad, problems
        self.save()

    def _look(self) -> tuple[list[int], list[str], int]:
        try:
            manifest = self._store.get_manifest(self.params.version_id)
        except (Damaged, NotFound) as error:
            return [], [error.message], 0
        rows, problems = damaged_rows(manifest, self._store, progress=self.context.progress)
        return rows.tolist(), problems, len(manifest)

    def _forget(self, bad: list[int]) -> None:
        """Damaged chunks must not count as stored."""
        if bad:
            digests = self._store.get_manifest(self.params.version_id).digests[bad]
            forget_chunks(self.context.database, self.params.region, (digest.tobytes() for digest in digests))

    def _mark_others(self, bad: list[int]) -> None:
        """Other versions here that have their chunks in the same damaged places."""
        if not bad:
            return
        manifest = self._store.get_manifest(self.params.version_id)
        places = {(manifest.packs[int(manifest.pack[row])], int(manifest.offset[row])) for row in bad}
        names = {pack for pack, _ in places}
        for version, reference, other in self._others():
            for number in [n for n, name in enumerate(other.packs) if name in names]:
                offsets = other.offset[other.pack == number].tolist()
                if any((other.packs[number], offset) in places for offset in offsets):
                    why = f"It shares damaged chunks with {self.params.reference}."
                    mark_damaged(self.context, version, self.params.region, reference, why)
                    break

    def _others(self) -> Iterator[tuple[str, str, Manifest]]:
        """Id, reference and manifest of every other version in the region whose manifest can be read."""
        with self.context.session() as session:
            rows = session.execute(
                select(Version.id, Line.name + "@" + Version.number)
                .join(Line, Line.id == Version.line_id)
                .join(Replica, Replica.version_id == Version.id)
                .where(
                    Replica.region == self.params.region,
                    Replica.version_id != self.params.version_id,
                    Replica.state.not_in(("removed", "coming")),
                )
            ).all()
        for version, reference in rows:
            try:
                yield version, reference, self._store.get_manifest(version)
            except (Damaged, NotFound):
                continue

    def _sound(self) -> None:
        with self.context.session() as session:
            row = session.get_one(Replica, (self.params.version_id, self.params.region), with_for_update=CHANGE)
            row.verified_at = utcnow()
            if row.state == "damaged":
                row.state = "ready"
            owner = session.get_one(Version, self.params.version_id).line.account_id
            audit.clear_alert(session, owner, "replica-damaged", self._subject)

    def heal(self) -> bool | None:
        """Fetch the damaged chunks again, for every version of the region that contains them."""
        problems = self.memo.problems
        if not problems:
            return False
        with self.context.session() as session:
            regions = sources_of(session, self.context.reach, self.params.version_id, self.params.region)
        if not regions:
            raise Damaged(
                problems[0],
                advice="No other region has it: restore the pack from a copy of the store, or capture the machine again.",
                code="pack-damaged",
            )
        # Alone in the region: manifests are rewritten, and a launch must not read half of that.
        self.context.unlock(f"region {self.params.region}")
        self.context.lock(f"region {self.params.region}", why=f"Waiting for work in {self.params.region} to end.")
        count = self._heal_from(regions[0])
        _, still, _ = self._look()
        if still:
            raise Damaged(still[0], advice="See whether the region's store keeps what is written.", code="pack-damaged")
        self._sound()
        with self.context.session() as session:
            owner = session.get_one(Version, self.params.version_id).line.account_id
            audit.record(
                session, owner, self.context.created_by, "replica.healed", self.params.reference,
                after={"region": self.params.region, "from": regions[0], "chunks": count},
            )  # fmt: skip
        self.memo.healed, self.memo.healed_from = count, regions[0]
        self.save()
        return None

    def _heal_from(self, source: str) -> int:
        here = self.context.store(source)
        whole = here.get_manifest(self.params.version_id)
        try:
            held = self._store.get_manifest(self.params.version_id)
        except (Damaged, NotFound):
            held = replace(whole.only(np.empty(0, np.int64)), packs=())  # it went with its manifest: nothing is known
        bad = np.array(self.memo.bad, np.int64)
        good = np.setdiff1d(np.arange(len(held)), bad)
        healed = transfer(
            whole, here, self._store, ChunkIndex([held.only(good)]), ArrivalLedger(self.context, self.params.region),
            pace=LinkPace(self.context, source, self.params.region), progress=self.context.progress,
        )  # fmt: skip
        self._store.put_manifest(self.params.version_id, healed)
        add_chunks(self.context.database, self.params.region, healed)
        if len(bad):
            self._heal_others(healed, bad)
        return len(healed) - len(good)

    def _heal_others(self, healed: Manifest, rows: Indices) -> None:
        """Other versions here that have the same chunks in the same damaged places; each is verified by itself then."""
        again = []
        for version, reference, other in self._others():
            moved = moved_places(other, healed, rows)
            if moved is not None:
                self._store.put_manifest(version, moved)
                again.append((version, reference))
        with self.context.session() as session:
            for version, reference in again:
                row = session.get_one(Version, version)
                params = ReplicaParams(version_id=version, reference=reference, region=self.params.region)
                principal = unattended_principal(session, row.line.account_id, "scrub")
                start_operation(session, principal, Verify, reference, params)

    def on_end(self, session: Session, outcome: str) -> None:
        forget_arrivals(session, self.context.id)

    def result(self) -> dict[str, Any]:
        return {
            "reference": self.params.reference,
            "region": self.params.region,
            "chunks": self.memo.chunks,
            "healed": self.memo.healed,
            "healed_from": self.memo.healed_from,
        }
