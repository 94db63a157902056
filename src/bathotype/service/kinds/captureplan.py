"""Capture plan: what a profile would change on the copy of a machine's disk, path by path."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from bathotype.core.confined.changing import PLAN, ProfileQuestion
from bathotype.core.disk.several import disks_of
from bathotype.core.units import iec, plural
from bathotype.service.kinds.generalizing import profile_for
from bathotype.service.kinds.snapshots import SnapshotMemo, SnapshotParams, Snapshots
from bathotype.service.operations.kind import Step
from bathotype.service.preflight import effects_on_source, inspect
from bathotype.service.remarks import Remarks
from bathotype.wire.machines import Remark
from bathotype.wire.versions import Afterwards, CaptureMode


class CapturePlanParams(SnapshotParams):
    """The machine, the mode and the profile; ``remarks`` is what was judged without looking at the machine."""

    mode: CaptureMode = "live"
    remarks: list[Remark] = []
    power_off: bool = False
    afterwards: Afterwards = "kept"


class CapturePlanMemo(SnapshotMemo):
    """What preflight found, and the plan."""

    remarks: list[Remark] = []
    plan: dict[str, Any] = {}
    inside: bool = False


class CapturePlan(Snapshots[CapturePlanParams, CapturePlanMemo]):
    """Reads a snapshot that was taken without freezing: a plan does not disturb the guest even for a moment.

    Where preflight finds an obstacle, that is the plan: no snapshot is taken.
    """

    name = "capture-plan"
    params_type, memo_type = CapturePlanParams, CapturePlanMemo
    steps = (
        Step("check", "Check every precondition"),
        Step("snapshot", "Snapshot the disks"),
        Step("look", "Work out what would change", 3),
    )

    @property
    def _forbidden(self) -> bool:
        return any(remark.outcome == "obstacle" for remark in self.memo.remarks)

    @property
    def _unseen(self) -> bool:
        """Whether nothing on the disk is changed from here: a clone's own files are seen in the clone alone."""
        as_it_lies = self.params.mode == "as-is" or profile_for(self.params.profile).own_tool is not None
        return as_it_lies or self.memo.inside

    def check(self) -> None:
        """Preflight, as the capture itself does it first."""
        context, params = self.context, self.params
        found = inspect(
            context.reader,
            context.reach,
            context.account_name,
            self.machine,
            mode=params.mode,
            profile=None if params.mode == "as-is" else profile_for(params.profile),
            tags=params.tags,
            scratch_bytes=context.settings.scratch_bytes,
            remarks=Remarks(list(params.remarks)),
            power_off=params.power_off,
            disks=params.disks,
            prepared=params.prepared,
        )
        for refusal in found.remarks.refusals:
            context.log(refusal, "error")
        self.memo.remarks = found.remarks.items
        self.memo.plan, self.memo.inside = {"used_bytes": found.used_bytes}, found.inside
        self.save()

    def snapshot(self) -> bool | None:
        """Take it."""
        if self._forbidden or self._unseen:
            return False
        self.take_snapshot(freeze=False)
        return None

    def look(self) -> bool | None:
        """Read the snapshot in place."""
        if self._forbidden or self._unseen:
            return False
        profile = profile_for(self.params.profile)
        with self.open_disks(self.all_taken) as raw:
            known = {key: value for key, value in self.memo.identity.items() if value}
            found = self.context.reader.ask(PLAN, ProfileQuestion(profile, known), raw)
            size = sum(disks_of(raw))
        self.memo.plan = {
            "profile": profile.name,
            "steps": list(found.planned.steps),
            "changes": [asdict(change) for change in found.planned.changes],
            "bytes": found.planned.total_bytes,
            "used_bytes": found.used_bytes,
            "virtual_bytes": size,
        }
        self.save()
        self.context.log(
            f"{plural(len(found.planned.changes), 'path')} would change; {iec(found.planned.total_bytes)} go."
        )
        return None

    def clean_up(self, outcome: str) -> None:
        self.drop_snapshot()

    def result(self) -> dict[str, Any]:
        remarks = Remarks(self.memo.remarks)
        taken = [r.why for r in remarks.items if r.check in ("boot-disk", "data-disk", "prepared", "inside")]
        return {
            "verb": "capture",
            "subject": self.context.operation.subject,
            "mode": self.params.mode,
            "blockers": remarks.refusals,
            "warnings": remarks.warnings,
            "remarks": [remark.model_dump() for remark in remarks.items],
            "effects": [*taken, *effects_on_source(self.params.power_off, self.params.afterwards)],
            "profile": None,
            "steps": [],
            "changes": [],
            "bytes": 0,
            "used_bytes": None,
            "virtual_bytes": None,
            **self.memo.plan,
        }
