"""Import: from an image file to a staged version; and edits, from a version to a new one."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

import numpy as np
from sqlalchemy import delete
from sqlalchemy.orm import Session

from bathotype.core.disk.layout import read_layout, used_ranges
from bathotype.core.disk.source import open_file
from bathotype.core.generalize.apply import apply_plan
from bathotype.core.generalize.plan import capture_ranges, plan
from bathotype.core.generalize.profile import Profile, profile_of
from bathotype.core.guest.files import GuestDisk
from bathotype.core.store.materialise import materialise
from bathotype.core.units import plural
from bathotype.service.auth import Principal
from bathotype.service.operations.work import StepPlan
from bathotype.service.records import Upload, Version
from bathotype.service.work.making import MakesVersion, profile_for
from bathotype.service.work.sources import Examined, examine, source_record


class Import(MakesVersion):
    """Check, bring the used blocks to scratch, generalize, store, judge, record."""

    kind = "import"
    steps = (
        StepPlan("check", "Check the file"),
        StepPlan("fetch", "Bring the used blocks", 6, restart_from="fetch"),
        StepPlan("generalize", "Generalize the copy", 3, restart_from="fetch"),
        StepPlan("store", "Store new chunks", 6, restart_from="fetch"),
        StepPlan("scan", "Look for residue and take stock", 3),
        StepPlan("seal", "Seal the version"),
    )

    @property
    def mode(self) -> str:
        return "import"

    @property
    def profile(self) -> Profile | None:
        given = self.context.params["profile"]
        return None if given is None else profile_for(given)

    def _upload(self) -> Upload | None:
        upload = self.context.params.get("upload")
        if not upload:
            return None
        with self.context.session() as session:
            found = session.get_one(Upload, upload)
            session.expunge(found)
            return found

    def _examine(self) -> Examined:
        return examine(
            self.context.reach,
            self.context.account_name,
            upload=self._upload(),
            url=self.context.params.get("url"),
            form=self.context.params.get("format"),
            region=self.region,
            profile=self.profile,
            scratch_bytes=self.context.settings.scratch_bytes,
        )

    def check(self) -> None:
        """Everything once more, and an archive's own digests."""
        self._need_tools()
        found = self._examine()
        for remark in found.remarks:
            if remark.outcome == "warning":
                self.context.log(f"{remark.why} {remark.advice}".strip(), "warning")
        if not found.importable:
            raise found.refusal()
        assert found.image is not None
        if found.image.check is not None:
            listed = found.image.check(self.context.progress)
            self.context.log("The archive's digests are right." if listed else "The archive lists no digests.")
        self.context.remember(source=source_record(found, self.context.params.get("url")), identity={})

    def fetch(self) -> None:
        """The used blocks, as a sparse raw file in scratch."""
        found = self._examine()
        if not found.importable or found.image is None:
            raise found.refusal()
        disk = found.image.disk
        used = used_ranges(disk, read_layout(disk))
        self._bring(disk, used)

    def store(self) -> None:
        """Store what the region does not have yet."""
        if self.profile is not None:
            self._store_image()
            return
        with open_file(self._image) as image:
            layout = read_layout(image)
            if layout.root(image) is not None:
                self.context.remember(identity=self._identity_of(GuestDisk.open(image)))
            self._store(image, used_ranges(image, layout))

    def _told_source(self) -> str:
        return str(self.context.memo["source"]["file"])

    def on_end(self, session: Session, outcome: str) -> None:
        if outcome == "succeeded" and self.context.params.get("upload"):
            session.execute(delete(Upload).where(Upload.id == self.context.params["upload"]))

    def clean_up(self, outcome: str) -> None:
        super().clean_up(outcome)
        if outcome == "succeeded" and self.context.params.get("upload"):
            self.context.store(self.region).delete_upload(self.context.params["upload"])


class Edit(MakesVersion):
    """Typed steps on a version's disk, which is never booted; the result is a new version with the old as parent."""

    kind = "edit"
    steps = (
        StepPlan("copy", "Bring the version's disk", 4, restart_from="copy"),
        StepPlan("change", "Make the changes", 2, restart_from="copy"),
        StepPlan("store", "Store new chunks", 4, restart_from="copy"),
        StepPlan("scan", "Look for residue and take stock", 3),
        StepPlan("seal", "Seal the version"),
    )

    @property
    def mode(self) -> str:
        return "edit"

    @property
    def profile(self) -> Profile:
        """The steps, as a profile without a name of its own."""
        return profile_of({"name": "edit", "steps": self.context.params["steps"]})

    @property
    def identity_kept(self) -> bool:
        return bool(self.context.params["identity_kept"])

    def copy(self) -> None:
        """Materialise the base version in scratch."""
        self._need_tools()
        self.context.keep_chunks(self.region)
        store = self.context.store(self.region)
        manifest = store.get_manifest(self.context.params["base_id"])
        target = self._new_image(manifest.size, manifest.data_bytes)
        try:
            materialise(manifest, store, target, progress=self.context.progress)
        finally:
            target.close()
        self.context.remember(source=self.context.params["source"], identity={})

    def change(self) -> None:
        """Plan and apply the steps."""
        with open_file(self._image) as image:
            disk = GuestDisk.open(image)
            before = self._digests(image, used_ranges(image, disk.layout))
            planned = plan(self.profile, disk, host_name=disk.text("/etc/hostname").strip())
            apply_plan(planned, disk, self._image, self.context.scratch)
        with open_file(self._image) as image:
            ranges = list(capture_ranges(planned, GuestDisk.open(image)))
        np.save(self.context.scratch / "before.npy", before)
        for change in planned.changes:
            self.context.log(f"{change.step}: {change.action} {change.path} {change.note}".strip())
        self.context.log(f"{plural(len(planned.changes), 'change')} made.")
        self.context.remember(
            steps=planned.by_step(), ranges=ranges, changes=[asdict(c) for c in planned.changes], profile=None
        )

    def store(self) -> None:
        """Store what the region does not have yet."""
        self._store_image()

    def _parent(self, session: Session) -> str | None:
        return str(self.context.params["base_id"])

    def _told_source(self) -> str:
        return str(self.context.params["base"])

    def result(self) -> dict[str, Any]:
        return {**super().result(), "changes": self.context.memo["changes"]}


def edit_params(caller: Principal, base: Version, reference: str) -> dict[str, Any]:
    """What an edit needs to know of its base."""
    source = {k: v for k, v in base.source.items() if k in ("size", "boot", "architecture")}
    return {
        "base_id": base.id,
        "base": reference,
        "source": {**source, "edited_from": reference},
        "identity_kept": base.mode == "as-is" or (base.mode in ("import", "edit") and base.profile is None),
    }
