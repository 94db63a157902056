"""Capture plan: what a profile would change on the copy of a machine's disk, path by path."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from bathotype.core.disk.layout import settled, used_ranges
from bathotype.core.generalize.plan import plan
from bathotype.core.guest.files import GuestDisk
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
            disk = GuestDisk.open(settled(raw))
            host = self.memo.identity.get("host_name") or disk.text("/etc/hostname").strip()
            planned = plan(profile, disk, host_name=host)
            used = used_ranges(disk.source, disk.layout).total
            size = raw.size
        self.memo.plan = {
            "profile": profile.name,
            "steps": planned.by_step(),
            "changes": [asdict(change) for change in planned.changes],
            "bytes": planned.total_bytes,
            "used_bytes": used,
            "virtual_bytes": size,
        }
        self.save()

    def clean_up(self, outcome: str) -> None:
        self.drop_snapshot()

    def result(self) -> dict[str, Any]:
        return self.memo.plan
