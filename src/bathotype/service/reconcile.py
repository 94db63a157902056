"""The reconciler: what sites really have, against what the records say."""

from __future__ import annotations

import shutil
from datetime import timedelta

import structlog
from sqlalchemy import delete, func, or_, select, update

from bathotype.core.errors import BathotypeError
from bathotype.core.lifecycle.states import VersionState
from bathotype.service import audit
from bathotype.service.catalogue import reference_of
from bathotype.service.database import Database, try_lock
from bathotype.service.following import Follower
from bathotype.service.identity import read_identity, remember_identity
from bathotype.service.operations.queue import Queue
from bathotype.service.places import Reach
from bathotype.service.placing import PLACEMENT, bring_into_line
from bathotype.service.records import (
    Account,
    BaseDisk,
    Instance,
    Line,
    Operation,
    Placement,
    Replica,
    Share,
    Upload,
    Version,
)
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.settings import Settings
from bathotype.service.sharing import shares_of_version
from bathotype.service.state import robot, start_operation
from bathotype.service.work.verify import Verify
from bathotype.sites.protocol import Site
from bathotype.wire.operations import ENDED

log = structlog.get_logger()
_ASKED_PER_PASS = 50
_FORGOTTEN_SECONDS = 86400
_UPLOAD_KEPT = timedelta(days=2)


