"""Capture: from a machine's disk to a staged version."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from typing import Any, TypeVar

from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.confined.asking import look
from bathotype.core.confined.changing import BLANK
from bathotype.core.confined.judging import JUDGE, Judged, JudgeQuestion
from bathotype.core.confined.looking import MARKER, Look, MarkerQuestion
from bathotype.core.disk.nbdpool import NbdPool
from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.several import Several, disks_of
from bathotype.core.disk.source import BlockSource, FileSource
from bathotype.core.errors import BathotypeError, Damaged, NotFound, Refused, Unavailable
from bathotype.core.generalize import residue
from bathotype.core.generalize.profile import OwnTool, Profile
from bathotype.core.generalize.remains import still_holds
from bathotype.core.generalize.residue import USED_SECRET, used_secret
from bathotype.core.sheets.secrecy import held_in
from bathotype.core.store.ingest import Chunks, Unchanged
from bathotype.core.store.manifest import Manifest
from bathotype.core.store.materialise import StoredDisk, materialise
from bathotype.core.store.note import CaptureNote
from bathotype.core.units import iec, plural
from bathotype.service import audit
from bathotype.service.guests.clone import InsideClone
from bathotype.service.guests.frozen import thaw_if_frozen
from bathotype.service.guests.power import shut_down, wait_until_off
from bathotype.service.kinds.generalizing import generalize_copy, need_tools, profile_for
from bathotype.service.kinds.making import MakingKind, MakingMemo, MakingParams, source_identity
from bathotype.service.kinds.scratch import bring, copy_ranges, new_image, open_copy
from bathotype.service.kinds.snapshots import SnapshotMemo, SnapshotParams, Snapshots
from bathotype.service.operations.kind import Step
from bathotype.service.preflight import inspect
from bathotype.service.records import BaseDisk, Checkpoint, Instance, Operation, Replica
from bathotype.service.records.base import utcnow
from bathotype.service.vault import Vault
from bathotype.sites.protocol import Site
from bathotype.wire.versions import Afterwards, CaptureMode

#: How long a machine that was asked to shut down is waited for before it is started again, in seconds.
_ON_ITS_WAY_DOWN = 60.0


class CaptureParams(SnapshotParams, MakingParams):
    """The machine, the mode, the profile, and the version to make."""

    mode: CaptureMode = "live"
    power_off: bool = False
    afterwards: Afterwards = "kept"


class CaptureMemo(SnapshotMemo, MakingMemo):
    """``inside`` says that a booted clone is generalized; ``since_*`` name the last capture of the machine.

    ``tool_told`` is what shows that the system's own tool has run.  ``shut_down`` says that this operation has shut the
    machine down, and has not started it again; ``starting`` that it does so now."""

    inside: bool = False
    since_snapshot: str | None = None
    since_version: str | None = None
    read_bytes: int | None = None
    shut_down: bool = False
    starting: bool = False
    tool_told: str = ""


CP = TypeVar("CP", bound=CaptureParams)
CM = TypeVar("CM", bound=CaptureMemo)


class CaptureKind(Snapshots[CP, CM], MakingKind[CP, CM]):
    """What can be done on the way from a machine to a staged version."""

    @property
    def _as_is(self) -> bool:
        return self.params.mode == "as-is"

    @property
    def _profile(self) -> Profile:
        return profile_for(self.params.profile)

    @property
    def _own_tool(self) -> OwnTool | None:
        """The system's own tool, where that generalizes it."""
        return None if self._as_is else self._profile.own_tool

    @property
    def _as_it_lies(self) -> bool:
        """Whether nothing on the disk is changed from here."""
        return self._as_is or self._own_tool is not None

    def check(self) -> None:
        """Preflight once more: minutes may have passed in the queue."""
        self.have_machine_alone()
        if not self._as_is:
            need_tools()
        if thaw_if_frozen(self.site, self.machine):
            self.context.log("The guest was still frozen from before; it is thawed.", "warning")
        found = inspect(
            self.context.reader,
            self.context.reach,
            self.context.account_name,
            self.machine,
            mode=self.params.mode,
            profile=None if self._as_is else self._profile,
            tags=self.params.tags,
            scratch_bytes=self.context.settings.scratch_bytes,
            power_off=self.params.power_off,
            disks=self.params.disks,
            prepared=self.params.prepared,
        )
        for warning in found.remarks.warnings:
            self.context.log(warning, "warning")
        found.refuse()
        self.memo.inside, self.memo.tool_told = found.inside, found.tool_told
        self.save()

    def power_off(self) -> bool | None:
        """Shut the machine down by its agent, where that was asked."""
        machine = self.machine
        if not self.params.power_off or (machine.state == "stopped" and not self.memo.shut_down):
            return False
        asked = self.memo.shut_down
        if not asked:
            self.memo.identity, self.memo.shut_down = self.identity_now(machine), True
            self.save()
        shut_down(self.context, self.site, machine.id, asked=asked)
        return None

    def snapshot(self) -> None:
        """Freeze, snapshot, thaw; the site notes changes from now on, unless a clone is stored."""
        notes, at_rest = not self.memo.inside, self.params.power_off
        if not at_rest or self.memo.snapshot is None:
            if at_rest and self.memo.shut_down:
                shut_down(self.context, self.site, self.machine_id)  # somebody may have started it
            self.take_snapshot(freeze=True, note_changes=notes, since=self._last_capture() if notes else None)
        if self.params.afterwards == "kept":
            self._start_again()

    def _start_again(self) -> None:
        """Start a machine that this operation has shut down.

        One that was asked and is still on its way down is waited for: else it would stay off after all.
        """
        if not self.memo.shut_down:
            return
        machine = self.machine_id
        if self.memo.starting or wait_until_off(self.site, machine, _ON_ITS_WAY_DOWN):
            self.memo.starting = True
            self.save()  # a worker that dies now does not wait for it to go off once more
            self.site.power(machine, "on")
            self.context.log("The machine is started again.")
        else:
            self.context.log("The machine was asked to shut down, and keeps running.", "warning")
        self.memo.shut_down = self.memo.starting = False
        self.save()

    def settle(self) -> bool | None:
        """Leave the source as it was asked for.  The version is sealed: what fails here is said, and harms nothing."""
        wanted, context = self.params.afterwards, self.context
        if wanted == "kept":
            return False
        try:
            if wanted == "deleted":
                self.site.delete_machine(self.params.machine_id)
            elif self.machine.state == "running":
                shut_down(context, self.site, self.params.machine_id)
        except BathotypeError as error:
            context.log(f"The source is not {wanted}: {error}", "warning")
            return None
        context.log(f"The source is {wanted}.")
        with context.session() as session:
            audit.record(
                session, context.account_id, context.created_by, f"machine.{wanted}", str(self.memo.source["machine"]),
                after={"machine": self.machine_id, "operation": context.id},
            )  # fmt: skip
        return None

    def _last_capture(self) -> str | None:
        """The snapshot of the last capture of the machine, since which the site may know what changed."""
        region = self.params.region
        with self.context.session() as session:
            noted = session.get(Checkpoint, (self.context.account_id, self.machine_id))
            if noted is None or noted.region != region:
                return None
            ready = session.scalar(
                select(Replica.state).where(Replica.version_id == noted.version_id, Replica.region == region)
            )
        if ready != "ready":
            return None
        self.memo.since_snapshot, self.memo.since_version = noted.site_snapshot, noted.version_id
        return noted.site_snapshot

    def inside(self) -> bool | None:
        """Where the disk cannot be edited offline, generalize a booted clone and store a snapshot of that."""
        if not self.memo.inside:
            return False
        if (tool := self._own_tool) is not None:
            self._run_own_tool(tool)
            return None
        context, profile = self.context, self._profile
        known = dict(self.memo.identity)
        with self.open_disks(self.all_taken) as raw:
            before = look(context.reader, raw)
        readable = before.has_root or any(volume.read_alone for volume in before.layout.volumes)
        with InsideClone(context, self.site, self.machine, self.all_taken, self.params.tags) as clone:
            made = clone.generalize(
                profile,
                known,
                None if readable else lambda identity: self._sought(identity),
            )
            self.memo.take_inside(made.planned)
            self.memo.profile = {"name": profile.name, "digest": profile.digest}
            self.save()
            with self.open_disks(made.snapshots) as raw:
                found = look(context.reader, raw)
                bring(context, found.settled(raw), found.used)
        with open_copy(context, writable=True) as image:
            context.reader.ask(BLANK, None, image)
        with open_copy(context) as image:
            identity = self._sought(made.planned.identity)
            judged = made.judged or self._judge_inside(identity, image)
            findings = [*judged.findings, *map(residue.unmounted, made.unmounted)]
            # The id was a small file too: where it is still found, other removed files may be.
            machine_id = str(self.memo.identity.get("machine_id", ""))
            if len(machine_id) == 32 and still_holds(image, machine_id.encode()):
                findings.append(residue.remains("the source's machine id"))
            self.look_over(image)
            self.memo.after = judged.survey
            self.judged(self.with_left_behind(findings, image), judged.contents)
            self.store_disk(image, look(context.reader, image).used)
        return None

    def _sought(self, identity: dict[str, Any]) -> residue.SourceIdentity:
        """What the scan of a clone looks for: the identity that was read in it, and those of the sources before."""
        return self.with_sources_before(source_identity(identity, self.memo.source))

    def _judge_inside(self, identity: residue.SourceIdentity, image: BlockSource) -> Judged:
        """Scan what a clone left, on its disks."""
        try:
            return self.context.reader.ask(JUDGE, JudgeQuestion(identity, reached=True), image)
        except Refused as error:
            return Judged(tuple(residue.unreadable(error.message)), None, None)

    def _run_own_tool(self, tool: OwnTool) -> None:
        """Run the system's own tool in a booted clone, and store what it leaves."""
        context = self.context
        with InsideClone(context, self.site, self.machine, self.all_taken, self.params.tags) as clone:
            with self.open_disks(clone.prepare(tool)) as raw:
                told = f"run in a throwaway clone on {utcnow():%Y-%m-%d}"
                if tool.marker is not None:
                    line = context.reader.ask(MARKER, MarkerQuestion(tool.marker), raw).line
                    if line is None:
                        why = f"{tool.tool} has ended, and {tool.marker.path} does not say that it has run."
                        raise Damaged(why, advice="See what it says in the machine.", code="step-failed")
                    told = line
                self._note_tool(tool, told)
                found = look(context.reader, raw)
                self.look_over(raw)
                self._judge_prepared(found.settled(raw))
                self.store_disk(found.settled(raw), found.used)

    def _judge_prepared(self, disk: BlockSource) -> None:
        """Scan what the system's own tool has left, as far as it can be read."""
        try:
            found = self.context.reader.ask(JUDGE, JudgeQuestion(self.known_identity), disk)
        except Refused as error:
            self.judged(residue.unreadable(error.message), None)
            return
        self.memo.after, self.memo.used_after = found.survey, found.used_bytes
        self.judged(self.with_left_behind(found.findings, disk), found.contents)

    def _note_tool(self, tool: OwnTool, told: str) -> None:
        """Remember what has generalized the system."""
        profile = self._profile
        self.memo.profile = {"name": profile.name, "digest": profile.digest, "tool": tool.tool, "told": told}
        self.memo.answers = tool.answers.model_dump() if tool.answers else None
        self.save()

    def copy(self) -> bool | None:
        """Bring the used blocks of the snapshot to scratch, as a sparse file.  What is not changed needs no copy."""
        if self._as_it_lies or self.memo.inside:
            return False
        with self.open_disks(self.all_taken) as raw:
            found = self._look(raw)
            disk, used, earlier = found.settled(raw), found.used, self._incremental(raw, found)
            target = new_image(self.context, disks_of(disk), used.total)
            try:
                if earlier is None:
                    copy_ranges(self.context, disk, used, target, 0, used.total)
                else:
                    self._copy_changes(raw, used, target, earlier)
                target.flush()
            finally:
                target.close()
        return None

    def _look(self, raw: BlockSource) -> Look:
        """What is on the snapshot."""
        found = look(self.context.reader, raw, whole_blocks=self._as_it_lies or self.memo.changes_known)
        if found.replays:
            self.context.log("A journal waits to be replayed, as after a crash: it is replayed in what is captured.")
        for remark in found.layout.remarks:
            self.context.log(remark, "warning")
        return found

    def _incremental(self, disk: NbdPool | Several, found: Look) -> Unchanged | None:
        """The version to build upon, and the chunks that must be read anew; None where everything must be.

        What is noted are whole blocks: a file's end in its last block changes with the block alone.
        """
        if found.replays or found.whole_blocks is None:
            return None  # then the site's word on what has changed is not all
        changed = disk.changed() if self.memo.changes_known else None
        since = self.memo.since_version
        if changed is None or since is None:
            return None
        self.context.keep_chunks(self.params.region)
        store = self.context.store(self.params.region)
        try:
            base = store.get_manifest(since)
            note = CaptureNote.loads(store.get_note(since))
        except (NotFound, Damaged) as error:
            self.context.log(f"Everything is read: {error.message}", "warning")
            return None
        if base.sizes != disks_of(disk):
            return None  # other disks are captured now
        fresh = note.fresh(found.whole_blocks, changed, disk.size)
        self.context.log(f"The site knows what changed since the last capture: {iec(changed.total)}.")
        return Unchanged(base, fresh)

    def _copy_changes(self, disk: BlockSource, used: Ranges, target: FileSource, earlier: Unchanged) -> None:
        context = self.context
        wanted = used.windows(65536)
        base: Manifest = earlier.manifest
        rows = earlier.rows(wanted)
        fresh = Chunks(wanted[earlier.changed.covers(wanted)])
        from_site = fresh.ranges(disk.size).intersect(used, disk.size)
        total = from_site.total + len(rows) * 65536
        before = copy_ranges(context, disk, from_site, target, 0, total)
        materialise(
            base.only(rows),
            context.store(self.params.region),
            target,
            progress=lambda part, _: context.progress(before + part, total),
        )
        self.memo.read_bytes = from_site.total
        self.save()
        context.log(f"{iec(from_site.total)} read from the machine, {iec(len(rows) * 65536)} from the store.")

    def generalize(self) -> bool | None:
        """Make the profile's changes on the copy, never on the source."""
        if (tool := self._own_tool) is not None and not self.memo.inside:
            self._note_tool(tool, self.memo.tool_told)
        if self._as_it_lies or self.memo.inside:
            return False
        profile = self._profile
        self.memo.take(generalize_copy(self.context, profile, self.memo.identity))
        self.memo.profile = {"name": profile.name, "digest": profile.digest}
        self.save()
        return None

    def store(self) -> bool | None:
        """Store the chunks that the region does not have yet."""
        if self.memo.inside:
            return False
        if not self._as_it_lies:
            self.store_image()
            return None
        with self.open_disks(self.all_taken) as raw:
            found = self._look(raw)
            unchanged = self._incremental(raw, found)
            self.store_disk(found.settled(raw), found.used, unchanged, taken=found.whole_blocks)
        return None

    def scan(self) -> bool | None:
        """A clone was scanned from inside, because its files cannot be read from here.  Secrets are looked for in its
        bytes all the same."""
        if not self.memo.inside:
            self.judge_stored(identity_kept=self._as_is)
        given = self.secrets_given()
        if given:
            self._look_for(given)
        return None if given or not self.memo.inside else False

    def secrets_given(self) -> dict[str, str]:
        """The secrets that the source has been given, by their names: by its first boot."""
        with self.context.session() as session:
            instance = session.scalar(
                select(Instance).where(Instance.site_machine == self.memo.source["machine_id"]).limit(1)
            )
            launch = session.get(Operation, instance.operation_id) if instance is not None else None
            sealed = dict((launch.memo or {}).get("sealed") or {}) if launch is not None else {}
        try:
            return Vault(self.context.settings).opened(sealed)
        except Unavailable as error:
            self.context.log(f"The values that its first boot got are not searched for: {error.message}", "warning")
            return {}

    def _look_for(self, secrets: Mapping[str, str]) -> None:
        context, params = self.context, self.params
        store = context.store(params.region)
        held = held_in(StoredDisk(store.get_manifest(params.version_id), store), secrets)
        self.memo.findings = [f for f in self.memo.findings if f["rule"] != USED_SECRET]
        self.memo.findings += [asdict(used_secret(name, form)) for name, form in held]
        context.log(f"{plural(len(held), 'use')} of secrets left in the captured bytes.", "warning" if held else "info")
        self.save()

    def seal(self) -> None:
        """Record the version."""
        self.record_version(mode=self.params.mode, told_source=str(self.memo.source.get("machine", "")))

    def parent(self, session: Session) -> str | None:
        """The version that the source machine was launched from."""
        source = self.memo.source
        of_instance = select(Instance.version_id).where(Instance.site_machine == source["machine_id"])
        parent = session.scalar(of_instance.limit(1))
        if parent is None and source.get("created_from"):
            parent = session.scalar(select(BaseDisk.version_id).where(BaseDisk.site_disk == source["created_from"]))
        return parent

    def on_recorded(self, session: Session) -> None:
        """Remember at which snapshot the site began to note changes."""
        if self.memo.inside:
            return
        session.merge(
            Checkpoint(
                account_id=self.context.account_id,
                machine_id=self.machine_id,
                region=self.params.region,
                site_snapshot=self.taken,
                version_id=self.params.version_id,
            )
        )

    def clean_up(self, outcome: str) -> None:
        try:
            InsideClone.remove(self.context, self.site, self.params.region)
            self.drop_snapshot()
            MakingKind.clean_up(self, outcome)
        finally:
            if outcome != "succeeded" or self.params.afterwards == "kept":
                self._start_again()

    @classmethod
    def mend_later(cls, site: Site, params: CP, memo: CM, outcome: str) -> None:
        """Start a machine again that the clean-up could not start: its site did not answer then."""
        stays_off = outcome == "succeeded" and params.afterwards != "kept"
        if memo.shut_down and not stays_off and site.machine(params.machine_id).state == "stopped":
            site.power(params.machine_id, "on")

    def result(self) -> dict[str, Any]:
        return {
            **MakingKind.result(self),
            "frozen_seconds": self.memo.frozen_seconds,
            "read_bytes": self.memo.read_bytes,
            "inside": self.memo.inside,
        }


class Capture(CaptureKind[CaptureParams, CaptureMemo]):
    """The whole way from preflight to a staged version."""

    name = "capture"
    params_type, memo_type = CaptureParams, CaptureMemo
    steps = (
        Step("check", "Check every precondition"),
        Step("power_off", "Shut the machine down"),
        Step("snapshot", "Freeze, snapshot, thaw"),
        Step("inside", "Generalize inside a throwaway clone", 3),
        Step("copy", "Copy the used blocks", 6, restart_from="copy"),
        Step("generalize", "Generalize the copy", 3, restart_from="copy"),
        Step("store", "Store new chunks", 6, restart_from="copy"),
        Step("scan", "Look for residue and take stock", 3),
        Step("seal", "Seal the version"),
        Step("settle", "Keep, stop or delete the source"),
    )
