"""Edit: typed steps on a version's disk, which is never booted; the result is a new version with the old as parent."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from sqlalchemy.orm import Session

from bathotype.core.errors import Refused
from bathotype.core.generalize.profile import profile_of
from bathotype.core.store.materialise import materialise
from bathotype.core.units import plural
from bathotype.service.kinds.descent import keeps_identity
from bathotype.service.kinds.generalizing import change_copy, need_tools
from bathotype.service.kinds.making import MakingKind, MakingMemo, MakingParams
from bathotype.service.kinds.scratch import new_image
from bathotype.service.operations.kind import Step
from bathotype.service.records import Version


class EditParams(MakingParams):
    """The base version, what is known of it, and the steps.

    ``identity_kept`` says that the base keeps the identity of its source on purpose.
    """

    base_id: str
    base: str
    source: dict[str, Any]
    identity_kept: bool
    steps: list[dict[str, Any]]
    even_unchanged: bool = False


class EditMemo(MakingMemo):
    """The changes that were made."""

    changes: list[dict[str, Any]] = []


class Edit(MakingKind[EditParams, EditMemo]):
    """Read the base's disk, change it, store it, scan it and record the version."""

    name = "edit"
    params_type, memo_type = EditParams, EditMemo
    steps = (
        Step("copy", "Copy the version's disk", 4, restart_from="copy"),
        Step("change", "Make the changes", 2, restart_from="copy"),
        Step("store", "Store new chunks", 4, restart_from="copy"),
        Step("scan", "Look for residue and take stock", 3),
        Step("seal", "Seal the version"),
    )

    def copy(self) -> None:
        """Materialise the base version in scratch."""
        need_tools()
        self.context.reader.start()
        self.context.keep_chunks(self.params.region)
        store = self.context.store(self.params.region)
        manifest = store.get_manifest(self.params.base_id)
        target = new_image(self.context, manifest.sizes, manifest.data_bytes)
        try:
            materialise(manifest, store, target, progress=self.context.progress)
        finally:
            target.close()
        self.memo.source, self.memo.identity = self.params.source, {}
        self.save()

    def change(self) -> None:
        """Plan and make the changes."""
        done = change_copy(self.context, profile_of({"name": "edit", "steps": self.params.steps}), {})
        if not done.planned.changes and not self.params.even_unchanged:
            raise Refused(unchanged(self.params.base), code="nothing-changed")
        for change in done.planned.changes:
            self.context.log(f"{change.step}: {change.action} {change.path} {change.note}".strip())
        self.context.log(f"{plural(len(done.planned.changes), 'change')} made.")
        self.memo.take(done)
        self.memo.identity = {}  # the base's own identity was removed when the base was made
        self.memo.changes = [asdict(c) for c in done.planned.changes]
        self.save()

    def store(self) -> None:
        """Store the chunks that the region does not have yet."""
        self.store_image()

    def scan(self) -> None:
        """Scan what was stored."""
        self.judge_stored(identity_kept=self.params.identity_kept)

    def seal(self) -> None:
        """Record the version."""
        self.record_version(mode="edit", told_source=self.params.base)

    def parent(self, session: Session) -> str | None:
        """The base."""
        return self.params.base_id

    def result(self) -> dict[str, Any]:
        return {**super().result(), "changes": self.memo.changes}


def unchanged(base: str) -> str:
    """What is said where the steps of an edit change nothing."""
    return (
        f"The steps change nothing on the disk of {base}: no version is made. Correct the paths, or add "
        "--even-unchanged to make it all the same."
    )


def known_of_base(session: Session, base: Version, reference: str) -> dict[str, Any]:
    """What an edit needs to know of its base, as fields of `EditParams`."""
    source = {k: v for k, v in base.source.items() if k in ("machine_size", "size", "boot", "architecture")}
    return {
        "base_id": base.id,
        "base": reference,
        "source": {**source, "edited_from": reference},
        "identity_kept": bool(keeps_identity(session, base)),
    }
