"""Making a version from a disk: what captures, imports and edits have in common."""

from __future__ import annotations

import contextlib
import shutil
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.contents.inventory import Contents, read_contents
from bathotype.core.disk.layout import read_layout, used_ranges
from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource, FileSource, Masked, open_file
from bathotype.core.errors import BathotypeError, NotFound, OutOfSpace, Refused
from bathotype.core.generalize import residue
from bathotype.core.generalize.apply import apply_plan
from bathotype.core.generalize.plan import capture_ranges, plan
from bathotype.core.generalize.profile import Profile, builtin_profile, profile_of
from bathotype.core.guest.files import GuestDisk
from bathotype.core.guest.offline import replay_journal, tools_missing
from bathotype.core.guest.tree import FileTree
from bathotype.core.lifecycle.numbers import sort_key
from bathotype.core.store.chunks import CHUNK, digest
from bathotype.core.store.ingest import Unchanged, ingest
from bathotype.core.store.manifest import ChunkIndex, Manifest, ManifestBuilder
from bathotype.core.store.materialise import materialise
from bathotype.core.store.note import CaptureNote
from bathotype.core.units import iec, plural
from bathotype.service import audit
from bathotype.service.keys import KeyRing
from bathotype.service.operations.work import Work
from bathotype.service.records import Finding, Line, Replica, Version, VersionPackage
from bathotype.service.records.base import utcnow

_COPY_PIECE = 4 * 1024 * 1024
_MOST_REFERENCES = 4  # manifests whose chunks are looked up before storing anew


def profile_for(given: str | dict[str, Any]) -> Profile:
    """A built-in profile by name, or one given as data."""
    return builtin_profile(given) if isinstance(given, str) else profile_of(given)


