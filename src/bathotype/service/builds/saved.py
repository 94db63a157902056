"""Saved sheets: keeping their texts and files, and running them, when somebody asks or by themselves."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from difflib import unified_diff
from typing import Literal

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from bathotype.core.errors import BathotypeError, Invalid, NotFound, Refused
from bathotype.core.lifecycle.references import parse_reference
from bathotype.core.sheets.reading import Checked, read_sheet
from bathotype.core.sheets.sheet import Sheet, SheetPart, told_to
from bathotype.core.store.chunks import digest
from bathotype.service import audit
from bathotype.service.access.principals import Principal
from bathotype.service.builds.obstacles import payload_faults
from bathotype.service.builds.planning import Asked, record_build
from bathotype.service.reach import Reach
from bathotype.service.records import BuildRun, Operation, Repository, SavedSheet, SheetFile, SheetText, Upload, Version
from bathotype.service.records.base import CHANGE, REST, new_id, utcnow
from bathotype.service.shares import find_usable
from bathotype.wire.builds import BuildRequest, PayloadGiven
from bathotype.wire.savedsheets import SavedText, SaveSheetRequest, SheetDifference, SheetRunRequest

#: The principal's name for runs that begin by themselves.
BY_ITSELF = "sheet-schedule"
#: A date that is longer ago was missed.
MISSED_AFTER = timedelta(minutes=10)
NOT_STARTED = "sheet-not-started"
_MOST_COMPARED = 2000


@dataclass(frozen=True)
class Origin:
    """Where a text comes from: the repository by its id and address, the commit, and the path in it.

    ``first`` says that the repository was never read before: then its texts are no push.
    """

    repository: str
    address: str
    commit: str
    path: str
    first: bool


# Keeping


def find_saved(session: Session, caller: Principal, name: str, *, lock: bool = False) -> SavedSheet:
    """A saved sheet, or part, of the caller's account.  Raises `NotFound`."""
    query = select(SavedSheet).where(SavedSheet.account_id == caller.account_id, SavedSheet.name == name)
    found = session.scalar(query.with_for_update(**CHANGE) if lock else query)
    if found is None:
        raise NotFound(f"There is no saved sheet {name!r}.", advice="`bathotype sheets list` shows them.")
    return found


def find_runnable(session: Session, caller: Principal, name: str, *, lock: bool = False) -> SavedSheet:
    """A saved sheet of the caller's account.  Raises `NotFound`, and `Refused` for a part."""
    found = find_saved(session, caller, name, lock=lock)
    if found.is_part:
        raise Refused(
            f"{name} is a part: it does not run by itself.", advice="Run a sheet that includes it.", code="part"
        )
    return found


def text_of(session: Session, saved: SavedSheet, number: int | None = None) -> SheetText:
    """One of its texts, the current one without a number.  Raises `NotFound`."""
    found = session.get(SheetText, (saved.id, number or saved.number))
    if found is None:
        raise NotFound(f"The sheet {saved.name} has no text {number}.", advice=f"Its newest is {saved.number}.")
    return found


def files_of(session: Session, text: SheetText) -> dict[str, PayloadGiven]:
    """The payload of a text, by name."""
    rows = session.scalars(
        select(SheetFile)
        .where(SheetFile.sheet_id == text.sheet_id, SheetFile.number == text.number)
        .order_by(SheetFile.name)
    )
    return {row.name: PayloadGiven(upload=row.upload_id, bytes=row.bytes, sha256=row.sha256) for row in rows}


def readable(name: str, body: SaveSheetRequest) -> Checked:
    """The sheet of a request, with its values and parts.  Raises `Invalid` with every fault."""
    checked = read_sheet(body.sheet, body.values)
    sheet = checked.need()
    if sheet.sheet != name:
        raise Invalid(f"The sheet calls itself {sheet.sheet}.", advice=f"Save it as {sheet.sheet}.")
    if wrong := payload_faults(sheet, body.payload):
        raise Invalid(" ".join(wrong), advice="Upload what the sheet names, and no more.")
    return checked


