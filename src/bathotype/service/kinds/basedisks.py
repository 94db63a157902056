"""Launch-ready base disks of a version at a region's site: as many copies as are wanted, spread over zones.

A copy of a version with data disks is one base disk for each of them.

They belong to the account that owns the version's line; who may launch from it elsewhere is granted their use by the
site itself, so that a grant that ended ends there too.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

from sqlalchemy import Select, func, select, update
from sqlalchemy.orm import Session

from bathotype.core.disk.several import role_of
from bathotype.core.errors import Damaged, Unavailable
from bathotype.core.store.manifest import Manifest
from bathotype.core.store.materialise import compare, materialise
from bathotype.core.units import plural
from bathotype.service import audit
from bathotype.service.operations.context import WorkContext
from bathotype.service.records import BaseDisk, Replica, Version
from bathotype.service.records.base import CHANGE, new_id
from bathotype.sites.protocol import Site


class BaseDisks:
    """Those of one version in one region, for the time of an operation."""

    def __init__(self, context: WorkContext, version_id: str, region: str) -> None:
        self._context, self._version, self._region = context, version_id, region
        with context.session() as session:
            version = session.get_one(Version, version_id)
            self._owner_id, self._name = version.line.account_id, f"{version.line.name}@{version.number}"
        self.owner = context.reach.account_name(self._owner_id)

    @property
    def site(self) -> Site:
        """The site as the owner of the disks sees it."""
        return self._context.reach.site(self._region, self.owner)

    def lock(self) -> None:
        """Hold the lock on them until the operation ends."""
        self._context.lock(
            f"base disk {self._version} {self._region}", why="Another operation is writing base disks of this version."
        )

    def ready(self) -> list[BaseDisk]:
        """Those that can be launched from."""
        with self._context.session() as session:
            return list(session.scalars(self._standing("ready").order_by(BaseDisk.created_at)))

    def _standing(self, *states: str) -> Select[BaseDisk]:
        return select(BaseDisk).where(
            BaseDisk.version_id == self._version, BaseDisk.region == self._region, BaseDisk.state.in_(states)
        )

    def bring_to(self, count: int, *, multi_zone: bool) -> tuple[int, int]:
        """Make or remove base disks until there are ``count``; returns how many were made and removed.  Needs the
        lock."""
        self._drop_unfinished()
        standing = self.ready()
        zones = list(self.site.limits().regions.get(self._region, ())) or [""]
        zones = zones if multi_zone else zones[:1]
        surplus = self._surplus(standing, count, zones)
        made = 0
        for _ in range(count - (len(standing) - len(surplus))):
            taken = Counter(d.zone for d in self.ready() if d not in surplus)
            zone = min(zones, key=lambda z: (taken[z], z))
            self._make(zone, made, count - len(standing) + len(surplus))
            made += 1
        for row in surplus:
            remove_base_disk(self._context, row)
        return made, len(surplus)

    @staticmethod
    def _surplus(standing: list[BaseDisk], count: int, zones: list[str]) -> list[BaseDisk]:
        """Base disks to remove: in a zone that is not wanted, or more than a zone's part of the count; idle ones
        first."""
        share = -(-count // len(zones))
        kept: Counter[str] = Counter()
        out = []
        for row in sorted(standing, key=lambda r: (-r.launching, r.created_at)):
            if kept.total() < count and row.zone in zones and kept[row.zone] < share:
                kept[row.zone] += 1
            else:
                out.append(row)
        return out

    def ensure(self) -> bool | None:
        """Make sure that there is one; False where there was.  If two operations need it, one of them makes it."""
        if self.ready():
            return False
        self.lock()
        self._drop_unfinished()
        if self.ready():
            return False
        zones = self.site.limits().regions.get(self._region, ("",))
        self._make(zones[0], 0, 1)
        return None

    def _make(self, zone: str, number: int, of: int) -> None:
        """Write a base disk, or have the site copy an existing one, and compare it with the version."""
        self._context.keep_chunks(self._region)
        manifest = self._context.store(self._region).get_manifest(self._version)
        record, standing = new_id("bd"), self.ready()
        with self._context.session() as session:
            session.add(
                BaseDisk(
                    id=record, version_id=self._version, account_id=self._owner_id, region=self._region, zone=zone,
                    state="building",
                )
            )  # fmt: skip
        tags = {
            **self._context.reach.account_tags(self.owner), "bathotype-operation": self._context.id,
            "bathotype-base": record,
        }  # fmt: skip
        sources = standing[0].all_disks if standing else [None] * len(manifest.sizes)
        made = [
            self.site.create_disk(
                self._region, size, key=f"{record}-{n}" if n else record, tags=tags, zone=zone, source=source,
                name=f"base-{self._version}{f'-{role_of(n)}' if n else ''}",
            ).id
            for n, (size, source) in enumerate(zip(manifest.sizes, sources, strict=True))
        ]  # fmt: skip
        with self._context.session() as session:
            values = {"site_disk": made[0], "data_disks": made[1:]}
            session.execute(update(BaseDisk).where(BaseDisk.id == record).values(values))
        turns = of * len(made)
        for n, disk in enumerate(made):
            self._fill(disk, manifest.disk(n), number * len(made) + n, turns, copied=bool(standing))
            self.site.seal(disk)
        with self._context.session() as session:
            session.execute(update(BaseDisk).where(BaseDisk.id == record).values(state="ready"))

    def _fill(self, disk: str, manifest: Manifest, number: int, of: int, *, copied: bool) -> None:
        part = len(manifest) * 2 * 65536
        behind, total = number * part, of * part
        try:
            if not copied:
                with self.site.open_disk(disk, writable=True) as target:
                    materialise(
                        manifest, self._context.store(self._region), target,
                        progress=lambda done, _: self._context.progress(behind + done, total),
                    )  # fmt: skip
            with self.site.open_disk(disk) as written:
                wrong = compare(
                    manifest, written,
                    progress=lambda done, half: self._context.progress(behind + half + done, total),
                )  # fmt: skip
        except Damaged as error:
            if error.code == "pack-damaged":
                self._mark_damaged(error)
            raise
        need_as_written(wrong)

    def _drop_unfinished(self) -> None:
        """Base disks of attempts that were cut short: we hold the lock, so nobody is writing them."""
        with self._context.session() as session:
            rows = list(session.scalars(self._standing("building")))
        for row in rows:
            remove_base_disk(self._context, row)

    def _mark_damaged(self, error: Damaged) -> None:
        with self._context.session() as session:
            session.execute(
                update(Replica)
                .where(Replica.version_id == self._version, Replica.region == self._region)
                .values(state="damaged")
            )
            subject = f"{self._name} in {self._region}"
            audit.raise_alert(session, self._owner_id, "replica-damaged", subject, str(error))

    # Launching

    @contextmanager
    def least_busy(self, zone: str | None) -> Iterator[BaseDisk]:
        """The copy of which the fewest machines are being made now; one in the zone is preferred."""
        with self._context.session() as session:
            row = self._pick(session, zone) or self._pick(session, None)
            if row is None:
                raise Unavailable(f"No base disk of {self._name} is left in {self._region}.")
            session.expunge(row)
        try:
            yield row
        finally:
            with self._context.session() as session:
                session.execute(
                    update(BaseDisk)
                    .where(BaseDisk.id == row.id)
                    .values(launching=func.greatest(BaseDisk.launching - 1, 0))
                )

    @contextmanager
    def chosen(self, zone: str | None) -> Iterator[BaseDisk]:
        """The same, once the operation's account may launch from it."""
        with self.least_busy(zone) as row:
            self.grant(row, self._context.account_name)
            yield row

    def _pick(self, session: Session, zone: str | None) -> BaseDisk | None:
        query = self._standing("ready").order_by(BaseDisk.launching, func.random()).limit(1)
        if zone is not None:
            query = query.where(BaseDisk.zone == zone)
        row: BaseDisk | None = session.scalar(query.with_for_update(**CHANGE, skip_locked=True))
        if row is None:  # every one of them is being picked by somebody else just now
            row = session.scalar(query.with_for_update(**CHANGE))
        if row is not None:
            row.launching += 1
            session.flush()
        return row

    def grant(self, row: BaseDisk, account: str) -> None:
        """Let another account launch from one, at the site; the reconciler ends that with the share."""
        if account == self.owner:
            return
        # Noted first: what is noted and was not granted is revoked in vain, the other way round it would stay for ever.
        with self._context.session() as session:
            held = session.get_one(BaseDisk, row.id, with_for_update=CHANGE)
            if account not in held.granted_to:
                held.granted_to = [*held.granted_to, account]
        for disk in row.all_disks:
            self.site.grant_disk(disk, account)

    def lost(self, row: BaseDisk) -> None:
        """Forget a base disk that is gone at the site, so that the next launch writes a new one."""
        with self._context.session() as session:
            session.execute(update(BaseDisk).where(BaseDisk.id == row.id).values(state="removed"))
        self._context.log("A base disk is gone from the site; retry to have it written again.", "warning")


def need_as_written(wrong: Sequence[int]) -> None:
    """Raise `Damaged` where a base disk differs from what was written to it, at these chunks."""
    if wrong:
        raise Damaged(
            f"The base disk differs in {plural(len(wrong), 'chunk')} after writing it.",
            advice="The site's storage does not keep what is written. Retry; if it comes back, check the site.",
        )


def remove_base_disk(context: WorkContext, row: BaseDisk) -> None:
    """Remove one base disk at the site and note it."""
    site = context.reach.site(row.region, context.reach.account_name(row.account_id))
    for disk in site.disks(row.region, tag=("bathotype-base", row.id)):
        site.delete_disk(disk.id)
    with context.session() as session:
        session.execute(update(BaseDisk).where(BaseDisk.id == row.id).values(state="removed"))


def standing_disks(session: Session, version_id: str, region: str) -> Counter[str]:
    """Launch-ready base disks of a version in a region, by zone."""
    rows = session.scalars(
        select(BaseDisk.zone).where(
            BaseDisk.version_id == version_id, BaseDisk.region == region, BaseDisk.state == "ready"
        )
    )
    return Counter(rows)
