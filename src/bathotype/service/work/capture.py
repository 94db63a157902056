"""Capture: from a machine's disk to a staged version."""

from __future__ import annotations

import os
from dataclasses import asdict
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.disk.layout import read_layout, used_ranges
from bathotype.core.disk.source import open_file
from bathotype.core.errors import BathotypeError, Damaged, NotFound
from bathotype.core.generalize import residue
from bathotype.core.generalize.plan import plan
from bathotype.core.generalize.profile import Profile
from bathotype.core.generalize.remains import blank_remains, still_holds
from bathotype.core.guest.files import GuestDisk
from bathotype.core.store.ingest import Chunks, Unchanged
from bathotype.core.store.manifest import Manifest
from bathotype.core.store.materialise import materialise
from bathotype.core.store.note import CaptureNote
from bathotype.core.units import iec
from bathotype.service.identity import read_identity, remember_identity
from bathotype.service.operations.work import StepPlan, Work
from bathotype.service.preflight import inspect
from bathotype.service.records import BaseDisk, Checkpoint, Instance, Replica
from bathotype.service.work.freeze import snapshot_frozen, thaw_if_frozen
from bathotype.service.work.inside import InsideClone
from bathotype.service.work.making import MakesVersion, profile_for
from bathotype.sites.protocol import Site, SiteMachine


class _FromSnapshot(Work):
    """What captures and capture plans share: a snapshot of the machine's boot disk, removed in the end."""

    @property
    def mode(self) -> str:
        """live, stopped or as-is."""
        return str(self.context.params.get("mode", "live"))

    @property
    def region(self) -> str:
        """The machine's region."""
        return str(self.context.params["region"])

    @property
    def site(self) -> Site:
        """The site as the capturing account sees it."""
        return self.context.site(self.region)  # type: ignore[no-any-return]

    @property
    def machine(self) -> SiteMachine:
        """The source machine, as it is now."""
        return self.site.machine(self.context.params["machine_id"])

    @property
    def profile(self) -> Profile | None:
        """The profile, None for a capture as it is."""
        return None if self.mode == "as-is" else profile_for(self.context.params["profile"])

    def _have_machine_alone(self) -> None:
        """One capture of a machine at a time: one freeze, and one working copy at the site."""
        name = f"machine {self.context.params['machine_id']}"
        self.context.lock(name, why="Waiting for another capture of this machine to end.")

    def snapshot(self) -> None:
        """Freeze, snapshot, thaw; a machine that is off needs no freezing."""
        self._have_machine_alone()
        machine = self.machine
        thaw_if_frozen(self.site, machine.id)
        boot = machine.boot_disk
        assert boot is not None  # preflight saw it
        for stale in self.site.disks(self.region, tag=("bathotype-operation", self.context.id)):
            self.site.delete_disk(stale.id)  # of an attempt that was cut short: it may not be consistent
        key = f"{self.context.id}/snapshot/{os.urandom(4).hex()}"
        identity: dict[str, Any] = {}
        if machine.state == "running":
            identity = self._identity(machine)
        since = self._checkpoint(machine) if self._notes_changes else None
        if machine.state == "running" and self._freezes:
            taken = snapshot_frozen(
                self.context, self.site, machine, boot.id, key, checkpoint=self._notes_changes, changes_since=since
            )
            self.context.log(f"The guest was frozen for {taken.frozen_seconds:.2f} s.")
            self.context.remember(
                snapshot=taken.disk.id,
                frozen_seconds=round(taken.frozen_seconds, 3),
                changes_known=taken.disk.changes_known,
            )
        else:
            name = f"{machine.name}-{self.context.id}"
            taken_off = self.site.snapshot(
                boot.id, key=key, name=name, tags=self.context.tags(self.context.params.get("tags"))
            )
            self.context.remember(snapshot=taken_off.id, changes_known=False)
        source = {
            "machine": machine.name,
            "machine_id": machine.id,
            "region": machine.region,
            "zone": machine.zone,
            "size": machine.size,
            "address": machine.address,
            "created_from": machine.created_from,
        }
        self.context.remember(source=source, identity=identity)

    _freezes = True
    _notes_changes = False

    def _checkpoint(self, machine: SiteMachine) -> str | None:
        """The snapshot of the last capture, since which the site may know what changed."""
        return None

    def _identity(self, machine: SiteMachine) -> dict[str, Any]:
        try:
            with self.site.agent(machine.id) as agent:
                found = read_identity(agent)
        except BathotypeError:
            return {}
        with self.context.session() as session:
            remember_identity(session, self.context.account_id, machine, found)
        return found

    def clean_up(self, outcome: str) -> None:
        if "snapshot" not in self.context.memo:  # else it was thawed, and a freeze now would be somebody else's
            thaw_if_frozen(self.site, self.context.params["machine_id"])
        for disk in self.site.disks(self.region, tag=("bathotype-operation", self.context.id)):
            self.site.delete_disk(disk.id)


