"""Parts of build sheets that are kept in the service, and sheets that include them.

A sheet that runs, or is kept, has the texts of its parts in its own: what it does is never changed by a part's new text.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import TypeVar

from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.errors import BathotypeError, Invalid, NotFound
from bathotype.core.sheets.gathering import gathered, without_parts
from bathotype.core.sheets.reading import Checked, not_valid, parts_named, read_part, read_sheet
from bathotype.core.sheets.sheet import KeptFile, PartSource, SheetPart
from bathotype.core.store.chunks import digest
from bathotype.service import audit
from bathotype.service.access.principals import Principal
from bathotype.service.builds.saved import (
    add_text,
    files_of,
    find_saved,
    in_buckets_of,
    is_current,
    refuse_other_kind,
    text_of,
)
from bathotype.service.records import SavedSheet, SheetText
from bathotype.service.records.base import new_id
from bathotype.wire.builds import BuildRequest
from bathotype.wire.savedsheets import PartUse, SaveSheetRequest

_Request = TypeVar("_Request", BuildRequest, SaveSheetRequest)


def readable_part(name: str, body: SaveSheetRequest) -> SheetPart:
    """The part of a request.  Raises `Invalid` with every fault."""
    part, faults = read_part(body.sheet)
    if part is None:
        raise not_valid([str(fault) for fault in faults], "part")
    if part.part != name:
        raise Invalid(f"The part calls itself {part.part}.", advice=f"Save it as {part.part}.")
    if body.values:
        raise Invalid("A part is saved without values.", advice="The sheets that include it give them.")
    if part.payload.keys() != body.payload.keys():
        names = ", ".join(sorted(part.payload.keys() ^ body.payload.keys()))
        raise Invalid(f"The payload of the part and that of the request differ: {names}.")
    return part


def save_part(
    session: Session, caller: Principal, saved: SavedSheet | None, body: SaveSheetRequest, part: SheetPart
) -> SavedSheet:
    """Add a text to a part, or make the part.  ``saved`` is locked."""
    checked = Checked(None, digest=digest(body.sheet.encode("utf-8", "replace")).hex())
    if saved is None:
        saved = SavedSheet(
            id=new_id("sh"), account_id=caller.account_id, name=part.part, number=0, noted="", base="", line="",
            after_base=False, is_part=True,
        )  # fmt: skip
    else:
        refuse_other_kind(saved, is_part=True)
        if is_current(session, saved, body, checked):
            return saved
    saved.number += 1
    add_text(session, caller, saved, body, checked, in_buckets_of(part))
    after = {"number": saved.number, "digest": checked.digest, "note": body.note, "part": True}
    audit.record(session, caller.account_id, caller.actor, "sheet.saved", saved.name, after=after)
    return saved


# Sheets that include them


def with_parts(session: Session, caller: Principal, body: _Request) -> _Request:
    """A request with the texts of the saved parts in its sheet, and with their files in its payload.

    Raises `NotFound` for a part or a text that there is not, and `Invalid` where a part's text in the sheet is none of
    those that are saved.
    """
    used = _texts(session, caller, body.sheet)
    if not used:
        return body
    whole = _gathered(body.sheet, used)
    files = {name: files_of(session, one) for name, one in used.items()}
    sheet = read_sheet(whole).sheet  # its faults are reported when it is read with its values
    kept = {
        name: files[about.part][about.name]
        for name, about in (sheet.payload if sheet is not None else {}).items()
        if isinstance(about, KeptFile)
    }
    return body.model_copy(update={"sheet": whole, "payload": {**body.payload, **kept}})


def with_newest(body: SaveSheetRequest) -> SaveSheetRequest:
    """A request without the parts of which it wants the newest texts, and without their files.  Raises `Invalid` for a
    part that its sheet does not include."""
    wanted = body.newest_parts
    if unknown := [name for name in wanted if name not in parts_named(body.sheet)[0]]:
        raise Invalid(f"The sheet includes no part {unknown[0][:63]!r}.", advice="Name parts that it includes.")
    sheet = read_sheet(body.sheet, body.values).sheet if wanted else None
    if sheet is None:
        return body
    of_parts = {n for n, about in sheet.payload.items() if isinstance(about, KeptFile) and about.part in wanted}
    payload = {name: given for name, given in body.payload.items() if name not in of_parts}
    return body.model_copy(update={"sheet": without_parts(body.sheet, wanted), "payload": payload})


def text_with_parts(session: Session, caller: Principal, text: str) -> str:
    """A sheet's text with those of its saved parts.  Raises as `with_parts` does."""
    return _gathered(text, _texts(session, caller, text))


def _gathered(text: str, used: Mapping[str, SheetText]) -> str:
    def read(name: str, _: PartSource) -> tuple[str, str] | None:
        return (name, used[name].text) if name in used else None

    return gathered(text, "", read).text


def parts_used(session: Session, caller: Principal, text: str) -> list[PartUse]:
    """The saved parts that a kept text has, and the newest text of each."""
    found = []
    for name, source in parts_named(text)[0].items():
        if source.saved is None:
            continue
        try:
            part = _find_part(session, caller, name)
            number = _in_text(session, part, source, text).number
        except BathotypeError:  # it was removed; the sheet keeps its text
            found.append(PartUse(name=name, number=None, newest=None))
        else:
            found.append(PartUse(name=name, number=number, newest=part.number))
    return found


def _texts(session: Session, caller: Principal, text: str) -> dict[str, SheetText]:
    """The texts of the saved parts that a sheet names."""
    found, (named, there) = {}, parts_named(text)
    for name, source in named.items():
        if source.saved is None:
            continue
        part = _find_part(session, caller, name)
        number = None if source.saved == "newest" else source.saved
        found[name] = _in_text(session, part, source, text) if name in there else text_of(session, part, number)
    return found


def _find_part(session: Session, caller: Principal, name: str) -> SavedSheet:
    try:
        part = find_saved(session, caller, name)
    except NotFound:
        part = None
    if part is None or not part.is_part:
        raise NotFound(f"There is no saved part {name!r}.", advice="`bathotype sheets list --parts` shows them.")
    return part


def _in_text(session: Session, part: SavedSheet, source: PartSource, text: str) -> SheetText:
    """The text of a part that a sheet's text has in it, the newest first."""
    query = select(SheetText.number).where(SheetText.sheet_id == part.id).order_by(SheetText.number.desc())
    numbers = [source.saved] if isinstance(source.saved, int) else session.scalars(query).all()
    for number in numbers:
        one = session.get(SheetText, (part.id, number))
        if one is not None and one.text.strip() in text:
            return one
    raise Invalid(
        f"What the sheet has as the part {part.name} is none of its saved texts.",
        advice="Remove it from the sheet's text, or save the part.",
    )
