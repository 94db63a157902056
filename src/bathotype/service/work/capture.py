"""Capture: from a machine's disk to a staged version."""

from __future__ import annotations

import os
import shutil
from dataclasses import asdict
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.contents.inventory import Contents, read_contents
from bathotype.core.disk.layout import read_layout, used_ranges
from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource, open_file
from bathotype.core.errors import BathotypeError, NotFound, OutOfSpace, Refused
from bathotype.core.generalize import residue
from bathotype.core.generalize.apply import apply_plan
from bathotype.core.generalize.plan import capture_ranges, plan
from bathotype.core.generalize.profile import Profile, builtin_profile, profile_of
from bathotype.core.guest.files import GuestDisk
from bathotype.core.guest.offline import replay_journal, tools_missing
from bathotype.core.lifecycle.numbers import sort_key
from bathotype.core.store.ingest import ingest
from bathotype.core.store.manifest import ChunkIndex, Manifest
from bathotype.core.store.materialise import StoredDisk
from bathotype.core.units import iec, plural
from bathotype.service import audit
from bathotype.service.identity import read_identity, remember_identity
from bathotype.service.operations.work import StepPlan, Work
from bathotype.service.preflight import Preflight, inspect
from bathotype.service.records import BaseDisk, Finding, Instance, Line, Replica, Version, VersionPackage
from bathotype.service.records.base import utcnow
from bathotype.service.work.freeze import snapshot_frozen, thaw_if_frozen
from bathotype.sites.protocol import Site, SiteMachine

_COPY_PIECE = 4 * 1024 * 1024
_MOST_REFERENCES = 4  # manifests whose chunks are looked up before storing anew


