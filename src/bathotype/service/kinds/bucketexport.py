"""Export: a version as a file of a format, as an object in a bucket of the operator's list.

An object appears in a bucket when it is whole: a worker that dies while it sends leaves nothing that is seen there, and
the next one sends it from its beginning."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from sqlalchemy.orm import Session

from bathotype.core.errors import Damaged, Refused
from bathotype.core.formats.laidout import LaidOutFile, stream
from bathotype.core.sheets.result import ExportTo
from bathotype.core.store.buckets import BucketObject
from bathotype.core.units import iec
from bathotype.service import audit
from bathotype.service.buckets import bucket_object
from bathotype.service.exports import export_as, export_file
from bathotype.service.operations.context import WorkContext
from bathotype.service.operations.kind import Kind, Memo, Params, Step
from bathotype.service.records import Version


@dataclass(frozen=True)
class Sent:
    """What was sent: where to, bytes, and SHA-256."""

    to: str
    bytes: int
    sha256: str


class BucketExportParams(Params):
    """A version in a region, the format of the file, and where it goes."""

    version_id: str
    reference: str
    region: str
    format: str
    disk: str | None = None
    to: str
    overwrite: bool = False


class BucketExportMemo(Memo):
    """Whether the place was free when this operation began, and what was sent."""

    claimed: bool = False
    bytes: int = 0
    sha256: str = ""


class BucketExport(Kind[BucketExportParams, BucketExportMemo]):
    """Makes the file piece by piece while it is sent; it lies nowhere in between."""

    name = "export"
    params_type, memo_type = BucketExportParams, BucketExportMemo
    steps = (
        Step("claim", "Check that there is no such file yet"),
        Step("send", "Send the file", 8),
    )

    def claim(self) -> None:
        """What is there by then may be this operation's own, and is replaced."""
        if not self.memo.claimed and not self.params.overwrite:
            refuse_taken(bucket_object(self.context.reach, self.context.account_name, self.params.to, to="write"))
        self.memo.claimed = True
        self.save()

    def send(self) -> None:
        """The whole file."""
        params = self.params
        sent = send_version(self.context, params.version_id, params.region, params.format, params.disk, params.to)
        self.memo.bytes, self.memo.sha256 = sent.bytes, sent.sha256
        self.save()

    def on_end(self, session: Session, outcome: str) -> None:
        """In the audit trail."""
        if outcome == "succeeded":
            sent = Sent(self.params.to, self.memo.bytes, self.memo.sha256)
            record_export(session, self.context, self.params.reference, sent, self.params.format)

    def clean_up(self, outcome: str) -> None:
        """There is nothing temporary."""

    def result(self) -> dict[str, Any]:
        return {
            "reference": self.params.reference, "format": self.params.format, "to": self.params.to,
            "bytes": self.memo.bytes, "sha256": self.memo.sha256,
        }  # fmt: skip


def address_of(version: Version, wanted: ExportTo) -> str:
    """Where a file goes that a sheet asks for.  Raises as `export_as` does."""
    return wanted.to + export_as(version, wanted.format, wanted.disk).file_name(version)


def refuse_taken(target: BucketObject) -> None:
    """Raise `Refused` where something is there already."""
    if target.exists():
        raise Refused(
            f"{target} is there already.", advice="Give another name, or --force to replace it.", code="exists"
        )


def send_version(context: WorkContext, version_id: str, region: str, form: str, role: str | None, address: str) -> Sent:
    """Send a version as a file.  Raises `Damaged` where the bucket has another length afterwards."""
    with context.session() as session:
        version = session.get_one(Version, version_id)
        assert version.line
        session.expunge_all()
    target = bucket_object(context.reach, context.account_name, address, to="write")
    context.keep_chunks(region)
    file = export_file(version, context.store(region), export_as(version, form, role))
    hasher = hashlib.sha256()
    target.put(_pieces(context, file, hasher), file.size)
    if (there := target.size()) != file.size:
        raise Damaged(f"{target} has {there} bytes, and {file.size} were sent.", advice="Export it again.")
    context.log(f"{iec(file.size)} are at {target}.")
    return Sent(address, file.size, hasher.hexdigest())


def _pieces(context: WorkContext, file: LaidOutFile, hasher: Any) -> Iterator[bytes]:
    done = 0
    for piece in stream(file):
        hasher.update(piece)
        yield piece
        done += len(piece)
        context.progress(done, file.size)


def record_export(session: Session, context: WorkContext, reference: str, sent: Sent, form: str) -> None:
    """Note in the audit trail where a version's bytes have gone."""
    after = {"to": sent.to, "format": form, "bytes": sent.bytes, "sha256": sent.sha256}
    audit.record(session, context.account_id, context.created_by, "version.exported", reference, after=after)
