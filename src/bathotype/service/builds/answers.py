"""What the API answers about build runs and saved sheets."""

from __future__ import annotations

from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from bathotype.core.lifecycle.offers import SheetFacts, sheet_offers
from bathotype.service.access.principals import Principal
from bathotype.service.answers.operations import offers_answer
from bathotype.service.answers.views import offers_caller
from bathotype.service.builds.parts import parts_used
from bathotype.service.builds.saved import files_of, saved_text, sheet_of, still_running, text_of
from bathotype.service.records import BuildRun, Operation, Repository, SavedSheet, SheetText
from bathotype.service.records.base import utcnow
from bathotype.wire import builds as wire
from bathotype.wire import savedsheets

#: How many runs a saved sheet is shown with, and how many dates.
_RUNS, _DATES = 12, 5
_TOLD = (
    "name", "number", "base", "line", "after_base", "after_push", "paused", "next_at", "noted", "noted_at", "path",
    "withdrawn",
)  # fmt: skip
_HOMES = select(Repository.id, Repository.name)


def run_fields(row: BuildRun, operation: Operation) -> dict[str, Any]:
    """A run's fields."""
    return {
        "operation": operation.id,
        "sheet": row.sheet,
        "digest": row.digest,
        "state": operation.state,
        "base": row.base,
        "reference": operation.subject,
        "created_by": operation.created_by,
        "created_at": operation.created_at,
        "ended_at": operation.ended_at,
        "error": (operation.error or {}).get("message", ""),
        "cause": row.cause,
        "saved_number": row.saved_number,
        "repository": row.repository,
        "commit": row.commit,
        "repeats": row.repeats,
        "held_back": (operation.result or {}).get("held_back", ""),
    }


def saved_answers(session: Session, caller: Principal, rows: list[SavedSheet]) -> list[savedsheets.SavedSheet]:
    """Saved sheets with their last runs."""
    return [savedsheets.SavedSheet(**fields) for fields in _fields(session, caller.account_id, rows)]


def saved_details(
    session: Session, caller: Principal, saved: SavedSheet, number: int | None
) -> savedsheets.SavedSheetDetails:
    """One with one of its texts, the current one without a number."""
    [fields] = _fields(session, caller.account_id, [saved])
    text = text_of(session, saved, number)
    when = None if saved.is_part else sheet_of(text).when
    texts = session.scalars(
        select(SheetText).where(SheetText.sheet_id == saved.id).order_by(SheetText.number.desc()).limit(200)
    )
    return savedsheets.SavedSheetDetails(
        **fields,
        text=text.text,
        values=text.values,
        files=files_of(session, text),
        zone=when.zone if when is not None and when.schedule else None,
        dates=when.next_dates(utcnow(), _DATES) if when is not None else [],
        texts=[saved_text(one) for one in texts],
        parts=[] if saved.is_part else parts_used(session, caller, text.text),
        offers=offers_answer(
            sheet_offers(
                offers_caller(caller),
                SheetFacts(
                    saved.name,
                    saved.line,
                    when is not None,
                    saved.paused,
                    still_running(session, saved),
                    fields["repository"],
                    saved.withdrawn,
                    saved.is_part,
                ),
            )
        ),
    )


def _fields(session: Session, account_id: str, rows: list[SavedSheet]) -> list[dict[str, Any]]:
    runs = _last_runs(session, account_id, [row.name for row in rows])
    current = select(SheetText).join(
        SavedSheet, (SavedSheet.id == SheetText.sheet_id) & (SavedSheet.number == SheetText.number)
    )
    texts = {
        text.sheet_id: text for text in session.scalars(current.where(SavedSheet.id.in_([row.id for row in rows])))
    }
    theirs = _HOMES.where(Repository.id.in_([row.repository_id for row in rows if row.repository_id]))
    homes = {row.id: row.name for row in session.execute(theirs)}
    return [
        {
            **{name: getattr(row, name) for name in _TOLD},
            "kind": "part" if row.is_part else "sheet",
            "repository": homes.get(row.repository_id or "", ""),
            "commit": texts[row.id].commit,
            "saved_by": texts[row.id].saved_by,
            "saved_at": texts[row.id].saved_at,
            "runs": runs.get(row.name, []),
        }
        for row in rows
    ]


def _last_runs(session: Session, account_id: str, names: list[str]) -> dict[str, list[wire.BuildRun]]:
    place = func.row_number().over(partition_by=BuildRun.sheet, order_by=BuildRun.operation_id.desc())
    ranked = (
        select(BuildRun.operation_id, place.label("place"))
        .where(BuildRun.account_id == account_id, BuildRun.sheet.in_(names))
        .subquery()
    )
    query = (
        select(BuildRun, Operation)
        .join(ranked, ranked.c.operation_id == BuildRun.operation_id)
        .join(Operation, Operation.id == BuildRun.operation_id)
        .where(ranked.c.place <= _RUNS)
        .order_by(BuildRun.operation_id.desc())
    )
    found: dict[str, list[wire.BuildRun]] = {}
    for run, operation in session.execute(query):
        found.setdefault(run.sheet, []).append(wire.BuildRun(**run_fields(run, operation)))
    return found
