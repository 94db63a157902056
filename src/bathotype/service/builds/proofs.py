"""Proving what a run has made in several places: an operation of its own brings it to a region, or judges it in one place.

The run is put down while they go on, so that its worker is free for them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Select, select, update
from sqlalchemy.orm import Session

from bathotype.service.access.principals import Principal
from bathotype.service.kinds.proving import NotProven, ProveParams, start_checks
from bathotype.service.operations.context import PutDown, WorkContext
from bathotype.service.operations.kind import Memo
from bathotype.service.operations.start import unattended_principal
from bathotype.service.placements import start_replicate
from bathotype.service.records import Operation, Replica, Version
from bathotype.wire.regions import RegionPlace

_GOES_ON = ("queued", "running")


class ProofMemo(Memo):
    """The operations that bring the version to regions, by these; and those that judge it, by region and size.

    ``proofs`` are all that ever judged it for this run: one that failed is begun anew when the run is tried again.
    """

    brought: dict[str, str] = {}
    judged: dict[str, str] = {}
    proofs: list[str] = []


@dataclass(frozen=True)
class Proofs:
    """Those of one version: in each region on a machine of each size.

    ``keep`` records ``memo`` in a transaction, together with the operations that it names.
    """

    context: WorkContext
    version_id: str
    reference: str
    regions: tuple[str, ...]
    sizes: tuple[str, ...]
    checks: list[dict[str, Any]]
    tags: Mapping[str, str]
    ready_seconds: int
    memo: ProofMemo
    keep: Callable[[Session], None]

    def advance(self) -> None:
        """Start what can be started.  Raises `PutDown` while something goes on, and `NotProven` where not all passed."""
        self.context.must_hold()
        with self.context.session() as session:
            self._bring(session)
        self._need(self.memo.brought, "could not be brought to")
        with self.context.session() as session:
            self._judge(session)
        self._need(self.memo.judged, "did not pass in")

    def _caller(self, session: Session) -> Principal:
        return unattended_principal(session, self.context.account_id, self.context.created_by)

    def _bring(self, session: Session) -> None:
        query = select(Replica.region).where(Replica.version_id == self.version_id, Replica.state == "ready")
        there = {*session.scalars(query), *self.memo.brought}
        for region in self.regions:
            if region not in there:
                version = session.get_one(Version, self.version_id)
                known = session.get(Replica, (self.version_id, region))
                # Somebody may have asked for base disks there already.
                wanted = {"copies": known.copies, "multi_zone": known.multi_zone} if known else {"copies": 0}
                place = RegionPlace.model_validate({"region": region, **wanted})
                self.memo.brought[region] = start_replicate(session, self._caller(session), version, place).id
        self.keep(session)

    def _judge(self, session: Session) -> None:
        for region in self.regions:
            for size in self.sizes:
                if f"{region} {size}" in self.memo.judged:
                    continue
                params = ProveParams(
                    version_id=self.version_id, reference=self.reference, region=region, machine_size=size,
                    checks=self.checks, tags=dict(self.tags), ready_seconds=self.ready_seconds,
                )  # fmt: skip
                started = start_checks(session, self._caller(session), params)
                self.memo.judged[f"{region} {size}"] = started.id
                self.memo.proofs.append(started.id)
        self.keep(session)

    def _need(self, operations: dict[str, str], wrong: str) -> None:
        """All of them must have succeeded.  Those that have not are forgotten: a retry of the run starts others."""
        with self.context.session() as session:
            rows = {row.id: row for row in session.scalars(_of(operations.values()))}
            going = sum(rows[one].state in _GOES_ON for one in operations.values())
            ended = {place: rows[one] for place, one in operations.items() if rows[one].state not in _GOES_ON}
            failed = {place: row for place, row in ended.items() if row.state != "succeeded"}
            told = [
                f"It {wrong} {place}: {(row.error or {}).get('message', row.state)}" for place, row in failed.items()
            ]
        self.context.progress(len(ended), len(operations))
        if going:
            raise PutDown
        if failed:
            for place in failed:
                del operations[place]
            with self.context.session() as session:
                self.keep(session)
            raise NotProven(
                f"{self.reference} is not proven everywhere. {' '.join(told)[:1000]}",
                advice=f"`bathotype checks list {self.reference}` shows each place.",
            )

    def stop(self) -> None:
        """Cancel what still goes on."""
        mine = [*self.memo.brought.values(), *self.memo.judged.values()]
        with self.context.session() as session:
            session.execute(
                update(Operation)
                .where(Operation.id.in_(mine), Operation.state.in_(_GOES_ON))
                .values(cancel_requested=True)
            )


def _of(operations: Iterable[str]) -> Select[Operation]:
    return select(Operation).where(Operation.id.in_(list(operations)))
