"""Files that clients bring in: found, kept for as long as a saved sheet refers to them, and removed."""

from __future__ import annotations

import hashlib
from contextlib import suppress

from sqlalchemy import exists, select
from sqlalchemy.orm import Session, sessionmaker

from bathotype.core.errors import NotFound, Refused
from bathotype.core.store.region import RegionStore
from bathotype.service.access.principals import Principal
from bathotype.service.records import SheetFile, Upload
from bathotype.service.records.base import new_id

_PIECE = 1024 * 1024
#: Bytes of a part.
PART = 8 * 1024 * 1024


def new_upload(account_id: str, region: str, name: str, size: int) -> Upload:
    """The record of an upload whose parts are still to come."""
    return Upload(id=new_id("up"), account_id=account_id, region=region, name=name, size=size, part_bytes=PART)


def bring(sessions: sessionmaker[Session], store: RegionStore, upload: Upload, data: bytes) -> None:
    """Record an upload and store all of it.  Where somebody dies meanwhile it is removed in time, as any other."""
    upload_id = upload.id
    with sessions.begin() as session:
        session.add(upload)
    for number, at in enumerate(range(0, len(data), PART)):
        store.put_part(upload_id, number, data[at : at + PART])


def kept_file(session: Session, account_id: str, sha256: str) -> SheetFile | None:
    """A file of this content that is kept here, since some saved sheet of the account has it."""
    query = select(SheetFile).join(Upload, Upload.id == SheetFile.upload_id)
    return session.scalar(query.where(Upload.account_id == account_id, SheetFile.sha256 == sha256).limit(1))


def find_upload(session: Session, caller: Principal, upload_id: str) -> Upload:
    """An upload of the caller's account.  Raises `NotFound`."""
    upload = session.get(Upload, upload_id)
    if upload is None or upload.account_id != caller.account_id:
        raise NotFound(f"There is no upload {upload_id}.", advice="It may have expired: send the file again.")
    return upload


def find_open_upload(session: Session, caller: Principal, upload_id: str) -> Upload:
    """The same, if it may still be changed or used up.  Raises `Refused` where a saved sheet refers to it."""
    upload = find_upload(session, caller, upload_id)
    if session.scalar(select(exists().where(SheetFile.upload_id == upload_id))):
        raise Refused(f"A saved sheet refers to upload {upload_id}: it stays as it is.", advice="Send the file again.")
    return upload


def sha256_of(store: RegionStore, upload: Upload) -> str:
    """The SHA-256 of a whole upload.  Raises where a part is missing."""
    source, sums = store.open_upload(upload.id, upload.size, upload.part_bytes), hashlib.sha256()
    for at in range(0, source.size, _PIECE):
        sums.update(source.read(at, min(_PIECE, source.size - at)))
    return sums.hexdigest()


def discard(sessions: sessionmaker[Session], store: RegionStore, upload_id: str) -> bool:
    """Remove an upload and its parts, unless a saved sheet refers to it; whether it is gone.

    Its record is locked meanwhile, its key too: a sheet that is being saved with it waits, and then learns that it is
    gone."""
    with sessions.begin() as session:
        upload = session.get(Upload, upload_id, with_for_update=True)
        if upload is not None and session.scalar(select(exists().where(SheetFile.upload_id == upload_id))):
            return False
        with suppress(NotFound):
            store.delete_upload(upload_id)
        if upload is not None:
            session.delete(upload)
    return True
