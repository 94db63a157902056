"""Duty: run saved sheets at their dates, after releases of their bases, and after pushes."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import or_, select

from bathotype.core.errors import BathotypeError, Refused, Unavailable
from bathotype.service.builds import saved
from bathotype.service.builds.planning import ask, understand
from bathotype.service.operations.start import unattended_principal
from bathotype.service.records import SavedSheet
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.upkeep.duty import Duty, Turn

#: How long a date is kept for a site that does not answer.
_PATIENCE = 6 * saved.MISSED_AFTER


def _run(turn: Turn) -> None:
    now = utcnow()
    with turn.database.reads() as session:
        asks = or_(SavedSheet.next_at <= now, SavedSheet.after_base, SavedSheet.pushed)
        due = select(SavedSheet.id).where(~SavedSheet.paused, ~SavedSheet.withdrawn, asks)
        ids = session.scalars(due.order_by(SavedSheet.next_at, SavedSheet.id)).all()
    for sheet_id in ids:
        with turn.alone(f"sheet {sheet_id}"):
            _look(turn, sheet_id, now)


def _look(turn: Turn, sheet_id: str, now: datetime) -> None:
    """Start a run of one sheet if there is a cause.

    What is decided is decided again under its lock: two workers, or one that died before it could say so, start one run.
    """
    with turn.database.reads() as session:
        row = session.get(SavedSheet, sheet_id)
        if row is None:
            return
        caller = unattended_principal(session, row.account_id, saved.BY_ITSELF)
        cause, before = saved.cause_of(session, caller, row, now), saved.key_of(row)
        if not cause:
            return
        text = saved.text_of(session, row)
        when = saved.sheet_of(text).when
        late = row.next_at is not None and now - row.next_at > saved.MISSED_AFTER
        missed = cause == "schedule" and late and when is not None and when.missed == "skip"
        busy = saved.still_running(session, row)
        too_late = cause == "schedule" and row.next_at is not None and now - row.next_at > _PATIENCE
        number, request = text.number, saved.request_of(session, text)
        request.unless_same = when is None or when.unless_same
    if busy and cause != "schedule":
        return  # it is looked at again when that run has ended
    why = "its date was missed, and is skipped" if missed else "its earlier run had not ended" if busy else ""
    problem: BathotypeError | None = None
    asked = None
    if not why:
        try:
            with turn.database.reads() as session:
                found = understand(session, turn.reach, caller, request)
            asked = ask(turn.reach, caller, request, found)
            if asked.at_site.out and not too_late:
                raise Unavailable(f"The site of {asked.region} does not answer: {asked.at_site.out}")
        except Unavailable:
            raise  # its date, or the release, stays: the next turn tries again
        except BathotypeError as error:
            problem = error
    with turn.database.sessions.begin() as session:
        row = session.get(SavedSheet, sheet_id, with_for_update=CHANGE)
        if row is None or saved.key_of(row) != before:
            return  # somebody changed it, or ran it, meanwhile
        try:
            if problem is not None:
                raise problem
            if asked is not None:
                with session.begin_nested():
                    saved.record_run(session, turn.reach, caller, row, number, request, asked, cause)
            else:
                saved.note(session, caller, row, "skipped", why)
        except Refused as error:
            nothing_new = error.code == "nothing-new"
            saved.note(session, caller, row, "nothing-new" if nothing_new else "not-started", error.message)
        except BathotypeError as error:
            saved.note(session, caller, row, "not-started", str(error))
        saved.move_on(session, caller, row, now, skipped=bool(why))


DUTY = Duty("sheets", _run, period=lambda settings: min(10.0, settings.reconcile_seconds))
