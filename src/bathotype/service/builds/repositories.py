"""Repositories: connecting one, and taking over the sheets of its newest commit."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.errors import BathotypeError, Invalid, NotFound, Refused, Unavailable
from bathotype.core.lifecycle.references import check_name
from bathotype.core.messages import signature
from bathotype.core.repositories import git
from bathotype.core.repositories.address import Address, check_branch, check_folder, check_signers, read_address
from bathotype.core.repositories.sheets import FoundSheet, NoSheet, read_payload, sheets_in, told
from bathotype.core.sheets.reading import Checked
from bathotype.core.sheets.steps import Scalar
from bathotype.service import audit
from bathotype.service.access.principals import Principal
from bathotype.service.builds import saved
from bathotype.service.builds.fetching import fetch
from bathotype.service.builds.parts import with_parts
from bathotype.service.builds.planning import understand
from bathotype.service.database import Database
from bathotype.service.operations.start import unattended_principal
from bathotype.service.reach import Reach
from bathotype.service.records import Repository, SavedSheet
from bathotype.service.records.base import CHANGE, new_id, utcnow
from bathotype.service.settings import Settings
from bathotype.service.uploads import bring, kept_file, new_upload
from bathotype.service.vault import Vault, missing_secrets
from bathotype.wire.builds import BuildRequest, PayloadGiven
from bathotype.wire.repositories import RepositoryRequest
from bathotype.wire.savedsheets import SaveSheetRequest

NOT_READ = "repository-not-read"
#: Minutes until one is tried again that is looked at after pushes alone, or was being read when somebody died.
_AGAIN = 5
_PATIENCE = timedelta(minutes=30)


def find_repository(session: Session, caller: Principal, name: str, *, lock: bool = False) -> Repository:
    """A repository of the caller's account.  Raises `NotFound`."""
    query = select(Repository).where(Repository.account_id == caller.account_id, Repository.name == name)
    found = session.scalar(query.with_for_update(**CHANGE) if lock else query)
    if found is None:
        raise NotFound(f"There is no repository {name!r}.", advice="`bathotype repositories list` shows them.")
    return found


def address_of(settings: Settings, url: str) -> Address:
    """An address that the operator allows.  Raises `Invalid`."""
    places = settings.places.repositories
    return read_address(url, places.hosts, places.folders)


def put(
    session: Session, settings: Settings, caller: Principal, name: str, row: Repository | None,
    body: RepositoryRequest,
) -> tuple[Repository, str]:  # fmt: skip
    """Keep a repository, in the place of ``row``, which is locked; with its key where it is new.  It is read at once."""
    check_name(name, "repository")
    address_of(settings, body.address)
    check_branch(body.branch)
    check_folder(body.folder)
    check_signers(body.signers)
    if body.secret is not None and missing_secrets(session, caller.account_id, [body.secret]):
        raise NotFound(
            f"There is no secret {body.secret}.", advice=f"A steward sets it: `bathotype secrets set {body.secret}`."
        )
    key = ""
    if row is None:
        key = signature.new_key()
        row = Repository(
            id=new_id("re"), account_id=caller.account_id, name=name, made_by=caller.actor, wrong=[],
            sealed=settings.box.encrypt(key.encode()).decode(),
        )  # fmt: skip
        session.add(row)
    elif (row.address, row.branch) != (body.address, body.branch):
        row.commit = ""
    for field, value in body.model_dump(mode="json").items():
        setattr(row, field, value)
    row.again, row.next_at = True, utcnow()
    session.flush()
    after = body.model_dump(mode="json", include={"address", "branch", "folder", "secret", "every_minutes"})
    audit.record(session, caller.account_id, caller.actor, "repository.connected", name, after=after)
    return row, key


def renew_key(session: Session, settings: Settings, caller: Principal, row: Repository) -> str:
    """A new key for its pushes.  Those that are signed with the one before are refused from now on."""
    key = signature.new_key()
    row.sealed = settings.box.encrypt(key.encode()).decode()
    audit.record(session, caller.account_id, caller.actor, "repository.key-renewed", row.name)
    return key


def drop(session: Session, caller: Principal, row: Repository) -> None:
    """Forget a repository.  Its sheets stay, and are kept by hand from then on."""
    session.delete(row)
    audit.clear_alert(session, caller.account_id, NOT_READ, row.name)
    audit.record(session, caller.account_id, caller.actor, "repository.removed", row.name)


# Reading


