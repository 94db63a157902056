"""Build sheets and build runs."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from bathotype.client.calls import Calls, Part
from bathotype.core.sheets.steps import Scalar
from bathotype.wire import builds as wire
from bathotype.wire import operations as work


class BuildCalls(Calls):
    """Judging sheets, running them, and what came of it."""

    def check_sheet(self, sheet: str, *, values: Mapping[str, Scalar] | None = None) -> wire.SheetCheck:
        """Every fault of a sheet's text, with its line and column."""
        body = wire.SheetRequest(sheet=sheet, values=None if values is None else dict(values))
        return self._transport.one(wire.SheetCheck, "POST", "/sheets/checks", json=body.model_dump(mode="json"))

    def sheet_schema(self) -> dict[str, Any]:
        """The format of build sheets as JSON Schema."""
        return self._transport.one(wire.SheetSchema, "GET", "/sheets/schema").document

    def plan_build(
        self,
        sheet: str,
        *,
        values: Mapping[str, Scalar] | None = None,
        payload: Mapping[str, wire.PayloadGiven] | None = None,
        region: str | None = None,
        number: str | None = None,
        bump: Part | None = None,
        tags: Mapping[str, str] | None = None,
    ) -> wire.BuildPlan:
        """What a run would do, and every obstacle."""
        body = _request(sheet, values, payload, region, number, bump, tags)
        return self._transport.one(wire.BuildPlan, "POST", "/build-plans", json=body.model_dump(mode="json"))

    def build(
        self,
        sheet: str,
        *,
        values: Mapping[str, Scalar] | None = None,
        payload: Mapping[str, wire.PayloadGiven] | None = None,
        region: str | None = None,
        number: str | None = None,
        bump: Part | None = None,
        tags: Mapping[str, str] | None = None,
        unless_same: bool = False,
        keep_on_failure: int = 0,
        key: str | None = None,
    ) -> work.Operation:
        """Start a run; its payload has been uploaded.  With ``unless_same`` raises `Refused` with the code
        ``nothing-new`` where a version was built from the same."""
        body = _request(sheet, values, payload, region, number, bump, tags).model_copy(
            update={"unless_same": unless_same, "keep_on_failure": keep_on_failure}
        )
        return self._create(work.Operation, "/builds", body.model_dump(mode="json"), key)

    def plan_repeat(
        self, operation: str, *, region: str | None = None, number: str | None = None,
        payload: Mapping[str, wire.PayloadGiven] | None = None, tags: Mapping[str, str] | None = None,
    ) -> wire.BuildPlan:  # fmt: skip
        """What doing a run again would do, and every obstacle."""
        body = wire.RepeatRequest(region=region, number=number, payload=dict(payload or {}), tags=dict(tags or {}))
        return self._transport.one(
            wire.BuildPlan, "POST", f"/builds/{operation}/repeat-plans", json=body.model_dump(mode="json")
        )

    def repeat(
        self, operation: str, *, region: str | None = None, number: str | None = None,
        payload: Mapping[str, wire.PayloadGiven] | None = None, tags: Mapping[str, str] | None = None,
        keep_on_failure: int = 0, key: str | None = None,
    ) -> work.Operation:  # fmt: skip
        """Do a run again, from the same sheet, values, base and payload.  ``payload`` are uploads of those files that no
        saved sheet keeps."""
        body = wire.RepeatRequest(
            region=region,
            number=number,
            payload=dict(payload or {}),
            tags=dict(tags or {}),
            keep_on_failure=keep_on_failure,
        )
        return self._create(work.Operation, f"/builds/{operation}/repeats", body.model_dump(mode="json"), key)

    def drop_build_machine(self, operation: str) -> None:
        """Remove the machine of a failed run now, not when its time is over."""
        self._transport.call("DELETE", f"/builds/{operation}/machine")

    def builds(
        self, *, sheet: str | None = None, made: str | None = None, printed: str | None = None, limit: int = 100
    ) -> Iterator[wire.BuildRun]:
        """The account's runs, the newest first; with ``made`` the one that made a version, with ``printed`` those of
        which a step printed or changed that."""
        return self._transport.pages(wire.BuildRun, "/builds", sheet=sheet, made=made, printed=printed, limit=limit)

    def build_run(self, operation: str) -> wire.BuildRunDetails:
        """A run with its sheet and steps."""
        return self._transport.one(wire.BuildRunDetails, "GET", f"/builds/{operation}")


def _request(
    sheet: str,
    values: Mapping[str, Scalar] | None,
    payload: Mapping[str, wire.PayloadGiven] | None,
    region: str | None,
    number: str | None,
    bump: Part | None,
    tags: Mapping[str, str] | None,
) -> wire.BuildRequest:
    return wire.BuildRequest(
        sheet=sheet, values=dict(values or {}), payload=dict(payload or {}), region=region, number=number, bump=bump,
        tags=dict(tags or {}),
    )  # fmt: skip