class CapturePlanning(_FromSnapshot):
    """What a profile would change on the copy of a machine's disk, path by path."""

    kind = "capture-plan"
    steps = (
        StepPlan("snapshot", "Snapshot the boot disk"),
        StepPlan("look", "Work out what would change", 3),
    )
    _freezes = False  # a plan does not disturb the guest even for a moment

    @property
    def mode(self) -> str:
        return "live"

    def look(self) -> None:
        """Read the snapshot in place."""
        profile = self.profile
        assert profile is not None
        with self.site.open_disk(self.context.memo["snapshot"]) as raw:
            disk = GuestDisk.open(raw)
            host = self.context.memo["identity"].get("host_name") or disk.text("/etc/hostname").strip()
            planned = plan(profile, disk, host_name=host)
            used = used_ranges(raw, disk.layout).total
        answer = {
            "profile": profile.name,
            "steps": planned.by_step(),
            "changes": [asdict(change) for change in planned.changes],
            "bytes": planned.total_bytes,
            "used_bytes": used,
            "virtual_bytes": raw.size,
        }
        self.context.remember(plan=answer)

    def result(self) -> dict[str, Any]:
        return dict(self.context.memo["plan"])


class Capture(_FromSnapshot, MakesVersion):
    """The whole way from preflight to a staged version."""

    kind = "capture"
    steps = (
        StepPlan("check", "Check every precondition"),
        StepPlan("snapshot", "Freeze, snapshot, thaw"),
        StepPlan("inside", "Generalize inside a throwaway clone", 3),
        StepPlan("copy", "Copy the used blocks", 6, restart_from="copy"),
        StepPlan("generalize", "Generalize the copy", 3, restart_from="copy"),
        StepPlan("store", "Store new chunks", 6, restart_from="copy"),
        StepPlan("scan", "Look for residue and take stock", 3),
        StepPlan("seal", "Seal the version"),
    )

    def check(self) -> None:
        """Preflight once more: minutes may have passed in the queue."""
        self._have_machine_alone()
        self._need_tools()
        if thaw_if_frozen(self.site, self.context.params["machine_id"]):
            self.context.log("The guest was still frozen from before; it is thawed.", "warning")
        found = inspect(
            self.context.reach,
            self.context.account_name,
            self.machine,
            mode=self.mode,
            profile=self.profile,
            tags=self.context.params.get("tags", {}),
            scratch_bytes=self.context.settings.scratch_bytes,
        )
        for remark in found.remarks:
            if remark.outcome == "warning":
                self.context.log(f"{remark.why} {remark.advice}".strip(), "warning")
        if not found.capturable:
            raise found.refusal()
        self.context.remember(inside=found.inside)

    @property
    def _notes_changes(self) -> bool:  # type: ignore[override]
        return not self.context.memo.get("inside")

    def _checkpoint(self, machine: SiteMachine) -> str | None:
        with self.context.session() as session:
            noted = session.get(Checkpoint, (self.context.account_id, machine.id))
            if noted is None or noted.region != self.region:
                return None
            ready = session.scalar(
                select(Replica.state).where(Replica.version_id == noted.version_id, Replica.region == self.region)
            )
        if ready != "ready":
            return None
        self.context.remember(since={"snapshot": noted.site_snapshot, "version": noted.version_id})
        return noted.site_snapshot

    def inside(self) -> bool | None:
        """Where the disk cannot be edited offline, generalize a booted clone and take a snapshot of that."""
        if not self.context.memo.get("inside"):
            return False
        profile = self.profile
        assert profile is not None
        with InsideClone(self.context, self.site, self.machine, self.context.memo["snapshot"]) as clone:
            made = clone.generalize(profile, self._identity_of, self._known_identity)
            self.context.remember(
                identity=made.identity,
                steps=made.steps,
                profile={"name": profile.name, "digest": profile.digest},
            )
            with self.site.open_disk(made.snapshot) as disk:
                used = used_ranges(disk, read_layout(disk))
                self._bring(disk, used)
        blank_remains(self._image, self.context.scratch)
        with open_file(self._image) as image:
            # The id was a small file too: where it is still found, other removed files may be.
            machine_id = str(made.identity.get("machine_id", ""))
            if len(machine_id) == 32 and still_holds(image, machine_id.encode()):
                made.findings.append(residue.remains("the source's machine id"))
            self._judged(made.findings, made.contents)
            self._store(image, used_ranges(image, read_layout(image)))
        return None

    @property
    def _straight(self) -> bool:
        """Whether the snapshot is stored as it is, without a copy in scratch."""
        return self.mode == "as-is" or bool(self.context.memo.get("inside"))

    def copy(self) -> bool | None:
        """Bring the used blocks of the snapshot to scratch, as a sparse file.  A capture as it is needs no copy."""
        if self._straight:
            return False
        with self.site.open_disk(self.context.memo["snapshot"]) as disk:
            used = used_ranges(disk, read_layout(disk))
            base, fresh = self._incremental(disk, used)
            target = self._new_image(disk.size, used.total)
            try:
                if base is None or fresh is None:
                    self._copy_ranges(disk, used, target, 0, used.total)
                else:
                    self._copy_changes(disk, used, target, base, fresh)
                target.flush()
            finally:
                target.close()
        return None

    def _incremental(self, disk: Any, used: Any) -> tuple[Manifest | None, Chunks | None]:
        """The version to build upon, and the chunks that must be read anew; None where everything must."""
        changed = disk.changed() if self.context.memo.get("changes_known") else None
        since = self.context.memo.get("since")
        if changed is None or since is None:
            return None, None
        self.context.keep_chunks(self.region)
        store = self.context.store(self.region)
        try:
            base = store.get_manifest(since["version"])
            note = CaptureNote.loads(store.get_note(since["version"]))
        except (NotFound, Damaged) as error:
            self.context.log(f"Everything is read: {error.message}", "warning")
            return None, None
        if base.size != disk.size:
            return None, None
        fresh = note.fresh(used, changed, disk.size)
        self.context.log(f"The site knows what changed since the last capture: {iec(changed.total)}.")
        return base, fresh

    def _copy_changes(self, disk: Any, used: Any, target: Any, base: Manifest, fresh: Chunks) -> None:
        wanted = used.windows(65536)
        unchanged = Unchanged(base, fresh)
        rows = unchanged.rows(wanted)
        from_site = Chunks(wanted[fresh.covers(wanted)]).ranges(disk.size).intersect(used, disk.size)
        total = from_site.total + len(rows) * 65536
        done = self._copy_ranges(disk, from_site, target, 0, total)
        before = done
        materialise(
            base.only(rows),
            self.context.store(self.region),
            target,
            progress=lambda part, _: self.context.progress(before + part, total),
        )
        self.context.remember(read_bytes=from_site.total)
        self.context.log(f"{iec(from_site.total)} read from the machine, {iec(len(rows) * 65536)} from the store.")

    def generalize(self) -> bool | None:
        return False if self.context.memo.get("inside") else MakesVersion.generalize(self)

    def store(self) -> bool | None:
        """Store what the region does not have yet."""
        if self.context.memo.get("inside"):
            return False
        if self.mode != "as-is":
            self._store_image()
            return None
        with self.site.open_disk(self.context.memo["snapshot"]) as disk:
            used = used_ranges(disk, read_layout(disk))
            base, fresh = self._incremental(disk, used)
            unchanged = Unchanged(base, fresh) if base is not None and fresh is not None else None
            self._store(disk, used, unchanged)
        return None

    def scan(self) -> bool | None:  # type: ignore[override]
        """A clone was judged from inside: its files cannot be read from here."""
        if self.context.memo.get("inside"):
            return False
        MakesVersion.scan(self)
        return None

    def _parent(self, session: Session) -> str | None:
        """The version that the source machine was launched from."""
        source = self.context.memo["source"]
        of_instance = select(Instance.version_id).where(Instance.site_machine == source["machine_id"])
        parent = session.scalar(of_instance.limit(1))
        if parent is None and source.get("created_from"):
            parent = session.scalar(select(BaseDisk.version_id).where(BaseDisk.site_disk == source["created_from"]))
        return parent

    def _on_sealed(self, session: Session) -> None:
        if not self._notes_changes:
            return
        session.merge(
            Checkpoint(
                account_id=self.context.account_id,
                machine_id=self.context.params["machine_id"],
                region=self.region,
                site_snapshot=self.context.memo["snapshot"],
                version_id=self._version_id,
            )
        )

    def clean_up(self, outcome: str) -> None:
        InsideClone.remove(self.context, self.site, self.region)
        _FromSnapshot.clean_up(self, outcome)
        MakesVersion.clean_up(self, outcome)

    def result(self) -> dict[str, Any]:
        memo = self.context.memo
        return {
            **MakesVersion.result(self),
            "frozen_seconds": memo.get("frozen_seconds"),
            "read_bytes": memo.get("read_bytes"),
            "inside": bool(memo.get("inside")),
        }