@dataclass(frozen=True)
class _Wanted:
    """What a row asks for, to be used without a transaction.

    ``until`` is when it is looked at again if whoever looks now dies; somebody who asks meanwhile sets another moment.
    """

    until: datetime
    caller: Principal
    url: str
    branch: str
    folder: str
    signers: tuple[str, ...]
    values: Mapping[str, Scalar]
    commit: str
    again: bool
    access: git.Access

    @classmethod
    def of(cls, session: Session, settings: Settings, row: Repository, until: datetime) -> _Wanted:
        """Raises `NotFound`, `Unavailable` for its secret."""
        places, secret = settings.places.repositories, ""
        if row.secret is not None:
            secret = Vault(settings).peek(session, row.account_id, row.secret, operation=f"repository {row.name}")
        return cls(
            until, unattended_principal(session, row.account_id, f"repository-{row.name}"), row.address, row.branch, row.folder,
            tuple(row.signers), dict(row.values), row.commit, row.again,
            git.Access(secret, tuple(places.known_hosts), places.authorities),
        )  # fmt: skip

    def still(self, row: Repository) -> bool:
        """Whether a row asks for the same."""
        mine = (self.url, self.branch, self.folder, list(self.signers), self.values, self.commit)
        return mine == (row.address, row.branch, row.folder, row.signers, row.values, row.commit)


@dataclass(frozen=True)
class _Brought:
    """A sheet whose files are in a region's store."""

    sheet: FoundSheet
    body: SaveSheetRequest
    checked: Checked


def read(database: Database, reach: Reach, settings: Settings, repository: str) -> None:
    """Look at a repository, and take its sheets over if its branch has moved.

    Everything of a commit is taken over in one transaction, or nothing: whoever dies meanwhile leaves files that nobody
    refers to, and the next turn begins again.
    """
    with database.sessions.begin() as session:
        row = session.get(Repository, repository, with_for_update=CHANGE)
        if row is None:
            return
        until = row.next_at = _next(utcnow(), _AGAIN)
        try:
            wanted = _Wanted.of(session, settings, row, until)
        except BathotypeError as error:
            _not_read(session, row, until, error)
            return
    try:
        address = address_of(settings, wanted.url)
        if git.tip(address, wanted.branch, wanted.access) == wanted.commit and not wanted.again:
            with database.sessions.begin() as session:
                row = session.get(Repository, repository, with_for_update=CHANGE)
                if row is not None and wanted.still(row):
                    _was_read(session, row, until)
            return
        with git.fetched(
            address, wanted.branch, wanted.folder, wanted.access, signers=wanted.signers, scratch=settings.scratch
        ) as commit:
            found, wrong = sheets_in(commit, wanted.values)
            brought = []
            for sheet in found:
                try:
                    body = _body(database, reach, settings, wanted.caller, commit, sheet)
                    checked = saved.readable(sheet.checked.need().sheet, body)
                except (
                    Invalid,
                    NotFound,
                    Refused,
                ) as error:  # a file is not what its lock says, or a part is not there
                    wrong.append(NoSheet(sheet.path, error.message))
                else:
                    brought.append(_Brought(sheet, body, checked))
    except (BathotypeError, OSError) as error:
        why = error if isinstance(error, BathotypeError) else Unavailable(f"It cannot be read here: {error.strerror}.")
        with database.sessions.begin() as session:
            row = session.get(Repository, repository, with_for_update=CHANGE)
            if row is not None and wanted.still(row):
                _not_read(session, row, until, why)
        return
    with database.sessions.begin() as session:
        row = session.get(Repository, repository, with_for_update=CHANGE)
        if row is not None and wanted.still(row):
            _take_over(session, wanted, row, commit, brought, wrong)


def _body(
    database: Database, reach: Reach, settings: Settings, caller: Principal, commit: git.Commit, sheet: FoundSheet
) -> SaveSheetRequest:
    """A sheet as somebody would save it.  Files that a saved sheet has already are not stored again."""
    payload, region = {}, ""
    for name, about in sheet.payload.items():
        given = sheet.checked.need().payload[name]
        if given.bucket is not None:
            payload[name] = PayloadGiven(bytes=about.bytes, sha256=about.sha256)
            continue
        with database.reads() as session:
            kept = kept_file(session, caller.account_id, about.sha256)
            region = region or ("" if kept else _region(session, reach, caller, sheet))
        if kept is not None:
            payload[name] = PayloadGiven(upload=kept.upload_id, bytes=kept.bytes, sha256=kept.sha256)
            continue
        where = sheet.files[name]
        if given.url is not None:
            data = fetch(where, about, settings.places.repositories.payload_hosts)
        else:
            data = read_payload(commit, name, given, where)
        upload = new_upload(caller.account_id, region, where[-200:], len(data))
        payload[name] = PayloadGiven(upload=upload.id, bytes=about.bytes, sha256=about.sha256)
        bring(database.sessions, reach.store(region), upload, data)
    note = f"{commit.subject} ({commit.author})"[:500]
    body = SaveSheetRequest(sheet=sheet.text, values=dict(sheet.values), payload=payload, note=note)
    with database.reads() as session:
        return with_parts(session, caller, body)


