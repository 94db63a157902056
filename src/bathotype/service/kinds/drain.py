"""Drain: remove a version from a region, once nothing there needs it."""

from __future__ import annotations

from typing import Any

from sqlalchemy import ColumnElement, func, or_, select, update
from sqlalchemy.orm import Session

from bathotype.core.errors import BathotypeError, NotFound, Refused
from bathotype.core.lifecycle.rules import LaunchRule, matches
from bathotype.core.lifecycle.states import OFFERED
from bathotype.core.units import agree, plural
from bathotype.service import audit
from bathotype.service.access.principals import Principal
from bathotype.service.catalogue import holds_now, reference_of
from bathotype.service.kinds.basedisks import remove_base_disk, standing_disks
from bathotype.service.kinds.purge import collect_region
from bathotype.service.kinds.replicate import ReplicaParams
from bathotype.service.kinds.transfers import patiently
from bathotype.service.operations.kind import Kind, Memo, Step
from bathotype.service.operations.start import start_operation
from bathotype.service.reach import Reach
from bathotype.service.records import (
    Account,
    BaseDisk,
    Instance,
    Line,
    Operation,
    Placement,
    Replica,
    RuleRow,
    Share,
    Version,
)
from bathotype.service.records.base import CHANGE
from bathotype.service.records.fleet import IS_PRESENT
from bathotype.wire.common import Plan


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

    def _is_there(self) -> bool:
        """Whether the region still has the version; also where that cannot be seen."""
        try:
            self.context.store(self.params.region).get_manifest(self.params.version_id)
        except NotFound:
            return False
        except BathotypeError:
            return True
        return True

    @classmethod
    def before_retry(
        cls, session: Session, reach: Reach, account_id: str, operation_id: str, params: DrainParams
    ) -> None:
        """Unless something needs the version there by now, or no other region has it any more."""
        version = session.get_one(Version, params.version_id, with_for_update={**CHANGE, "of": Version})
        row = session.get_one(Replica, (params.version_id, params.region), with_for_update=CHANGE)
        if row.state not in ("ready", "damaged"):
            return  # its chunks may be gone already
        if blockers := plan_drain(session, version, params.region).blockers:
            raise Refused(" ".join(blockers), code="blocked")
        row.state, row.copies = "draining", 0

    def on_end(self, session: Session, outcome: str) -> None:
        if outcome != "succeeded" and self._is_there():
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


# What it takes


def start_drain(session: Session, caller: Principal, version: Version, region: str) -> Operation:
    """Record the operation that removes a version from a region."""
    row = session.get_one(Replica, (version.id, region), with_for_update=CHANGE)
    params = DrainParams(version_id=version.id, reference=reference_of(version), region=region, was=row.state)
    row.state, row.copies = "draining", 0
    return start_operation(session, caller, Drain, f"{reference_of(version)} in {region}", params)


def plan_drain(session: Session, version: Version, region: str) -> Plan:
    """What removing a version from a region would do."""
    reference = reference_of(version)
    held = session.scalars(
        select(Replica).where(Replica.version_id == version.id, Replica.state.in_(("ready", "damaged")))
    ).all()
    others = sorted(r.region for r in held if r.region != region and r.state == "ready")
    blockers, effects = [], []
    if region not in {r.region for r in held}:
        blockers.append(f"{reference} has no replica in {region}.")
    elif not others:
        blockers.append(f"It is the last sound replica of {reference}. Retire and purge it instead.")
    elif version.state in OFFERED:
        blockers = drain_blockers(session, version.line, region, {region}, version=version)
        place = session.get(Placement, (version.line_id, region))
        if place is not None and not place.leaving:
            blockers.append(f"The placement of {version.line.name} names {region}. Change the placement instead.")
    if not blockers:
        standing = standing_disks(session, version.id, region).total()
        if standing:
            verb = agree(standing, "is", "are")
            effects.append(f"{plural(standing, 'base disk')} of it in {region} {verb} removed.")
        effects.append(f"Its chunks that no other version in {region} needs are removed there.")
        effects.append(f"It stays in {', '.join(others)}.")
    return Plan(verb="drain", subject=f"{reference} in {region}", blockers=blockers, warnings=[], effects=effects)


def drain_blockers(
    session: Session, line: Line, region: str, leaving: set[str], *, version: Version | None = None
) -> list[str]:
    """Who still needs a line in a region: rules that allow it nowhere else, shares for it, instances to be renewed.

    With ``version`` who needs that one there: where another of the line stays, only those with whom it alone is shared.
    """
    shares = Share.line_id == line.id
    if version is not None:
        alone = Share.version_id == version.id
        if _another_stays(session, version, region):
            return _share_blockers(session, shares & alone, leaving)
        shares &= alone | Share.version_id.is_(None)
    blockers = []
    running = session.scalar(
        select(func.count())
        .select_from(Instance)
        .join(Version, Version.id == Instance.version_id)
        .where(Version.line_id == line.id, Instance.region == region, IS_PRESENT)
    )
    if running:
        blockers.append(
            f"{plural(running, 'instance')} of {line.name} in {region} could not be renewed there. "
            "Terminate them or renew them into another line first."
        )
    blockers += _share_blockers(session, shares, leaving)
    owner = session.get_one(Account, line.account_id).name
    for row in session.scalars(
        select(RuleRow).where(or_(RuleRow.account_id.is_(None), RuleRow.account_id == line.account_id))
    ):
        rule = LaunchRule.model_validate(row.body)
        if (
            rule.effect == "refuse"
            and rule.regions
            and set(rule.regions) <= leaving
            and _concerns(rule, owner, line.name)
        ):
            blockers.append(
                f"Launch rule {rule.name} allows launches in {', '.join(rule.regions)} only. Change it first."
            )
    return blockers


def _another_stays(session: Session, version: Version, region: str) -> bool:
    """Whether a region has another version of the line that takes launches."""
    query = (
        select(Version.id)
        .join(Replica, Replica.version_id == Version.id)
        .where(
            Version.line_id == version.line_id,
            Version.id != version.id,
            Version.state.in_(OFFERED),
            Replica.region == region,
            Replica.state == "ready",
        )
    )
    return session.scalar(query.limit(1)) is not None


def _share_blockers(session: Session, which: ColumnElement[bool], leaving: set[str]) -> list[str]:
    """The shares that are for no other regions than those."""
    blockers = []
    for share in session.scalars(select(Share).where(which, holds_now(), Share.regions.is_not(None))):
        if set(share.regions or ()) <= leaving:
            other = session.get(Account, share.consumer_id) if share.consumer_id else None
            blockers.append(
                f"The share with {other.name if other else 'every account'} is for {', '.join(share.regions or ())} only. "
                "End it, or share other regions first."
            )
    return blockers


def _concerns(rule: LaunchRule, owner: str, line: str) -> bool:
    return matches(rule.applies_to, owner, line, "*")
