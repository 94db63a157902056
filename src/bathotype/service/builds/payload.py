"""The payload of a run: files that lie in uploads or in buckets, and are what the lock says."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass

from sqlalchemy.orm import Session

from bathotype.core.disk.source import ByteSource
from bathotype.core.errors import Damaged, Refused
from bathotype.core.sheets.lock import Locked
from bathotype.core.units import iec
from bathotype.service.buckets import bucket_object
from bathotype.service.operations.context import WorkContext
from bathotype.service.records import Upload
from bathotype.service.uploads import discard

_PIECE = 1024 * 1024


class PayloadSource(Locked):
    """A file of the payload: what it must be, and the upload or the address in a bucket that it comes from."""

    upload: str = ""
    part_bytes: int = 0
    region: str = ""
    bucket: str = ""


@dataclass(frozen=True)
class Payload:
    """The files of one run; ``region`` is where uploads lie of which nothing else is known."""

    context: WorkContext
    region: str
    files: Mapping[str, PayloadSource]

    def open(self, name: str) -> ByteSource:
        """A file's bytes.  Those in a bucket may change while they are read: who uses them compares them with the lock."""
        about = self.files[name]
        if about.bucket:
            return bucket_object(self.context.reach, self.context.account_name, about.bucket, to="read").open()
        return self.context.store(self._region_of(about)).open_upload(about.upload, about.bytes, about.part_bytes)

    def check(self) -> dict[str, str]:
        """Read every file, and compare it with the lock; returns what marks the content of those in buckets.

        Raises `Damaged` for the first that differs.
        """
        marks = {}
        for name, wanted in self.files.items():
            before, source, sums = self._mark(name), self.open(name), hashlib.sha256()
            for at in range(0, source.size, _PIECE):
                self.context.check()
                sums.update(source.read(at, min(_PIECE, source.size - at)))
            if sums.hexdigest() != wanted.sha256 or self._mark(name) != before:
                raise _differs(name)
            if before is not None:
                marks[name] = before
            self.context.log(f"{name}: {iec(source.size)}, as locked.")
        return marks

    def need_unchanged(self, name: str, marks: Mapping[str, str]) -> None:
        """Raise `Damaged` where a file in a bucket is not the one that was compared with the lock."""
        if self._mark(name) != marks.get(name):
            raise _differs(name)

    def _mark(self, name: str) -> str | None:
        """The entity tag of an object in a bucket (RFC 9110, section 8.8.3): it changes with the object."""
        about = self.files[name]
        if not about.bucket:
            return None
        return bucket_object(self.context.reach, self.context.account_name, about.bucket, to="read").entity_tag()

    def discard(self) -> None:
        """Remove the uploads, but for those that a saved sheet refers to."""
        for about in self.files.values():
            if about.upload:
                discard(self.context.database.sessions, self.context.store(self._region_of(about)), about.upload)

    def _region_of(self, about: PayloadSource) -> str:
        return about.region or self.region


def need_uploads(session: Session, files: Mapping[str, PayloadSource]) -> None:
    """Raise `Refused` where an upload is gone."""
    sent = {name: about.upload for name, about in files.items() if about.upload}
    gone = [name for name, upload in sent.items() if session.get(Upload, upload) is None]
    if gone:
        raise Refused(
            f"The payload is not kept any more: {', '.join(gone)}.", advice="Start the run again.", code="payload-gone"
        )


def _differs(name: str) -> Damaged:
    return Damaged(
        f"{name} of the payload is not what the lock says.",
        advice="Start the run again from the files that the lock was made of, or lock them anew.",
        code="payload-differs",
    )