class Reconciler:
    """One pass looks at every account in every region; of several workers one does it at a time."""

    def __init__(self, database: Database, reach: Reach, settings: Settings, queue: Queue) -> None:
        self._database, self._reach, self._settings, self._queue = database, reach, settings, queue

    def run(self) -> None:
        """One pass over everything."""
        with self._database.held_connection() as connection:
            if not try_lock(connection, "reconciler"):
                return
            self._sunsets_that_end()
            with self._database.sessions() as session:
                accounts = {a.name: a.id for a in session.scalars(select(Account))}
            for name, account_id in accounts.items():
                if name not in self._reach.places.accounts:
                    continue
                for region in self._reach.regions:
                    self._region(region, name, account_id)
            self._drop_unneeded_base_disks()
            self._drop_old_scratch()
            self._drop_old_uploads()
            self._end_shares()
            self._revoke_grants()
            self._keep_placements()
            self._scrub()

    # Regions

    def _end_shares(self) -> None:
        """Shares whose last day is over end by themselves; they grant nothing since midnight anyway."""
        with self._database.sessions.begin() as session:
            over = select(Share).where(Share.state.in_(("proposed", "active")), Share.until < utcnow().date())
            for row in session.scalars(over.with_for_update(**CHANGE, skip_locked=True)).all():
                row.state, row.ended_by, row.ended_at = "ended", "bathotype", utcnow()
                subject = session.get_one(Line, row.line_id).name
                for account in filter(None, {row.owner_id, row.consumer_id}):
                    audit.record(
                        session, account, "bathotype", "share.ended", subject,
                        after={"share": row.id, "reason": f"its last day was {row.until}"},
                    )  # fmt: skip

    def _revoke_grants(self) -> None:
        """Base disks are granted at the site as long as a share is: then the site refuses by itself."""
        with self._database.sessions() as session:
            granted = session.scalars(
                select(BaseDisk).where(BaseDisk.state == "ready", func.jsonb_array_length(BaseDisk.granted_to) > 0)
            ).all()
        for row in granted:
            for name in row.granted_to:
                with self._database.sessions() as session:
                    account = session.scalars(select(Account.id).where(Account.name == name)).one()
                    if shares_of_version(session, account, session.get_one(Version, row.version_id)):
                        continue
                try:
                    site = self._reach.site(row.region, self._reach.account_name(row.account_id))
                    site.revoke_disk(str(row.site_disk), name)
                except BathotypeError as error:
                    log.warning("a grant could not be revoked", base_disk=row.id, error=error.message)
                    continue
                with self._database.sessions.begin() as session:
                    held = session.get_one(BaseDisk, row.id, with_for_update=CHANGE)
                    held.granted_to = [other for other in held.granted_to if other != name]

    def _keep_placements(self) -> None:
        """What failed to reach a region is tried again; what a zone lost is made anew."""
        with self._database.sessions() as session:
            lines = session.scalars(select(Placement.line_id).distinct()).all()
        for line_id in lines:
            with self._database.sessions.begin() as session:
                line = session.get_one(Line, line_id, with_for_update=CHANGE)
                started = [r.id for r in bring_into_line(session, robot(session, line.account_id, PLACEMENT), line)]
            for operation in started:
                self._queue.put(operation)

    def _scrub(self) -> None:
        """Verify replicas that nobody has looked at for long, the longest first, a few at a time."""
        limit = utcnow() - timedelta(days=self._settings.scrub_days)
        with self._database.sessions.begin() as session:
            going = session.scalars(
                select(Operation.params["version_id"].as_string()).where(
                    Operation.kind == Verify.kind, Operation.state.in_(("queued", "running"))
                )
            ).all()
            due = (
                select(Replica)
                .join(Version, Version.id == Replica.version_id)
                .where(
                    Replica.state == "ready",
                    or_(Replica.verified_at.is_(None), Replica.verified_at < limit),
                    Version.state != VersionState.PURGED,
                    Replica.version_id.not_in(going),
                )
                .order_by(Replica.verified_at.nulls_first())
                .limit(max(0, self._settings.scrub_at_once - len(going)))
            )
            started = []
            for replica in session.scalars(due).all():
                version = session.get_one(Version, replica.version_id)
                scrub = robot(session, version.line.account_id, "scrub")
                params = {"version_id": version.id, "reference": reference_of(version), "region": replica.region}
                started.append(start_operation(session, scrub, Verify, reference_of(version), params).id)
        for operation in started:
            self._queue.put(operation)

    def _drop_old_uploads(self) -> None:
        """Uploads that nobody imported in time."""
        limit = utcnow() - _UPLOAD_KEPT
        with self._database.sessions() as session:
            named = Operation.params["upload"].as_string()
            needed = select(named).where(Operation.state.in_(("queued", "running")), named.is_not(None))
            old = list(session.scalars(select(Upload).where(Upload.created_at < limit, Upload.id.not_in(needed))))
        for upload in old:
            try:
                self._reach.store(upload.region).delete_upload(upload.id)
            except BathotypeError as error:
                log.warning("an old upload could not be removed", upload=upload.id, error=error.message)
                continue
            with self._database.sessions.begin() as session:
                session.execute(delete(Upload).where(Upload.id == upload.id))

    def _region(self, region: str, account: str, account_id: str) -> None:
        site, follower = self._reach.site(region, account), Follower(self._database, account_id, region)
        try:
            follower.compare(iter(site.machines(region)))
        except BathotypeError as error:
            follower.silent(f"The site of {region} does not answer: {error.message}")
            return
        follower.answers()
        try:
            self._reap(site, region)
            self._ask(site, account_id, follower)
        except BathotypeError as error:
            log.warning("looking at a site was cut short", region=region, account=account, error=error.message)

    def _ask(self, site: Site, account_id: str, follower: Follower) -> None:
        """Ask agents that were not asked lately who they are; a bounded number a pass."""
        for instance in follower.to_ask(_ASKED_PER_PASS):
            found = None
            try:
                machine = site.machine(str(instance.site_machine))
                with site.agent(machine.id, timeout=3) as agent:
                    found = read_identity(agent)
            except BathotypeError:
                pass
            with self._database.sessions.begin() as session:
                values = {"asked_at": utcnow(), **({"identity": found} if found else {})}
                session.execute(update(Instance).where(Instance.id == instance.id).values(**values))
                if found:
                    remember_identity(session, account_id, machine, found)

    def _reap(self, site: Site, region: str) -> None:
        """Remove temporary snapshots of operations that have ended: their own clean-up could not."""
        recent = utcnow() - timedelta(days=7)
        with self._database.sessions() as session:
            ended = list(
                session.scalars(
                    select(Operation.id).where(
                        Operation.kind.in_(("capture", "capture-plan")),
                        Operation.ended_at > recent,
                        Operation.params["region"].as_string() == region,
                        Operation.memo["snapshot"].as_string().is_not(None),
                        ~Operation.memo.has_key("reaped"),
                    )
                )
            )
        for operation in ended:
            for disk in site.disks(region, tag=("bathotype-operation", operation)):
                site.delete_disk(disk.id)
            with self._database.sessions.begin() as session:
                row = session.get_one(Operation, operation)
                row.memo = {**row.memo, "reaped": True}

    def _sunsets_that_end(self) -> None:
        """Retire versions whose sunset has come to its date."""
        with self._database.sessions.begin() as session:
            due = select(Version).where(Version.state == VersionState.SUNSET, Version.retire_on <= utcnow().date())
            for version in session.scalars(due.order_by(Version.id).with_for_update(**CHANGE, of=Version)):
                version.state, version.retired_at = VersionState.RETIRED, utcnow()
                audit.record(
                    session,
                    version.line.account_id,
                    "bathotype",
                    "version.retired",
                    f"{version.line.name}@{version.number}",
                    before={"state": "sunset"},
                    after={"state": "retired", "reason": "its sunset ended"},
                )

    def _drop_unneeded_base_disks(self) -> None:
        """Base disks of versions that take no launches any more, once no launch is under way."""
        with self._database.sessions() as session:
            busy = select(Instance.version_id).where(Instance.state.in_(("pending", "starting")))
            rows = list(
                session.scalars(
                    select(BaseDisk)
                    .join(Version)
                    .where(
                        BaseDisk.state == "ready",
                        Version.state.in_((VersionState.RETIRED, VersionState.PURGED)),
                        BaseDisk.version_id.not_in(busy),
                    )
                )
            )
            # What a launch that was killed counted as its own is nobody's any more.
            session.execute(
                update(BaseDisk).where(BaseDisk.launching > 0, BaseDisk.version_id.not_in(busy)).values(launching=0)
            )
            session.commit()
        for row in rows:
            site = self._reach.site(row.region, self._reach.account_name(row.account_id))
            try:
                site.delete_disk(str(row.site_disk))
            except BathotypeError as error:
                log.warning("base disk not removed", base_disk=row.id, error=error.message)
                continue
            with self._database.sessions.begin() as session:
                session.execute(update(BaseDisk).where(BaseDisk.id == row.id).values(state="removed"))

    def _drop_old_scratch(self) -> None:
        """Scratch of operations that ended, or that this database never knew."""
        folder = self._settings.scratch_dir
        if not folder.is_dir():
            return
        for item in folder.iterdir():
            with self._database.sessions() as session:
                state = session.scalar(select(Operation.state).where(Operation.id == item.name))
            old = utcnow().timestamp() - item.stat().st_mtime > _FORGOTTEN_SECONDS
            if item.name.startswith("op-") and (state in ENDED or (state is None and old)):
                shutil.rmtree(item, ignore_errors=True)