def save(
    session: Session, caller: Principal, saved: SavedSheet | None, body: SaveSheetRequest, checked: Checked,
    origin: Origin | None = None,
) -> SavedSheet:  # fmt: skip
    """Add a text to a sheet, or make the sheet.  One that is the same as the current text, with values and files, is that
    text.  ``saved`` is locked."""
    sheet = checked.need()
    if saved is not None:
        refuse_other_kind(saved, is_part=False)
        _refuse_two_homes(session, saved, origin)
        if origin is not None and saved.repository_id is not None:
            saved.path, back, saved.withdrawn = origin.path, saved.withdrawn, False
            if back and not saved.paused:
                saved.next_at = next_date(sheet, utcnow())
    if saved is None:
        saved = SavedSheet(id=new_id("sh"), account_id=caller.account_id, name=sheet.sheet, number=0, noted="")
    elif is_current(session, saved, body, checked):
        return saved
    when = sheet.when
    saved.number += 1
    saved.base, saved.line = str(sheet.base), sheet.result.line
    saved.after_base = when is not None and when.after_base
    saved.after_push = when is not None and when.after_push
    if saved.after_base:
        _refuse_ring(session, caller, saved)
    if origin is not None:
        saved.repository_id, saved.path = origin.repository, origin.path
        saved.pushed = when is not None and when.after_push and not origin.first
    if not saved.paused:
        saved.next_at = next_date(sheet, utcnow())
    saved.base_seen = _base_now(session, caller, sheet)
    add_text(session, caller, saved, body, checked, in_buckets_of(sheet), origin)
    audit.clear_alert(session, caller.account_id, NOT_STARTED, saved.name)
    after = {"number": saved.number, "digest": checked.digest, "note": body.note}
    if origin is not None:
        after |= {"repository": origin.address, "commit": origin.commit}
    audit.record(session, caller.account_id, caller.actor, "sheet.saved", saved.name, after=after)
    return saved


def add_text(
    session: Session, caller: Principal, saved: SavedSheet, body: SaveSheetRequest, checked: Checked,
    in_buckets: frozenset[str], origin: Origin | None = None,
) -> None:  # fmt: skip
    """Add a text under the number that it has already, with its files; those in buckets stay there.

    Raises `NotFound` for a file that is gone.
    """
    uploads = {
        name: _upload(session, caller, name, given).id for name, given in body.payload.items() if name not in in_buckets
    }
    session.add(saved)
    session.flush()
    session.add(
        SheetText(
            sheet_id=saved.id, number=saved.number, text=body.sheet, digest=checked.digest, values=dict(checked.values),
            note=body.note, saved_by=caller.actor, repository=origin.address if origin else "",
            commit=origin.commit if origin else "",
        )
    )  # fmt: skip
    session.flush()
    for name, given in body.payload.items():
        session.add(
            SheetFile(
                sheet_id=saved.id, number=saved.number, name=name, upload_id=uploads.get(name), bytes=given.bytes,
                sha256=given.sha256,
            )
        )  # fmt: skip


def in_buckets_of(sheet: Sheet | SheetPart) -> frozenset[str]:
    """The names of the files of a payload that are not kept here: a bucket has them."""
    return frozenset(name for name, about in sheet.payload.items() if about.bucket is not None)


def refuse_other_kind(saved: SavedSheet, *, is_part: bool) -> None:
    """A sheet and a part cannot have one name.  Raises `Refused`."""
    if saved.is_part != is_part:
        kinds = ("sheet", "part") if is_part else ("part", "sheet")
        raise Refused(
            f"{saved.name} is a {kinds[0]} that is saved already.",
            advice=f"Give the {kinds[1]} another name.",
            code="name-taken",
        )


def _refuse_two_homes(session: Session, saved: SavedSheet, origin: Origin | None) -> None:
    """A sheet is kept by hand, or comes from one repository."""
    if saved.repository_id == (origin.repository if origin is not None else None):
        return
    home = session.get(Repository, saved.repository_id) if saved.repository_id else None
    if origin is not None and home is None and text_of(session, saved).repository == origin.address:
        saved.repository_id = origin.repository  # it was forgotten, and is connected again
        return
    if home is not None:
        raise Refused(
            f"The sheet {saved.name} comes from the repository {home.name}.",
            advice="Change it there." if origin is None else "Give one of the two sheets another name.",
            code="from-a-repository",
        )
    raise Refused(
        f"A sheet {saved.name} is saved here by hand.",
        advice=f"Drop it (`bathotype sheets drop {saved.name}`) and read the repository again, or rename one of the two.",
        code="saved-by-hand",
    )


