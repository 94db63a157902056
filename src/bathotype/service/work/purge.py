"""Purge: remove a version's bytes that nothing else needs, and keep its record."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select, update

from bathotype.core.store.collect import plan_collect, repack
from bathotype.core.store.manifest import Manifest
from bathotype.core.units import iec, plural
from bathotype.service.operations.work import StepPlan, Work
from bathotype.service.records import BaseDisk, Replica, Version


class Purge(Work):
    """The version is in state ``purged`` before this starts: nothing new can come to depend on it."""

    kind = "purge"
    steps = (
        StepPlan("base_disks", "Remove base disks at the site"),
        StepPlan("collect", "Remove chunks that nothing needs", 3),
    )

    @property
    def _version(self) -> str:
        return str(self.context.params["version_id"])

    def base_disks(self) -> bool | None:
        """Remove launch-ready disks; machines cloned of them stand on their own."""
        with self.context.session() as session:
            rows = list(
                session.scalars(
                    select(BaseDisk).where(BaseDisk.version_id == self._version, BaseDisk.state != "removed")
                )
            )
        for row in rows:
            remove_base_disk(self, row)
        return None if rows else False

    def collect(self) -> None:
        """Remove the manifest, dead packs and, where a pack is mostly dead, rewrite it.  Captures wait meanwhile."""
        with self.context.session() as session:
            regions = list(
                session.scalars(
                    select(Replica.region).where(Replica.version_id == self._version, Replica.state != "removed")
                )
            )
        freed = 0
        for region in regions:
            self.context.lock(f"region {region}", why=f"Waiting for captures in {region} to end.")
            freed += self._collect_region(region)
            with self.context.session() as session:
                session.execute(
                    update(Replica)
                    .where(Replica.version_id == self._version, Replica.region == region)
                    .values(state="removed")
                )
        self.context.remember(freed=freed)

    def _collect_region(self, region: str) -> int:
        store = self.context.store(region)
        live = self._live(region)
        present = list(store.packs())
        decided = plan_collect(present, live.values())
        changed = repack(store, live, decided.sparse, lambda name, size: None)
        for version, manifest in changed.items():
            store.put_manifest(version, manifest)
        rewritten = dict(decided.sparse.items()) if changed else {}
        # Only now is every chunk that anybody needs found without the old packs.
        store.delete_manifest(self._version)
        for name in (*decided.dead, *rewritten):
            store.delete_pack(name)
        after = sum(size for _, size in store.packs())
        freed = sum(size for _, size in present) - after
        self.context.log(
            f"{region}: {plural(len(decided.dead), 'pack')} removed, {len(rewritten)} rewritten, {iec(freed)} freed."
        )
        return freed

    def _live(self, region: str) -> dict[str, Manifest]:
        with self.context.session() as session:
            versions = list(
                session.scalars(
                    select(Version.id)
                    .join(Replica)
                    .where(Replica.region == region, Replica.state != "removed", Version.state != "purged")
                )
            )
        store = self.context.store(region)
        return {version: store.get_manifest(version) for version in versions}

    def result(self) -> dict[str, Any]:
        return {"reference": self.context.params["reference"], "freed_bytes": self.context.memo["freed"]}


def remove_base_disk(work: Work, row: BaseDisk) -> None:
    """Remove one base disk at the site and note it."""
    site = work.context.reach.site(row.region, work.context.reach.account_name(row.account_id))
    for disk in site.disks(row.region, tag=("bathotype-base", row.id)):
        site.delete_disk(disk.id)
    with work.context.session() as session:
        session.execute(update(BaseDisk).where(BaseDisk.id == row.id).values(state="removed"))
