"""The reconciler: what sites really have, against what the records say."""

from __future__ import annotations

import shutil
from datetime import timedelta

import structlog
from sqlalchemy import delete, select, update
from sqlalchemy.orm import Session

from bathotype.core.errors import BathotypeError, NotFound
from bathotype.core.lifecycle.states import VersionState
from bathotype.service import audit
from bathotype.service.database import Database, try_lock
from bathotype.service.identity import forget_identity, read_identity, remember_identity
from bathotype.service.places import Reach
from bathotype.service.records import Account, BaseDisk, Instance, Operation, Upload, Version
from bathotype.service.records.base import new_id, utcnow
from bathotype.service.settings import Settings
from bathotype.sites.protocol import Site, SiteMachine
from bathotype.wire.operations import ENDED

log = structlog.get_logger()
_ASK_AGAIN = timedelta(minutes=5)
_ASKED_PER_PASS = 50
_FORGOTTEN_SECONDS = 86400
_UPLOAD_KEPT = timedelta(days=2)
_FOLLOWED = ("running", "stopped", "lost")


class Reconciler:
    """One pass looks at every account in every region; of several workers one does it at a time."""

    def __init__(self, database: Database, reach: Reach, settings: Settings) -> None:
        self._database, self._reach, self._settings = database, reach, settings

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
        site = self._reach.site(region, account)
        try:
            present = {machine.id: machine for machine in site.machines(region)}
        except BathotypeError as error:
            self._silent(region, account_id, error)
            return
        with self._database.sessions.begin() as session:
            audit.clear_alert(session, account_id, "site-silent", region)
        self._compare(region, account_id, present)
        try:
            self._reap(site, region)
            self._ask(site, account_id, list(present.values()))
        except BathotypeError as error:
            log.warning("looking at a site was cut short", region=region, account=account, error=error.message)

    def _silent(self, region: str, account_id: str, error: BathotypeError) -> None:
        with self._database.sessions.begin() as session:
            audit.raise_alert(
                session, account_id, "site-silent", region, f"The site of {region} does not answer: {error.message}"
            )
            query = select(Instance).where(
                Instance.account_id == account_id, Instance.region == region, Instance.state.in_(("running", "stopped"))
            )
            for instance in session.scalars(query):
                self._change(session, instance, "lost", "The site does not answer.")

    def _compare(self, region: str, account_id: str, present: dict[str, SiteMachine]) -> None:
        with self._database.sessions.begin() as session:
            known = select(Instance).where(
                Instance.account_id == account_id, Instance.region == region, Instance.site_machine.is_not(None)
            )
            seen = set()
            for instance in session.scalars(known.execution_options(yield_per=500)):
                seen.add(str(instance.site_machine))
                if instance.state in _FOLLOWED:
                    self._follow(session, instance, present.get(str(instance.site_machine)))
            bases = dict(
                session.execute(
                    select(BaseDisk.site_disk, BaseDisk.version_id).where(
                        BaseDisk.region == region, BaseDisk.site_disk.is_not(None)
                    )
                ).all()
            )
            for machine in present.values():
                version = bases.get(machine.created_from) if machine.created_from else None
                # Machines that a launch is just making carry the instance's id before we record theirs.
                if version and machine.id not in seen and "bathotype-instance" not in machine.tags:
                    self._found(session, account_id, machine, version)

    def _follow(self, session: Session, instance: Instance, machine: SiteMachine | None) -> None:
        if machine is None:
            self._change(session, instance, "terminated", "It was deleted at the site.")
            instance.ended_at = utcnow()
            forget_identity(session, instance.account_id, str(instance.site_machine))
            return
        instance.seen_at = utcnow()
        if machine.name != instance.name:
            audit.record(
                session,
                instance.account_id,
                "site",
                "instance.renamed",
                instance.id,
                before={"name": instance.name},
                after={"name": machine.name},
            )
            instance.name = machine.name
        instance.address = machine.address
        state = "running" if machine.state == "running" else "stopped"
        if state != instance.state:
            self._change(session, instance, state, None)

    @staticmethod
    def _change(session: Session, instance: Instance, state: str, reason: str | None) -> None:
        audit.record(
            session,
            instance.account_id,
            "site",
            f"instance.{state}",
            instance.name,
            before={"state": instance.state},
            after={"state": state, "instance": instance.id, "reason": reason},
        )
        instance.state, instance.reason = state, reason

    @staticmethod
    def _found(session: Session, account_id: str, machine: SiteMachine, version_id: str) -> None:
        instance = Instance(
            id=new_id("in"),
            account_id=account_id,
            version_id=version_id,
            name=machine.name,
            region=machine.region,
            zone=machine.zone,
            size=machine.size,
            state="running" if machine.state == "running" else "stopped",
            origin="found",
            site_machine=machine.id,
            address=machine.address,
            seen_at=utcnow(),
        )
        session.add(instance)
        audit.record(
            session,
            account_id,
            "site",
            "instance.found",
            machine.name,
            after={"instance": instance.id, "machine": machine.id},
        )

    def _ask(self, site: Site, account_id: str, machines: list[SiteMachine]) -> None:
        """Ask agents that were not asked lately who they are; a bounded number a pass."""
        with self._database.sessions() as session:
            asked = {
                i.site_machine: i
                for i in session.scalars(
                    select(Instance).where(Instance.account_id == account_id, Instance.state == "running")
                )
            }
        due = [
            (m, asked[m.id])
            for m in machines
            if m.id in asked
            and m.state == "running"
            and (not asked[m.id].identity or (utcnow() - (asked[m.id].seen_at or utcnow())) > _ASK_AGAIN)
        ]
        for machine, instance in due[:_ASKED_PER_PASS]:
            try:
                with site.agent(machine.id, timeout=3) as agent:
                    found = read_identity(agent)
            except BathotypeError:
                continue
            with self._database.sessions.begin() as session:
                session.execute(update(Instance).where(Instance.id == instance.id).values(identity=found))
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
            for version in session.scalars(due.with_for_update(of=Version)):
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
        for row in rows:
            site = self._reach.site(row.region, self._reach.account_name(row.account_id))
            try:
                site.delete_disk(str(row.site_disk))
            except (NotFound, BathotypeError) as error:
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
