"""The steps of a run, one after another; what comes of each is kept, and can be read while the run goes on."""

from __future__ import annotations

import time
from collections.abc import Collection
from typing import Any

from sqlalchemy import update

from bathotype.core.errors import BathotypeError, Unavailable
from bathotype.core.sheets.sheet import Sheet
from bathotype.core.sheets.steps import Step
from bathotype.service.guests.building import BuildMachine
from bathotype.service.operations.context import WorkContext
from bathotype.service.records import BuildRun
from bathotype.service.records.base import utcnow


def unbegun(sheet: Sheet) -> list[dict[str, Any]]:
    """The steps of a sheet before any is begun, as a run's record has them."""
    return [{"id": s.id, "do": s.do, "why": s.why, "state": "pending"} for s in sheet.steps]


class Stepping:
    """The steps of one run in one machine."""

    def __init__(self, context: WorkContext, sheet: Sheet, skipped: Collection[str], machine: BuildMachine) -> None:
        """``skipped`` are the steps whose condition does not hold."""
        self._context, self._sheet, self._skipped, self._machine = context, sheet, skipped, machine
        self._rows = unbegun(sheet)

    def do_all(self) -> None:
        """Do them all.  Raises at the first that fails."""
        steps = self._sheet.steps
        self._keep()
        for number, step in enumerate(steps):
            self._context.progress(number, len(steps))
            if step.id in self._skipped:
                self._rows[number]["state"] = "skipped"
            else:
                self._do(step, self._rows[number])
        self._context.progress(len(steps), len(steps))
        self._keep()

    def _do(self, step: Step, row: dict[str, Any]) -> None:
        began = time.monotonic()
        row |= {"state": "running", "started_at": utcnow().isoformat()}
        self._keep()
        self._context.log(f"{step.id}: {step.do}")
        for attempt in range(step.retries + 1):
            row["attempts"] = attempt + 1
            try:
                done = self._machine.do(step)
                break
            except Unavailable:
                raise  # the steps begin again in a new machine
            except BathotypeError as error:
                if error.code == "step-failed" and attempt < step.retries:
                    self._context.log(f"{step.id}: {error.message} It is tried again.", "warning")
                    continue
                row |= {"state": "failed", "seconds": round(time.monotonic() - began, 1), "error": error.message}
                self._keep()
                error.message = f"Step {step.id}: {error.message}"
                raise
        row |= {
            "state": "done",
            "seconds": round(time.monotonic() - began, 1),
            "changed": done.changed,
            "output": done.output,
            "cleaned": done.cleaned,
            "used": done.used,
        }
        self._keep()

    def _keep(self) -> None:
        self._context.must_hold()
        with self._context.session() as session:
            now = {"steps": self._rows, "figures": self._machine.sampler.figures}
            session.execute(update(BuildRun).where(BuildRun.operation_id == self._context.id).values(**now))