def _upload(session: Session, caller: Principal, name: str, given: PayloadGiven) -> Upload:
    """The upload of a file, which is not removed before the transaction ends."""
    row = session.get(Upload, given.upload, with_for_update=REST) if given.upload else None
    if row is None or row.account_id != caller.account_id or row.size != given.bytes:
        raise NotFound(f"{name} of the payload is not there any more.", advice="Send it again.")
    return row


def is_current(session: Session, saved: SavedSheet, body: SaveSheetRequest, checked: Checked) -> bool:
    """Whether a request has what is the current text already, with values and files."""
    text = text_of(session, saved)
    before = {name: given.sha256 for name, given in files_of(session, text).items()}
    now = {name: given.sha256 for name, given in body.payload.items()}
    return (text.digest, text.values, before) == (checked.digest, dict(checked.values), now)


def _refuse_ring(session: Session, caller: Principal, saved: SavedSheet) -> None:
    """Sheets that run after each other's releases, in a ring, would run for ever."""
    rows = session.execute(
        select(SavedSheet.base, SavedSheet.line).where(
            SavedSheet.account_id == caller.account_id, SavedSheet.after_base, SavedSheet.id != saved.id
        )
    ).all()
    follows: dict[str, set[str]] = {}
    for base, line in [*rows, (saved.base, saved.line)]:
        reference = parse_reference(base)
        if reference.account in (None, caller.account):
            follows.setdefault(reference.line, set()).add(line)
    ahead, seen = [saved.line], set[str]()
    start = parse_reference(saved.base).line
    while ahead:
        line = ahead.pop()
        if line == start:
            raise Invalid(
                f"A release of {start} would start this sheet, and that, in the end, a release of {start} again.",
                advice="Leave after_base out, or build on another line.",
            )
        if line not in seen:
            seen.add(line)
            ahead += follows.get(line, ())


def next_date(sheet: Sheet, after: datetime) -> datetime | None:
    """The next date of its schedule; None without one."""
    return next(iter(sheet.when.next_dates(after, 1)), None) if sheet.when is not None else None


def _base_now(session: Session, caller: Principal, sheet: Sheet) -> str | None:
    if not isinstance(sheet.base, str):
        return None
    try:
        return find_usable(session, caller, sheet.base)[0].id
    except BathotypeError:
        return None


def pause(session: Session, caller: Principal, saved: SavedSheet, paused: bool) -> None:
    """Let it not run by itself, or let it again: from the next date on."""
    if saved.paused == paused:
        return
    sheet = sheet_of(text_of(session, saved))
    saved.paused = paused
    saved.next_at = None if paused else next_date(sheet, utcnow())
    if not paused:  # what was released, or pushed, meanwhile is no reason to run
        saved.base_seen, saved.pushed = _base_now(session, caller, sheet), False
    verb = "paused" if paused else "resumed"
    audit.record(session, caller.account_id, caller.actor, f"sheet.{verb}", saved.name)


def drop(session: Session, caller: Principal, saved: SavedSheet) -> None:
    """Remove it with all of its texts.  Its runs stay; its files go with their uploads."""
    session.execute(delete(SavedSheet).where(SavedSheet.id == saved.id))
    audit.clear_alert(session, caller.account_id, NOT_STARTED, saved.name)
    audit.record(session, caller.account_id, caller.actor, "sheet.removed", saved.name, before={"number": saved.number})


def sheet_of(text: SheetText) -> Sheet:
    """A text as a sheet, with its values."""
    return read_sheet(text.text, text.values).need()


def difference(session: Session, old: SheetText, new: SheetText) -> SheetDifference:
    """How two texts of a sheet differ: lines as a unified difference, values, and files by digest."""
    texts = [old.text.splitlines(), new.text.splitlines()]
    if max(map(len, texts)) > _MOST_COMPARED:  # the time that it takes grows with the square
        texts = [[f"({len(lines)} lines: too long to be compared)"] for lines in texts]
    lines = unified_diff(texts[0], texts[1], f"text {old.number}", f"text {new.number}", lineterm="")
    before, after = files_of(session, old), files_of(session, new)
    return SheetDifference(
        old=saved_text(old),
        new=saved_text(new),
        lines=list(lines),
        values={
            name: (old.values.get(name), new.values.get(name))
            for name in sorted({*old.values, *new.values})
            if old.values.get(name) != new.values.get(name)
        },
        files=sorted(
            name for name in {*before, *after}
            if (one := before.get(name)) is None or (two := after.get(name)) is None or one.sha256 != two.sha256
        ),
    )  # fmt: skip