def profile_for(given: str | dict[str, Any]) -> Profile:
    """A built-in profile by name, or one given as data."""
    return builtin_profile(given) if isinstance(given, str) else profile_of(given)


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

    def check(self) -> None:
        """Preflight once more: minutes may have passed in the queue."""
        self._have_machine_alone()
        missing = tools_missing()
        if missing and self.profile is not None:
            raise Refused(
                f"This worker lacks {', '.join(missing)}.", advice="Install Debian's package e2fsprogs on it."
            )
        if thaw_if_frozen(self.site, self.context.params["machine_id"]):
            self.context.log("The guest was still frozen from before; it is thawed.", "warning")
        found: Preflight = inspect(
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
        if machine.state == "running" and self._freezes:
            taken = snapshot_frozen(self.context, self.site, machine, boot.id, key)
            self.context.log(f"The guest was frozen for {taken.frozen_seconds:.2f} s.")
            self.context.remember(snapshot=taken.disk.id, frozen_seconds=round(taken.frozen_seconds, 3))
        else:
            name = f"{machine.name}-{self.context.id}"
            taken_off = self.site.snapshot(
                boot.id, key=key, name=name, tags=self.context.tags(self.context.params.get("tags"))
            )
            self.context.remember(snapshot=taken_off.id)
        source = {
            "machine": machine.name,
            "machine_id": machine.id,
            "region": machine.region,
            "zone": machine.zone,
            "address": machine.address,
            "created_from": machine.created_from,
        }
        self.context.remember(source=source, identity=identity)

    _freezes = True

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


class Capture(_FromSnapshot):
    """The whole way from preflight to a staged version."""

    kind = "capture"
    steps = (
        StepPlan("check", "Check every precondition"),
        StepPlan("snapshot", "Freeze, snapshot, thaw"),
        StepPlan("copy", "Copy the used blocks", 6, restart_from="copy"),
        StepPlan("generalize", "Generalize the copy", 3, restart_from="copy"),
        StepPlan("store", "Store new chunks", 6, restart_from="copy"),
        StepPlan("scan", "Look for residue and take stock", 3),
        StepPlan("seal", "Seal the version"),
    )

    @property
    def _image(self) -> Path:
        return self.context.scratch / "disk.raw"

    def copy(self) -> bool | None:
        """Bring the used blocks of the snapshot to scratch, as a sparse file.  A capture as it is needs no copy."""
        if self.mode == "as-is":
            return False
        image = self._image
        image.unlink(missing_ok=True)
        with self.site.open_disk(self.context.memo["snapshot"]) as disk:
            used = used_ranges(disk, read_layout(disk))
            self._check_scratch(used.total)
            with image.open("xb") as file:
                file.truncate(disk.size)
            try:
                self._copy_ranges(disk, used, image)
            except OSError as error:
                raise OutOfSpace(
                    f"The scratch space cannot be written: {error.strerror}.",
                    advice="Free space under BATHOTYPE_SCRATCH_DIR, then retry.",
                ) from error
        return None

    def _copy_ranges(self, disk: BlockSource, used: Ranges, image: Path) -> None:
        done, total = 0, used.total
        with open_file(image, writable=True) as target:
            for start, end in used:
                for at in range(start, end, _COPY_PIECE):
                    piece = disk.read(at, min(_COPY_PIECE, end - at))
                    target.write(at, piece)
                    done += len(piece)
                    self.context.progress(done, total)
            target.flush()

    def _check_scratch(self, needed: int) -> None:
        folder = self.context.settings.scratch_dir
        taken = sum(f.stat().st_blocks * 512 for f in folder.rglob("*") if f.is_file())
        free = shutil.disk_usage(folder).free
        room = min(self.context.settings.scratch_bytes - taken, free - 64 * 1024 * 1024)
        if needed * 1.05 > room:
            raise OutOfSpace(
                f"The copy needs {iec(needed)} of scratch space and {iec(max(0, room))} is left.",
                advice="Wait for other captures to end, or raise BATHOTYPE_SCRATCH_BYTES, then retry.",
            )

    def generalize(self) -> bool | None:
        """Make the profile's changes on the copy, never on the source."""
        profile = self.profile
        if profile is None:
            return False
        with open_file(self._image) as image:
            volumes = [v for v in read_layout(image).volumes if v.filesystem == "ext4"]
        for volume in volumes:
            if replay_journal(self._image, volume.start, volume.length):
                self.context.log(f"The journal of partition {volume.number} of the copy was replayed.")
        with open_file(self._image) as image:
            disk = GuestDisk.open(image)
            identity = dict(self.context.memo["identity"])
            identity.setdefault("host_name", disk.text("/etc/hostname").strip())
            identity.setdefault("machine_id", disk.text("/etc/machine-id").strip())
            planned = plan(profile, disk, host_name=identity["host_name"])
            apply_plan(planned, disk, self._image, self.context.scratch)
        with open_file(self._image) as image:
            hidden = capture_ranges(planned, GuestDisk.open(image))
        self.context.log(f"{plural(len(planned.changes), 'path')} changed, {iec(planned.total_bytes)} gone.")
        self.context.remember(
            identity=identity,
            steps=planned.by_step(),
            ranges=list(hidden),
            profile={"name": profile.name, "digest": profile.digest},
        )
        return None

    def store(self) -> None:
        """Store what the region does not have yet."""
        self.context.keep_chunks(self.region)
        store = self.context.store(self.region)
        known = ChunkIndex(self._references())
        if self.mode == "as-is":
            with self.site.open_disk(self.context.memo["snapshot"]) as disk:
                stored = ingest(
                    disk, used_ranges(disk, read_layout(disk)), store, known, progress=self.context.progress
                )
        else:
            used = Ranges.of([(a, b) for a, b in self.context.memo["ranges"]])
            with open_file(self._image) as image:
                stored = ingest(image, used, store, known, progress=self.context.progress)
        manifest = stored.manifest
        store.put_manifest(self._version_id, manifest)
        self.context.log(f"{iec(stored.new_bytes)} new of {iec(manifest.data_bytes)}.")
        self.context.remember(
            digest=manifest.content_digest,
            virtual=manifest.size,
            used=manifest.data_bytes,
            stored=manifest.stored_bytes,
            new=stored.new_bytes,
            ranges=None,
        )

    @property
    def _version_id(self) -> str:
        return str(self.context.params["version_id"])

    def _references(self) -> list[Manifest]:
        """Manifests in which equal chunks are likely: the parent's, and the line's and machine's newest."""
        source = self.context.memo["source"]
        with self.context.session() as session:
            here = (
                select(Version.id)
                .join(Replica)
                .where(Replica.region == self.region, Replica.state == "ready", Version.state != "purged")
            )
            newest = here.order_by(Version.created_at.desc())
            parent = self._parent(session)
            wanted = [parent] if parent else []
            wanted += session.scalars(newest.where(Version.line_id == self.context.params["line_id"]).limit(2))
            wanted += session.scalars(
                newest.where(Version.source["machine_id"].as_string() == source["machine_id"]).limit(1)
            )
        found = []
        for version in list(dict.fromkeys(wanted))[:_MOST_REFERENCES]:
            try:
                found.append(self.context.store(self.region).get_manifest(version))
            except (NotFound, BathotypeError) as error:
                self.context.log(f"The manifest of {version} cannot be used as a reference: {error.message}", "warning")
        return found

    def _parent(self, session: Session) -> str | None:
        """The version that the source machine was launched from."""
        source = self.context.memo["source"]
        of_instance = select(Instance.version_id).where(Instance.site_machine == source["machine_id"])
        parent = session.scalar(of_instance.limit(1))
        if parent is None and source.get("created_from"):
            parent = session.scalar(select(BaseDisk.version_id).where(BaseDisk.site_disk == source["created_from"]))
        return parent

    def scan(self) -> None:
        """Read the version back from its store, as launches will, and judge that."""
        self.context.keep_chunks(self.region)
        store = self.context.store(self.region)
        stored = StoredDisk(store.get_manifest(self._version_id), store)
        identity = self.context.memo["identity"]
        contents = Contents()
        try:
            disk = GuestDisk.open(stored)
        except Refused as error:
            findings = residue.unreadable(error.message)
        else:
            contents = read_contents(disk)
            known = residue.SourceIdentity(
                identity.get("host_name", ""),
                identity.get("machine_id", ""),
                tuple({*identity.get("addresses", []), self.context.memo["source"]["address"]}),
                tuple(identity.get("host_keys", [])),
            )
            findings = residue.scan(disk, known, layout=disk.layout, identity_kept=self.mode == "as-is")
        high = sum(f.severity == "high" for f in findings)
        self.context.log(
            f"{plural(len(findings), 'finding')}, {high} of high severity; {plural(len(contents.packages), 'package')}."
        )
        self.context.remember(findings=[asdict(f) for f in findings], contents=contents.as_data())

    def seal(self) -> None:
        """Record the version.  Doing it twice records it once."""
        memo, params = self.context.memo, self.context.params
        with self.context.session() as session:
            if session.get(Version, self._version_id) is not None:
                return
            line = session.get_one(Line, params["line_id"])
            contents = dict(memo["contents"])
            packages = contents.pop("packages")
            contents["package_count"] = len(packages)
            source = {**memo["source"], "host_name": memo["identity"].get("host_name", "")}
            session.add(
                Version(
                    id=self._version_id,
                    line_id=line.id,
                    number=params["number"],
                    sort_key=sort_key(params["number"]),
                    state="staged",
                    pin_only=False,
                    notes=params.get("notes", ""),
                    content_digest=memo["digest"],
                    virtual_bytes=memo["virtual"],
                    used_bytes=memo["used"],
                    stored_bytes=memo["stored"],
                    new_bytes=memo["new"],
                    mode=self.mode,
                    source=source,
                    parent_id=self._parent(session),
                    profile=memo.get("profile"),
                    steps=memo.get("steps", []),
                    contents=contents,
                    operation_id=self.context.id,
                )
            )
            session.flush()
            session.add(Replica(version_id=self._version_id, region=self.region, state="ready", verified_at=utcnow()))
            rows = {(p["name"], p["architecture"], p["version"]): p for p in packages}
            session.add_all(VersionPackage(version_id=self._version_id, **p) for p in rows.values())
            for position, finding in enumerate(memo["findings"]):
                fields = {k: v for k, v in finding.items() if k != "id"}
                session.add(Finding(version_id=self._version_id, name=finding["id"], position=position, **fields))
            audit.record(
                session,
                self.context.account_id,
                self.context.created_by,
                "version.staged",
                f"{line.name}@{params['number']}",
                after={"content_digest": memo["digest"], "machine": source["machine"], "mode": self.mode},
            )

    def clean_up(self, outcome: str) -> None:
        super().clean_up(outcome)
        if outcome != "succeeded":
            self.context.store(self.region).delete_manifest(self._version_id)

    def result(self) -> dict[str, Any]:
        memo = self.context.memo
        high = sum(f["severity"] == "high" for f in memo["findings"])
        return {
            "reference": f"{self.context.params['line']}@{self.context.params['number']}",
            "version_id": self._version_id,
            "content_digest": memo["digest"],
            "sizes": {"virtual": memo["virtual"], "used": memo["used"], "stored": memo["stored"], "new": memo["new"]},
            "findings": {"all": len(memo["findings"]), "high": high},
            "frozen_seconds": memo.get("frozen_seconds"),
        }
