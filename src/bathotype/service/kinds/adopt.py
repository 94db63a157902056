"""Adopt: make a version of one's own from another account's version, without copying a chunk."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.errors import Refused
from bathotype.core.lifecycle.numbers import sort_key
from bathotype.core.signing.statement import check_digest
from bathotype.service import audit
from bathotype.service.catalogue import machine_size_of
from bathotype.service.kinds.making import NumberedKind, NumberedParams
from bathotype.service.operations.kind import Memo, Step
from bathotype.service.records import Finding, Replica, Version, VersionPackage
from bathotype.service.records.base import utcnow
from bathotype.service.shares import in_regions, owner_of, shares_of_version, still_granted
from bathotype.service.signatures import KeyRing, check_signature, facts_of

#: Neither its source nor its profile: who it was shared with does not see them.
_TAKEN_OVER = ("content_digest", "virtual_bytes", "disks", "used_bytes", "stored_bytes", "contents", "purpose")
_OF_FINDING = (
    "name", "position", "rule", "severity", "path", "line", "excerpt", "advice", "accepted_reason", "accepted_at",
)  # fmt: skip


class AdoptParams(NumberedParams):
    """The other account's version, by id and as it is written here."""

    origin_id: str
    origin: str


class AdoptMemo(Memo):
    """Regions where the new version is placed."""

    regions: list[str] = []


class Adopt(NumberedKind[AdoptParams, AdoptMemo]):
    """The new version names the same chunks in manifests of its own, so that it outlives the one that it is from."""

    name = "adopt"
    params_type, memo_type = AdoptParams, AdoptMemo
    steps = (
        Step("check", "Check signature and share"),
        Step("place", "Place its manifests", 2),
        Step("seal", "Seal the version"),
    )

    def check(self) -> None:
        """Check that the version is what its owner signed, and that the share allows the regions."""
        with self.context.session() as session:
            origin = session.get_one(Version, self.params.origin_id)
            check_signature(session, origin)
            held = set(
                session.scalars(select(Replica.region).where(Replica.version_id == origin.id, Replica.state == "ready"))
            )
            if origin.line.account_id != self.context.account_id:
                shares = shares_of_version(session, self.context.account_id, origin)
                allowed = in_regions(shares)
                held = {r for r in held if shares and (allowed is None or r in allowed)}
        if not held:
            raise Refused(f"No region that is shared holds {self.params.origin}.", code="no-replica")
        self.memo.regions = sorted(held)
        self.save()

    def place(self) -> None:
        """The same places under the new version's name; purges wait until the record counts them."""
        for region in self.memo.regions:
            self.context.keep_chunks(region)
            store = self.context.store(region)
            manifest = store.get_manifest(self.params.origin_id)
            with self.context.session() as session:
                origin = session.get_one(Version, self.params.origin_id)
                check_digest(facts_of(session, origin), manifest.content_digest)
            store.put_manifest(self.params.version_id, manifest)

    def seal(self) -> None:
        """Record the version.  Doing it twice records it once."""
        params, regions = self.params, self.memo.regions
        for region in regions:
            self.context.keep_chunks(region)
        with self.context.session() as session:
            if session.get(Version, params.version_id) is not None:
                return
            for region in regions:
                still_granted(session, self.context.account_id, params.origin_id, region)
            origin = session.get_one(Version, params.origin_id)
            made = Version(
                id=params.version_id,
                line_id=params.line_id,
                number=params.number,
                sort_key=sort_key(params.number),
                notes=params.notes,
                new_bytes=0,
                mode="adopt",
                source={"adopted_from": params.origin, "machine_size": machine_size_of(origin)},
                adopted_from_id=origin.id,
                operation_id=self.context.id,
                steps=[],
                created_at=utcnow(),
                **{name: getattr(origin, name) for name in _TAKEN_OVER},
            )
            session.add(made)
            session.flush()
            session.refresh(made)
            session.add_all(
                Replica(version_id=made.id, region=region, state="ready", verified_at=utcnow()) for region in regions
            )
            self._take_over(session, origin)
            KeyRing(self.context.settings).sign(session, made)
            audit.record(
                session, self.context.account_id, self.context.created_by, "version.adopted", params.made,
                after={"from": params.origin, "regions": regions},
            )  # fmt: skip

    def _take_over(self, session: Session, origin: Version) -> None:
        """The packages, and the findings with what was accepted of them, by whom."""
        owner = owner_of(session, origin)
        for row in session.scalars(select(VersionPackage).where(VersionPackage.version_id == origin.id)).all():
            fields = {c: getattr(row, c) for c in ("name", "architecture", "version", "manager")}
            session.add(VersionPackage(version_id=self.params.version_id, **fields))
        for finding in session.scalars(select(Finding).where(Finding.version_id == origin.id)).all():
            fields = {c: getattr(finding, c) for c in _OF_FINDING}
            by = f"{owner}: {finding.accepted_by}" if finding.accepted_by else None
            session.add(Finding(version_id=self.params.version_id, accepted_by=by, **fields))

    def clean_up(self, outcome: str) -> None:
        if outcome != "succeeded":
            for region in self.memo.regions:
                self.context.store(region).delete_manifest(self.params.version_id)

    def result(self) -> dict[str, Any]:
        return {"reference": self.params.made, "origin": self.params.origin, "regions": self.memo.regions}