def saved_text(text: SheetText) -> SavedText:
    """A text without what it says."""
    return SavedText(
        number=text.number,
        digest=text.digest,
        note=text.note,
        saved_by=text.saved_by,
        saved_at=text.saved_at,
        commit=text.commit,
    )


# Running


def request_of(session: Session, text: SheetText, asked: SheetRunRequest | None = None) -> BuildRequest:
    """A run of a text, as a build is asked for; values that are asked for go before those that were saved."""
    asked = asked or SheetRunRequest()
    return BuildRequest(
        sheet=text.text,
        values={**text.values, **asked.values},
        payload=files_of(session, text),
        **asked.model_dump(include={"region", "number", "bump", "tags", "unless_same", "keep_on_failure"}),
    )


def record_run(
    session: Session, reach: Reach, caller: Principal, saved: SavedSheet, number: int, body: BuildRequest, asked: Asked,
    cause: str = "",
) -> Operation:  # fmt: skip
    """Record a run of a saved sheet, which is locked.  Raises `Refused` with every obstacle."""
    text = text_of(session, saved, number)
    row = record_build(session, reach, caller, body, asked, repository=text.repository, commit=text.commit)
    run = session.get_one(BuildRun, row.id)
    run.cause, run.saved_number = cause, number
    saved.pushed = saved.pushed and number != saved.number
    saved.last_run, saved.noted, saved.noted_at = row.id, "", None
    saved.base_seen = row.params["base_id"] or None
    audit.clear_alert(session, caller.account_id, NOT_STARTED, saved.name)
    return row


def cause_of(session: Session, caller: Principal, saved: SavedSheet, now: datetime) -> str:
    """Why a sheet runs now by itself: ``schedule``, ``push``, ``base``, or nothing."""
    if saved.paused or saved.withdrawn:
        return ""
    if saved.next_at is not None and saved.next_at <= now:
        return "schedule"
    if saved.pushed:
        return "push"
    return "base" if saved.after_base and _base_moved(session, caller, saved) else ""


def _base_moved(session: Session, caller: Principal, saved: SavedSheet) -> bool:
    """Whether its base is another version now, and no older one of the same line: a version that was taken back is no
    reason to build on the one before."""
    try:
        base, _ = find_usable(session, caller, saved.base)
    except BathotypeError:
        return False
    if base.id == saved.base_seen:
        return False
    seen = session.get(Version, saved.base_seen) if saved.base_seen else None
    by_mark = parse_reference(saved.base).mark is not None
    return seen is None or by_mark or seen.line_id != base.line_id or base.sort_key > seen.sort_key


def still_running(session: Session, saved: SavedSheet) -> bool:
    """Whether its last run has not ended."""
    last = session.get(Operation, saved.last_run) if saved.last_run else None
    return last is not None and last.ended_at is None


def note(
    session: Session, caller: Principal, saved: SavedSheet, outcome: Literal["skipped", "nothing-new", "not-started"],
    what: str,
) -> None:  # fmt: skip
    """Keep what came of a date or a release that made no run; what could not start is an alert as well."""
    saved.noted, saved.noted_at = what, utcnow()
    told = {"why": what} | (told_to(sheet_of(text_of(session, saved)), outcome) if outcome != "skipped" else {})
    audit.record(session, caller.account_id, caller.actor, f"sheet.{outcome}", saved.name, after=told)
    if outcome == "not-started":
        audit.raise_alert(session, caller.account_id, NOT_STARTED, saved.name, f"{saved.name} did not start: {what}")
    elif outcome == "nothing-new":  # nothing was in the way
        audit.clear_alert(session, caller.account_id, NOT_STARTED, saved.name)


def move_on(session: Session, caller: Principal, saved: SavedSheet, now: datetime, *, skipped: bool) -> None:
    """What was a cause is none any more: its next date is the first after now, its base has been seen.

    A date that is ``skipped`` leaves a push or a release to be looked at by itself.
    """
    sheet = sheet_of(text_of(session, saved))
    saved.next_at = next_date(sheet, now)
    if skipped:
        return
    saved.pushed = False
    saved.base_seen = _base_now(session, caller, sheet) or saved.base_seen


def key_of(saved: SavedSheet) -> str:
    """Changes whenever the state of a saved sheet that upkeep looks at changes."""
    parts = (saved.number, saved.paused, saved.next_at, saved.pushed, saved.base_seen, saved.last_run)
    return digest(repr(parts).encode()).hex()
