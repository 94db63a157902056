"""Adopt: another account's version becomes one of a line of one's own; no chunk is copied in any region."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.errors import Refused
from bathotype.core.lifecycle.numbers import sort_key
from bathotype.core.signing.statement import check_digest
from bathotype.service import audit
from bathotype.service.keys import KeyRing, check_signature, facts_of
from bathotype.service.operations.work import StepPlan, Work
from bathotype.service.records import Finding, Replica, Version, VersionPackage
from bathotype.service.records.base import utcnow
from bathotype.service.sharing import in_regions, owner_of, shares_of_version, still_granted


class Adopt(Work):
    """The new version names the same chunks in manifests of its own, so that it outlives the one that it is from."""

    kind = "adopt"
    steps = (
        StepPlan("check", "Check signature and share"),
        StepPlan("place", "Place its manifests", 2),
        StepPlan("seal", "Seal the version"),
    )

    @property
    def _origin(self) -> str:
        return str(self.context.params["origin_id"])

    @property
    def _version_id(self) -> str:
        return str(self.context.params["version_id"])

    def check(self) -> None:
        """What is taken over must be what its owner signed, in regions that the share allows."""
        with self.context.session() as session:
            origin = session.get_one(Version, self._origin)
            check_signature(session, origin)
            held = set(
                session.scalars(select(Replica.region).where(Replica.version_id == origin.id, Replica.state == "ready"))
            )
            if origin.line.account_id != self.context.account_id:
                shares = shares_of_version(session, self.context.account_id, origin)
                allowed = in_regions(shares)
                held = {r for r in held if shares and (allowed is None or r in allowed)}
        if not held:
            raise Refused(f"No region that is shared holds {self.context.params['origin']}.", code="no-replica")
        self.context.remember(regions=sorted(held))

    def place(self) -> None:
        """The same places under the new version's name; purges wait until the record counts them."""
        for region in self.context.memo["regions"]:
            self.context.keep_chunks(region)
            store = self.context.store(region)
            manifest = store.get_manifest(self._origin)
            with self.context.session() as session:
                check_digest(facts_of(session, session.get_one(Version, self._origin)), manifest.content_digest)
            store.put_manifest(self._version_id, manifest)

    def seal(self) -> None:
        """Record the version.  Doing it twice records it once."""
        params = self.context.params
        for region in self.context.memo["regions"]:
            self.context.keep_chunks(region)
        with self.context.session() as session:
            if session.get(Version, self._version_id) is not None:
                return
            for region in self.context.memo["regions"]:
                still_granted(session, self.context.account_id, self._origin, region)
            origin = session.get_one(Version, self._origin)
            kept = ("content_digest", "virtual_bytes", "used_bytes", "stored_bytes", "profile", "steps", "contents")
            owner = owner_of(session, origin)
            made = Version(
                id=self._version_id,
                line_id=params["line_id"],
                number=params["number"],
                sort_key=sort_key(params["number"]),
                notes=params["notes"],
                new_bytes=0,
                mode="adopt",
                source={"adopted_from": params["origin"], "size": origin.source.get("size", "small")},
                adopted_from_id=origin.id,
                operation_id=self.context.id,
                created_at=utcnow(),
                **{name: getattr(origin, name) for name in kept},
            )
            session.add(made)
            session.flush()
            session.refresh(made)
            for region in self.context.memo["regions"]:
                session.add(Replica(version_id=made.id, region=region, state="ready", verified_at=utcnow()))
            self._take_over(session, origin, owner)
            KeyRing(self.context.settings).sign(session, made)
            audit.record(
                session, self.context.account_id, self.context.created_by, "version.adopted",
                f"{params['line']}@{params['number']}", after={"from": params["origin"], "regions": self.context.memo["regions"]},
            )  # fmt: skip

    def _take_over(self, session: Session, origin: Version, owner: str) -> None:
        for row in session.scalars(select(VersionPackage).where(VersionPackage.version_id == origin.id)).all():
            fields = {c: getattr(row, c) for c in ("name", "architecture", "version", "manager")}
            session.add(VersionPackage(version_id=self._version_id, **fields))
        for finding in session.scalars(select(Finding).where(Finding.version_id == origin.id)).all():
            names = (
                "name",
                "position",
                "rule",
                "severity",
                "path",
                "line",
                "excerpt",
                "advice",
                "accepted_reason",
                "accepted_at",
            )
            fields = {c: getattr(finding, c) for c in names}
            by = f"{owner}: {finding.accepted_by}" if finding.accepted_by else None
            session.add(Finding(version_id=self._version_id, accepted_by=by, **fields))

    def clean_up(self, outcome: str) -> None:
        if outcome != "succeeded":
            for region in self.context.memo.get("regions", []):
                self.context.store(region).delete_manifest(self._version_id)

    def result(self) -> dict[str, Any]:
        params = self.context.params
        return {
            "reference": f"{params['line']}@{params['number']}",
            "origin": params["origin"],
            "regions": self.context.memo["regions"],
        }
