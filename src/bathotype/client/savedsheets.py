"""Calls about saved sheets."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from bathotype.client.calls import Calls, Part
from bathotype.client.transport import if_match
from bathotype.core.sheets.steps import Scalar
from bathotype.wire import builds as runs
from bathotype.wire import operations as work
from bathotype.wire import savedsheets as wire


class SavedSheetCalls(Calls):
    """Keeping sheets in the service, and running them."""

    def saved_sheets(
        self, *, line: str | None = None, kind: runs.SheetKind = "sheet", sort: wire.SavedSheetSort | None = None
    ) -> Iterator[wire.SavedSheet]:
        """The account's saved sheets, or the parts that they include; by name unless sorted."""
        return self._transport.pages(wire.SavedSheet, "/saved-sheets", line=line, kind=kind, sort=sort, limit=100)

    def saved_sheet(self, name: str, *, number: int | None = None) -> wire.SavedSheetDetails:
        """One with its current text, or another of its texts."""
        params = {"number": number} if number else None
        return self._transport.one(wire.SavedSheetDetails, "GET", f"/saved-sheets/{name}", params=params)

    def save_sheet(
        self,
        name: str,
        sheet: str,
        *,
        values: Mapping[str, Scalar] | None = None,
        payload: Mapping[str, runs.PayloadGiven] | None = None,
        note: str = "",
        newest_parts: Sequence[str] = (),
        revision: str | None = None,
    ) -> wire.SavedSheetDetails:
        """Keep a sheet or a part, or a new text of it; its payload has been uploaded."""
        body = wire.SaveSheetRequest(
            sheet=sheet, values=dict(values or {}), payload=dict(payload or {}), note=note,
            newest_parts=list(newest_parts),
        )  # fmt: skip
        return self._transport.one(
            wire.SavedSheetDetails, "PUT", f"/saved-sheets/{name}", json=body.model_dump(mode="json"),
            headers=if_match(revision),
        )  # fmt: skip

    def drop_sheet(self, name: str) -> None:
        """Remove a sheet with all of its texts."""
        self._transport.call("DELETE", f"/saved-sheets/{name}")

    def sheet_difference(self, name: str, *, old: int | None = None, new: int | None = None) -> wire.SheetDifference:
        """How two texts of a sheet differ: of its last two unless others are named."""
        params = {key: value for key, value in (("old", old), ("new", new)) if value}
        return self._transport.one(wire.SheetDifference, "GET", f"/saved-sheets/{name}/difference", params=params)

    def pause_sheet(self, name: str, paused: bool = True) -> wire.SavedSheetDetails:
        """Let a sheet not run by itself, or let it again."""
        body = {"paused": paused}
        return self._transport.one(wire.SavedSheetDetails, "PUT", f"/saved-sheets/{name}/pause", json=body)

    def plan_sheet_run(
        self,
        name: str,
        *,
        values: Mapping[str, Scalar] | None = None,
        region: str | None = None,
        number: str | None = None,
        bump: Part | None = None,
    ) -> runs.BuildPlan:
        """What a run would do now, and every obstacle."""
        body = wire.SheetRunRequest(values=dict(values or {}), region=region, number=number, bump=bump)
        return self._transport.one(
            runs.BuildPlan, "POST", f"/saved-sheets/{name}/run-plans", json=body.model_dump(mode="json")
        )

    def run_sheet(
        self,
        name: str,
        *,
        values: Mapping[str, Scalar] | None = None,
        region: str | None = None,
        number: str | None = None,
        bump: Part | None = None,
        unless_same: bool = False,
        keep_on_failure: int = 0,
        key: str | None = None,
    ) -> work.Operation:
        """Run a saved sheet.  With ``unless_same`` raises `Refused` with the code ``nothing-new`` where a version was built
        from the same."""
        body = wire.SheetRunRequest(
            values=dict(values or {}),
            region=region,
            number=number,
            bump=bump,
            unless_same=unless_same,
            keep_on_failure=keep_on_failure,
        )
        return self._create(work.Operation, f"/saved-sheets/{name}/runs", body.model_dump(mode="json"), key)
