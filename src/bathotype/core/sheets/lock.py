"""The lock of a sheet, or of a part: size and SHA-256 of each file of its payload, in a file beside the sheet.

A run uses only what the lock says, so that a file that was renamed or changed is noticed before anything starts.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from bathotype.core.errors import Invalid, NotFound, Refused
from bathotype.core.forms import SHA256
from bathotype.core.sheets.folders import Member, members_of, pack
from bathotype.core.sheets.sheet import MOST_FILE, MOST_PAYLOAD, KeptFile, PayloadFile, Sheet, SheetPart
from bathotype.core.units import iec


class Locked(BaseModel):
    """One file."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    bytes: int = Field(ge=1, le=MOST_FILE)
    sha256: Annotated[str, Field(pattern=SHA256)]


class Lock(BaseModel):
    """All files by their names in the payload."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    sheet: str
    payload: dict[str, Locked]


def lock_path(sheet_file: Path) -> Path:
    """Where the lock of a sheet lies."""
    return sheet_file.with_name(sheet_file.name + ".lock")


def lock_of(sheet: Sheet | SheetPart, folder: Path, away: Mapping[str, Locked] | None = None) -> Lock:
    """The lock of the files as they are now; ``away`` says what those are that lie elsewhere.

    Raises `NotFound` that names every file that is not there.
    """
    files = {name: digest_of(path) for name, path in payload_files(sheet, folder).items()}
    files |= {name: digest_of_folder(name, members) for name, members in payload_folders(sheet, folder).items()}
    wanted = lying_here(sheet)
    known = {**{name: about for name, about in (away or {}).items() if name in wanted}, **files}
    need_all_locked(sheet, known)
    return Lock(sheet=sheet.name, payload={name: known[name] for name in wanted})


def lying_here(sheet: Sheet | SheetPart) -> dict[str, PayloadFile]:
    """The payload but for files that are kept in the service with a part."""
    return {name: about for name, about in sheet.payload.items() if not isinstance(about, KeptFile)}


def need_all_locked(sheet: Sheet | SheetPart, known: Mapping[str, Locked]) -> None:
    """Raises `Refused` for a file of a payload of which nothing says what it must be."""
    if unlocked := [name for name in lying_here(sheet) if name not in known]:
        raise Refused(
            f"The lock does not name {', '.join(unlocked)} of the payload.",
            advice="Run: bathotype sheets lock FILE.",
            code="lock-differs",
        )


def payload_files(sheet: Sheet | SheetPart, folder: Path) -> dict[str, Path]:
    """The files of a payload beside the sheet.  Raises `NotFound` that names all that are missing, and `Refused` for one
    elsewhere."""
    there = _beside(sheet, folder)
    files = {name: path for name, path in there.items() if sheet.payload[name].file is not None}
    inside = sheet.goes_in if isinstance(sheet, Sheet) else frozenset(sheet.payload)
    for name, path in files.items():
        if not path.stat().st_size:
            raise Refused(f"{name} of the payload is empty.", code="payload-empty")
        if path.stat().st_size > (MOST_PAYLOAD if name in inside else MOST_FILE):
            raise Refused(f"{name} of the payload is larger than {iec(MOST_PAYLOAD)}.", code="too-large")
    return files


def payload_folders(sheet: Sheet | SheetPart, folder: Path) -> dict[str, list[Member]]:
    """The files of a payload's folders beside the sheet.  Raises as `payload_files`."""
    there = _beside(sheet, folder)
    return {name: members_of(name, path) for name, path in there.items() if sheet.payload[name].folder is not None}


def _beside(sheet: Sheet | SheetPart, folder: Path) -> dict[str, Path]:
    """Where files and folders lie beside the sheet."""
    home = folder.resolve()
    found = {name: about for name, about in lying_here(sheet).items() if about.path is not None}
    paths = {name: (home / str(about.path)).resolve() for name, about in found.items()}
    missing = [
        f"{name} ({found[name].where})"
        for name, path in paths.items()
        if not (path.is_file() if found[name].file is not None else path.is_dir())
    ]
    if missing:
        raise NotFound(
            f"Of the payload {', '.join(missing)} is not there.",
            advice="Put the file beside the sheet, or correct its name in the sheet.",
            code="payload-missing",
        )
    for name, path in paths.items():
        if not path.is_relative_to(home):
            raise Refused(f"{name} of the payload is a link out of the sheet's folder.", code="payload-elsewhere")
    return paths


def digest_of_folder(name: str, members: Iterable[Member]) -> Locked:
    """What the archive of a folder is."""
    sums = _Sums()
    pack(name, members, sums)
    return Locked(bytes=sums.bytes, sha256=sums.sha256.hexdigest())


class _Sums:
    """Takes an archive, and keeps nothing but its size and digest."""

    def __init__(self) -> None:
        self.bytes, self.sha256 = 0, hashlib.sha256()

    def write(self, data: bytes, /) -> int:
        """Take some bytes."""
        self.bytes += len(data)
        self.sha256.update(data)
        return len(data)


def digest_of(path: Path) -> Locked:
    """What a file is."""
    with path.open("rb") as file:
        return Locked(bytes=path.stat().st_size, sha256=hashlib.file_digest(file, "sha256").hexdigest())


def read_lock(text: str) -> Lock:
    """A lock from its file.  Raises `Invalid`."""
    try:
        return Lock.model_validate_json(text)
    except ValidationError as error:
        raise Invalid("The lock file is not valid.", advice="Write it again: bathotype sheets lock FILE.") from error


def check_lock(lock: Lock | None, now: Lock) -> None:
    """Raise `Refused` where the files are not what the lock says."""
    if not now.payload and (lock is None or not lock.payload):
        return
    differ = _differences(lock.payload if lock is not None else {}, now.payload)
    if lock is None or differ:
        why = (
            "The sheet has a payload and no lock." if lock is None else f"The lock does not fit the payload: {differ}."
        )
        raise Refused(
            why,
            advice="See that the files are the right ones, then run: bathotype sheets lock FILE.",
            code="lock-differs",
        )


def _differences(locked: Mapping[str, Locked], now: Mapping[str, Locked]) -> str:
    told = [f"{name} is new" for name in now if name not in locked]
    told += [f"{name} is gone" for name in locked if name not in now]
    told += [f"{name} has changed" for name in now if name in locked and locked[name] != now[name]]
    return ", ".join(told)
