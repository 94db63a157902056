"""Capture plan: what a profile would change on the copy of a machine's disk, path by path."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from bathotype.core.confined.changing import PLAN, ProfileQuestion
from bathotype.service.kinds.generalizing import profile_for
from bathotype.service.kinds.snapshots import SnapshotMemo, SnapshotParams, Snapshots
from bathotype.service.operations.kind import Step


class CapturePlanParams(SnapshotParams):
    """The machine and the profile."""


class CapturePlanMemo(SnapshotMemo):
    """The plan."""

    plan: dict[str, Any] = {}


class CapturePlan(Snapshots[CapturePlanParams, CapturePlanMemo]):
    """Reads a snapshot that was taken without freezing: a plan does not disturb the guest even for a moment."""

    name = "capture-plan"
    params_type, memo_type = CapturePlanParams, CapturePlanMemo
    steps = (
        Step("snapshot", "Snapshot the boot disk"),
        Step("look", "Work out what would change", 3),
    )

    def snapshot(self) -> None:
        """Take it."""
        self.take_snapshot(freeze=False)

    def look(self) -> None:
        """Read the snapshot in place."""
        profile = profile_for(self.params.profile)
        with self.site.open_disk(self.taken) as raw:
            known = {key: value for key, value in self.memo.identity.items() if value}
            found = self.context.reader.ask(PLAN, ProfileQuestion(profile, known), raw)
            size = raw.size
        self.memo.plan = {
            "profile": profile.name,
            "steps": list(found.planned.steps),
            "changes": [asdict(change) for change in found.planned.changes],
            "bytes": found.planned.total_bytes,
            "used_bytes": found.used_bytes,
            "virtual_bytes": size,
        }
        self.save()

    def clean_up(self, outcome: str) -> None:
        self.drop_snapshot()

    def result(self) -> dict[str, Any]:
        return self.memo.plan