def _region(session: Session, reach: Reach, caller: Principal, sheet: FoundSheet) -> str:
    """Where a run would be; any other region where that cannot be said yet."""
    anywhere = next(iter(reach.places.regions))
    try:
        return (
            understand(session, reach, caller, BuildRequest(sheet=sheet.text, values=dict(sheet.values)))[2] or anywhere
        )
    except BathotypeError:
        return anywhere


def _take_over(
    session: Session, wanted: _Wanted, row: Repository, commit: git.Commit, brought: list[_Brought],
    wrong: list[NoSheet],
) -> None:  # fmt: skip
    caller = wanted.caller
    before, taken, wrong = row.commit, [], list(wrong)
    for one in sorted(brought, key=lambda one: one.sheet.checked.need().sheet):
        name = one.sheet.checked.need().sheet
        query = select(SavedSheet).where(SavedSheet.account_id == row.account_id, SavedSheet.name == name)
        # What is there when it is connected, or read once more, is no push.
        origin = saved.Origin(row.id, row.address, commit.id, one.sheet.path, first=before in ("", commit.id))
        try:
            with session.begin_nested():
                there = session.scalar(query.with_for_update())
                saved.save(session, caller, there, one.body, one.checked, origin)
            taken.append(name)
        except BathotypeError as error:
            wrong.append(NoSheet(one.sheet.path, error.message))
    _withdraw(session, caller, row, taken, wrong)
    row.commit, row.committed_at, row.again = commit.id, commit.at, False
    row.author, row.subject, row.signer = commit.author, commit.subject, commit.signer
    row.wrong = [{"path": one.path, "why": one.why[:2000]} for one in wrong[:50]]
    _was_read(session, row, wanted.until)
    after = {
        "commit": commit.id, "author": commit.author, "subject": commit.subject, "sheets": taken,
        "wrong": [one.path for one in wrong[:50]], **({"signer": commit.signer} if commit.signer else {}),
    }  # fmt: skip
    audit.record(
        session, row.account_id, caller.actor, "repository.read", row.name, before={"commit": before}, after=after
    )


def _withdraw(session: Session, caller: Principal, row: Repository, taken: list[str], wrong: list[NoSheet]) -> None:
    """Sheets that are not in the commit any more do not run by themselves; one whose file is wrong stays as it was."""
    paths = {one.path for one in wrong}
    query = select(SavedSheet).where(SavedSheet.repository_id == row.id, ~SavedSheet.withdrawn)
    for sheet in session.scalars(query.order_by(SavedSheet.name).with_for_update(**CHANGE)):
        if sheet.name not in taken and sheet.path not in paths:
            sheet.withdrawn, sheet.next_at, sheet.pushed = True, None, False
            audit.record(session, row.account_id, caller.actor, "sheet.withdrawn", sheet.name)


def _was_read(session: Session, row: Repository, until: datetime) -> None:
    now = utcnow()
    row.problem, row.read_at, row.tried_at = "", now, now
    if row.next_at == until:
        row.next_at = _next(now, row.every_minutes) if row.every_minutes else None
    if row.wrong:
        about = told([NoSheet(one["path"], one["why"]) for one in row.wrong])
        audit.raise_alert(session, row.account_id, NOT_READ, row.name, f"Not every sheet of {row.name} is one: {about}")
    else:
        audit.clear_alert(session, row.account_id, NOT_READ, row.name)


def _not_read(session: Session, row: Repository, until: datetime, error: BathotypeError) -> None:
    """Keep why.  It is tried again, also where it is looked at after pushes alone: else a push would be lost."""
    now = utcnow()
    row.problem, row.tried_at = error.message, now
    if row.next_at == until:
        row.next_at = _next(now, row.every_minutes or _AGAIN)
    lasting = row.read_at is None or now - row.read_at > _PATIENCE or isinstance(error, Refused | NotFound)
    if lasting:
        about = f"The repository {row.name} cannot be read: {error.message}"
        audit.raise_alert(session, row.account_id, NOT_READ, row.name, about)


def _next(now: datetime, minutes: int) -> datetime:
    return now + timedelta(minutes=minutes)
