"""Purge: remove a version's bytes that nothing else needs, and keep its record."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select, update

from bathotype.core.store.collect import plan_collect, repack
from bathotype.core.store.manifest import Manifest
from bathotype.core.units import iec, plural
from bathotype.service import audit
from bathotype.service.catalogue import reference_of
from bathotype.service.chunks import add_chunks, forget_packs
from bathotype.service.kinds.basedisks import remove_base_disk
from bathotype.service.operations.context import WorkContext
from bathotype.service.operations.kind import Kind, Memo, Params, Step
from bathotype.service.records import Arrival, BaseDisk, Replica, Version


class PurgeParams(Params):
    """The version."""

    version_id: str
    reference: str


class PurgeMemo(Memo):
    """Bytes freed."""

    freed: int = 0


class Purge(Kind[PurgeParams, PurgeMemo]):
    """The version is in state ``purged`` before this starts: nothing new can come to depend on it."""

    name = "purge"
    params_type, memo_type = PurgeParams, PurgeMemo
    never_cancelled = "A purge cannot be cancelled: the version is purged already."
    steps = (
        Step("base_disks", "Remove base disks at the site"),
        Step("collect", "Remove chunks that nothing needs", 3),
    )

    def base_disks(self) -> bool | None:
        """Remove base disks; machines that were cloned from them have disks of their own."""
        with self.context.session() as session:
            rows = list(
                session.scalars(
                    select(BaseDisk).where(BaseDisk.version_id == self.params.version_id, BaseDisk.state != "removed")
                )
            )
        for row in rows:
            remove_base_disk(self.context, row)
        return None if rows else False

    def collect(self) -> None:
        """Remove the manifest, dead packs and, where a pack is mostly dead, rewrite it.  Captures wait meanwhile."""
        with self.context.session() as session:
            regions = list(
                session.scalars(
                    select(Replica.region).where(
                        Replica.version_id == self.params.version_id, Replica.state != "removed"
                    )
                )
            )
        freed = 0
        for region in regions:
            self.context.lock(f"region {region}", why=f"Waiting for captures in {region} to end.")
            freed += collect_region(self.context, region, self.params.version_id)
            # Released before the next one is taken: a transfer may hold that one and wait for this one.
            self.context.unlock(f"region {region}")
        self.memo.freed = freed
        self.save()

    def result(self) -> dict[str, Any]:
        return {"reference": self.params.reference, "freed_bytes": self.memo.freed}


def collect_region(context: WorkContext, region: str, version_id: str) -> int:
    """Remove a version's replica and every chunk that nothing else in the region needs; returns the bytes freed.

    The caller holds the region's lock alone.
    """
    store = context.store(region)
    live = _live(context, region, version_id)
    present = list(store.packs())
    with context.session() as session:
        # Of a transfer that a crash cut short: no manifest names these packs yet, but it will be taken up again.
        arriving = set(session.scalars(select(Arrival.pack).where(Arrival.region == region).distinct()))
    decided = plan_collect([(name, size) for name, size in present if name not in arriving], live.values())
    changed = repack(store, live, decided.sparse, lambda name, size: None)
    for version, manifest in changed.items():
        store.put_manifest(version, manifest)
        add_chunks(context.database, region, manifest)
    rewritten = dict(decided.sparse.items()) if changed else {}
    # Only now is every chunk that anybody needs found without the old packs.
    store.delete_manifest(version_id)
    forget_packs(context.database, region, (*decided.dead, *rewritten))
    for name in (*decided.dead, *rewritten):
        store.delete_pack(name)
    freed = sum(size for _, size in present) - sum(size for _, size in store.packs())
    with context.session() as session:
        session.execute(
            update(Replica).where(Replica.version_id == version_id, Replica.region == region).values(state="removed")
        )
        gone = session.get_one(Version, version_id)
        audit.clear_alert(session, gone.line.account_id, "replica-damaged", f"{reference_of(gone)} in {region}")
    context.log(
        f"{region}: {plural(len(decided.dead), 'pack')} removed, {len(rewritten)} rewritten, {iec(freed)} freed."
    )
    return freed


def _live(context: WorkContext, region: str, but: str) -> dict[str, Manifest]:
    """Every other manifest in a region that something depends on."""
    with context.session() as session:
        versions = list(
            session.scalars(
                select(Version.id)
                .join(Replica)
                .where(
                    Replica.region == region,
                    Replica.state.not_in(("removed", "coming")),
                    Version.state != "purged",
                    Version.id != but,
                )
            )
        )
    store = context.store(region)
    return {version: store.get_manifest(version) for version in versions}
