"""The sheets that a commit holds, each with its payload as its lock has it."""

from __future__ import annotations

import hashlib
import io
import posixpath
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

from bathotype.core.errors import BathotypeError, NotFound, Refused
from bathotype.core.sheets.document import MOST_CHARACTERS
from bathotype.core.sheets.folders import Member, check_path, pack
from bathotype.core.sheets.gathering import gathered
from bathotype.core.sheets.lock import Lock, Locked, check_lock, lying_here, need_all_locked, read_lock
from bathotype.core.sheets.reading import Checked, read_sheet
from bathotype.core.sheets.sheet import MOST_PAYLOAD, Parameter, PartSource, PayloadFile
from bathotype.core.sheets.steps import Scalar

#: How many sheets a repository may have.
MOST_SHEETS, _MOST_LOOKED_AT = 200, 500
#: How many files a folder of a payload may have.
_MOST_IN_FOLDER = 500
_ENDINGS = (".yaml", ".yml")
#: A file with such a line at its margin is meant to be a sheet; others, such as files of values, are not.
_SHEET = re.compile(r"^sheet[ \t]*:", re.MULTILINE)
#: What an extension of git leaves in the place of a file that is elsewhere.
_EXECUTABLE = "100755"
_POINTER = b"version https://git-lfs"


class Entry(Protocol):
    """What is known of a file of a commit; ``mode`` as git has it."""

    @property
    def mode(self) -> str:
        """100644, 100755, or 120000 for a link."""

    @property
    def size(self) -> int:
        """In bytes."""


class Files(Protocol):
    """The files of a commit."""

    @property
    def files(self) -> Mapping[str, Entry]:
        """By their paths."""

    def read(self, path: str, most: int) -> bytes:
        """A file's bytes.  Raises `NotFound`, `Refused`."""


@dataclass(frozen=True)
class FoundSheet:
    """A sheet at its path, with the values that are given to it; ``files`` are the paths of its payload, or addresses."""

    path: str
    text: str
    values: Mapping[str, Scalar]
    checked: Checked
    payload: Mapping[str, Locked]
    files: Mapping[str, str]


@dataclass(frozen=True)
class NoSheet:
    """A file that is meant to be a sheet, and why it is none."""

    path: str
    why: str


def sheets_in(commit: Files, values: Mapping[str, Scalar]) -> tuple[list[FoundSheet], list[NoSheet]]:
    """The sheets of a commit, and what is wrong with the others.  A sheet is given those values that it has parameters
    for."""
    found: dict[str, FoundSheet] = {}
    wrong: list[NoSheet] = []
    paths = sorted(name for name in commit.files if name.endswith(_ENDINGS))
    if len(paths) > _MOST_LOOKED_AT:
        raise Refused(
            f"The folder holds {len(paths)} files of YAML.",
            advice="Name the folder that holds the sheets.",
            code="too-large",
        )
    for path in paths:
        try:
            sheet = _sheet(commit, path, values)
            if sheet is None:
                continue
            name = sheet.checked.need().sheet
            if name in found:
                raise Refused(f"{found[name].path} is the sheet {name} already.")
            if len(found) >= MOST_SHEETS:
                raise Refused(f"There are more than {MOST_SHEETS} sheets.")
            found[name] = sheet
        except BathotypeError as error:
            wrong.append(NoSheet(path, error.message))
    return list(found.values()), wrong


def _sheet(commit: Files, path: str, values: Mapping[str, Scalar]) -> FoundSheet | None:
    try:
        text = commit.read(path, 4 * MOST_CHARACTERS).decode()
    except UnicodeDecodeError:
        return None
    if not _SHEET.search(text):
        return None
    home = posixpath.dirname(path)

    def part(_: str, source: PartSource) -> tuple[str, str] | None:
        if source.file is None:
            return None  # it is kept in the service
        where = posixpath.normpath(posixpath.join(home, source.file))
        if where not in commit.files:
            raise NotFound(f"The part {where} is not there.", code="part-missing")
        return where, commit.read(where, 4 * MOST_CHARACTERS).decode("utf-8", "replace")

    whole = gathered(text, path, part)
    text = whole.text
    bare = whole.need(read_sheet(text, here_alone=True))
    mine = {name: _as(bare.parameters[name], value) for name, value in values.items() if name in bare.parameters}
    checked = read_sheet(text, mine, here_alone=True)
    sheet = whole.need(checked)
    payload = lying_here(sheet)
    beside = {
        name: posixpath.normpath(posixpath.join(home, str(about.path)))
        for name, about in payload.items()
        if about.path is not None
    }
    missing = [
        f"{name} ({payload[name].where})"
        for name, where in beside.items()
        if payload[name].folder is None and where not in commit.files
    ]
    if missing:
        raise NotFound(f"Of the payload {', '.join(missing)} is not there.", code="payload-missing")
    lock = _lock(commit, f"{path}.lock")
    here = {
        name: _locked(name, where, read_payload(commit, name, payload[name], where)) for name, where in beside.items()
    }
    # Of what has an address nobody but the lock knows what it must be.
    away = {name: about for name, about in (lock.payload if lock else {}).items() if name not in beside}
    known = {name: about for name, about in {**away, **here}.items() if name in payload}
    need_all_locked(sheet, known)
    check_lock(lock, Lock(sheet=sheet.sheet, payload=known))
    return FoundSheet(path, text, mine, checked, known, {name: about.where for name, about in payload.items()} | beside)


def _as(parameter: Parameter, value: Scalar) -> Scalar:
    """A value that is given as a text, for sheets that are not known yet, as a parameter has it."""
    try:
        return parameter.read(value) if isinstance(value, str) else value
    except ValueError:
        return value  # that it cannot be taken is reported with the other faults


def read_payload(commit: Files, name: str, about: PayloadFile, path: str) -> bytes:
    """A file of a payload at its path in the commit, or the archive of a folder there."""
    if about.folder is None:
        return commit.read(path, MOST_PAYLOAD)
    inside = "" if path == "." else f"{path}/"
    members = []
    for where, entry in commit.files.items():
        if where.startswith(inside):
            check_path(name, where)
            members.append(_member(commit, where, where[len(inside) :], entry))
    if len(members) > _MOST_IN_FOLDER:  # git is asked for each
        raise Refused(f"{path} holds more than {_MOST_IN_FOLDER} files.", advice="Commit an archive.", code="too-large")
    archive = io.BytesIO()
    pack(name, members, archive)
    return archive.getvalue()


def _member(commit: Files, where: str, path: str, entry: Entry) -> Member:
    return Member(path, entry.size, entry.mode == _EXECUTABLE, lambda: io.BytesIO(commit.read(where, MOST_PAYLOAD)))


def _locked(name: str, path: str, data: bytes) -> Locked:
    if not data:
        raise Refused(f"{name} of the payload is empty.", code="payload-empty")
    if data.startswith(_POINTER):
        raise Refused(
            f"{path} is a pointer to a file that is not in the repository.", advice="Put the file itself there."
        )
    return Locked(bytes=len(data), sha256=hashlib.sha256(data).hexdigest())


def _lock(commit: Files, path: str) -> Lock | None:
    return read_lock(commit.read(path, MOST_CHARACTERS).decode("utf-8", "replace")) if path in commit.files else None


def told(wrong: Sequence[NoSheet]) -> str:
    """What is wrong, in a sentence."""
    more = f", and {len(wrong) - 3} more" if len(wrong) > 3 else ""
    return "; ".join(f"{one.path}: {one.why.splitlines()[-1]}" for one in wrong[:3]) + more