class MakesVersion(Work):
    """Steps from a raw copy in scratch, or straight from a disk, to a staged version.

    ``memo`` carries: ``source`` and ``identity`` of where the disk comes from, then what each step found.
    """

    @property
    def region(self) -> str:
        """Where the version is stored."""
        return str(self.context.params["region"])

    @property
    def mode(self) -> str:
        """How the version came to be; recorded."""
        raise NotImplementedError

    @property
    def profile(self) -> Profile | None:
        """The profile, None where nothing is generalized."""
        raise NotImplementedError

    @property
    def identity_kept(self) -> bool:
        """Whether the disk keeps its identity on purpose."""
        return self.profile is None

    @property
    def _image(self) -> Path:
        return self.context.scratch / "disk.raw"

    @property
    def _version_id(self) -> str:
        return str(self.context.params["version_id"])

    def _need_tools(self) -> None:
        missing = tools_missing()
        if missing and self.profile is not None:
            raise Refused(
                f"This worker lacks {', '.join(missing)}.", advice="Install Debian's package e2fsprogs on it."
            )

    # The copy in scratch

    def _new_image(self, size: int, needed: int) -> FileSource:
        self._check_scratch(needed)
        self._image.unlink(missing_ok=True)
        with self._image.open("xb") as file:
            file.truncate(size)
        return FileSource(self._image, writable=True)

    def _bring(self, disk: BlockSource, used: Ranges) -> None:
        """Copy the used ranges of a disk to a new image in scratch."""
        target = self._new_image(disk.size, used.total)
        try:
            self._copy_ranges(disk, used, target, 0, used.total)
            target.flush()
        finally:
            target.close()

    def _copy_ranges(self, disk: BlockSource, used: Ranges, target: FileSource, done: int, total: int) -> int:
        """Copy ranges of a disk; returns the bytes done so far."""
        try:
            for start, end in used:
                for at in range(start, end, _COPY_PIECE):
                    piece = disk.read(at, min(_COPY_PIECE, end - at))
                    target.write(at, piece)
                    done += len(piece)
                    self.context.progress(done, total)
        except OSError as error:
            raise OutOfSpace(
                f"The scratch space cannot be written: {error.strerror}.",
                advice="Free space under BATHOTYPE_SCRATCH_DIR, then retry.",
            ) from error
        return done

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
            identity = self._identity_of(disk)
            before = self._digests(image, used_ranges(image, disk.layout))
            planned = plan(profile, disk, host_name=identity["host_name"])
            apply_plan(planned, disk, self._image, self.context.scratch)
        with open_file(self._image) as image:
            hidden = capture_ranges(planned, GuestDisk.open(image))
        np.save(self.context.scratch / "before.npy", before)
        self.context.log(f"{plural(len(planned.changes), 'path')} changed, {iec(planned.total_bytes)} gone.")
        self.context.remember(
            identity=identity,
            steps=planned.by_step(),
            ranges=list(hidden),
            profile={"name": profile.name, "digest": profile.digest},
        )
        return None

    def _identity_of(self, tree: FileTree) -> dict[str, Any]:
        identity = dict(self.context.memo["identity"])
        identity.setdefault("host_name", tree.text("/etc/hostname").strip())
        identity.setdefault("machine_id", tree.text("/etc/machine-id").strip())
        return identity

    @staticmethod
    def _digests(image: BlockSource, used: Ranges) -> Any:
        """Position and digest of every chunk that is not zero, as a table."""
        visible = Masked(image, used)
        rows = []
        for index in used.windows(CHUNK).tolist():
            data = visible.read(index * CHUNK, min(CHUNK, image.size - index * CHUNK))
            if any(data):
                rows.append((index, digest(data)))
        return np.array(rows, dtype=[("i", "<i8"), ("d", "V32")])

    # Storing

    def _store(self, disk: BlockSource, used: Ranges, unchanged: Unchanged | None = None) -> None:
        """Store what the region does not have yet."""
        self.context.keep_chunks(self.region)
        store = self.context.store(self.region)
        known = ChunkIndex(self._references())
        stored = ingest(disk, used, store, known, progress=self.context.progress, unchanged=unchanged)
        manifest = stored.manifest
        store.put_manifest(self._version_id, manifest)
        store.put_note(self._version_id, CaptureNote.of(used, self._before(manifest.size), manifest).dumps())
        self.context.log(f"{iec(stored.new_bytes)} new of {iec(manifest.data_bytes)}.")
        self.context.remember(
            digest=manifest.content_digest,
            virtual=manifest.size,
            used=manifest.data_bytes,
            stored=manifest.stored_bytes,
            new=stored.new_bytes,
            ranges=None,
        )

    def _before(self, size: int) -> Manifest | None:
        """The copy's chunks before it was generalized, as far as they tell what was edited."""
        path = self.context.scratch / "before.npy"
        if not path.exists():
            return None
        builder = ManifestBuilder(size)
        nowhere = builder.pack_number("")
        for index, name in np.load(path).tolist():
            builder.add(index, bytes(name), nowhere, 0, 0)
        return builder.build()

    def _store_image(self) -> None:
        """Store the generalized copy."""
        used = Ranges.of([(a, b) for a, b in self.context.memo["ranges"]])
        with open_file(self._image) as image:
            self._store(image, used)

    def _references(self) -> list[Manifest]:
        """Manifests in which equal chunks are likely: the parent's, and the line's and machine's newest."""
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
            machine = self.context.memo["source"].get("machine_id")
            if machine:
                wanted += session.scalars(newest.where(Version.source["machine_id"].as_string() == machine).limit(1))
        found = []
        for version in list(dict.fromkeys(wanted))[:_MOST_REFERENCES]:
            try:
                found.append(self.context.store(self.region).get_manifest(version))
            except (NotFound, BathotypeError) as error:
                self.context.log(f"The manifest of {version} cannot be used as a reference: {error.message}", "warning")
        return found

    def _parent(self, session: Session) -> str | None:
        """The version that this one descends from."""
        return None

    # Judging

    def scan(self) -> None:
        """Bring the version back from its store, as launches will, and judge that.

        A store may be far away: the bytes are fetched many at a time, each chunk checked, and looked at here.
        """
        self.context.keep_chunks(self.region)
        store = self.context.store(self.region)
        manifest = store.get_manifest(self._version_id)
        self._image.unlink(missing_ok=True)  # it is stored, and its room is needed
        back = self._new_image(manifest.size, manifest.data_bytes)
        try:
            materialise(manifest, store, back, progress=self.context.progress)
            disk = GuestDisk.open(back)
            known = self._known_identity()
            findings = residue.scan(disk, known, layout=disk.layout, identity_kept=self.identity_kept)
            self._judged(findings, read_contents(disk))
        except Refused as error:
            self._judged(residue.unreadable(error.message), Contents())
        finally:
            back.close()

    def _known_identity(self) -> residue.SourceIdentity:
        identity, source = self.context.memo["identity"], self.context.memo["source"]
        addresses = {*identity.get("addresses", []), *([source["address"]] if source.get("address") else [])}
        return residue.SourceIdentity(
            identity.get("host_name", ""),
            identity.get("machine_id", ""),
            tuple(addresses),
            tuple(identity.get("host_keys", [])),
        )

    def _judged(self, findings: list[residue.Finding], contents: Contents) -> None:
        high = sum(f.severity == "high" for f in findings)
        self.context.log(
            f"{plural(len(findings), 'finding')}, {high} of high severity; {plural(len(contents.packages), 'package')}."
        )
        self.context.remember(findings=[asdict(f) for f in findings], contents=contents.as_data())

    # The record

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
            KeyRing(self.context.settings).sign(session, session.get_one(Version, self._version_id))
            session.add(Replica(version_id=self._version_id, region=self.region, state="ready", verified_at=utcnow()))
            rows = {(p["name"], p["architecture"], p["version"]): p for p in packages}
            session.add_all(VersionPackage(version_id=self._version_id, **p) for p in rows.values())
            for position, finding in enumerate(memo["findings"]):
                fields = {k: v for k, v in finding.items() if k != "id"}
                session.add(Finding(version_id=self._version_id, name=finding["id"], position=position, **fields))
            self._on_sealed(session)
            audit.record(
                session,
                self.context.account_id,
                self.context.created_by,
                "version.staged",
                f"{line.name}@{params['number']}",
                after={"content_digest": memo["digest"], "source": self._told_source(), "mode": self.mode},
            )

    def _on_sealed(self, session: Session) -> None:
        """More to record in the transaction that records the version."""

    def _told_source(self) -> str:
        """Where the version comes from, for the audit trail."""
        return str(self.context.memo["source"].get("machine", ""))

    def clean_up(self, outcome: str) -> None:
        if outcome != "succeeded":
            with contextlib.suppress(NotFound):
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
        }
