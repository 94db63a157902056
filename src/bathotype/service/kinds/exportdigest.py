"""Export digest: read a version as a file of a format once, to learn its SHA-256."""

from __future__ import annotations

from typing import Any

from bathotype.core.formats.laidout import stream
from bathotype.service.exports import Hashing, export_as, export_file, known_digest
from bathotype.service.operations.kind import Kind, Memo, Params, Step
from bathotype.service.records import Version


class ExportDigestParams(Params):
    """A version in a region, and the format of the file."""

    version_id: str
    reference: str
    region: str
    format: str
    disk: str | None = None


class ExportDigestMemo(Memo):
    """Nothing: the digest is kept with the version."""


class DigestOfExport(Kind[ExportDigestParams, ExportDigestMemo]):
    """Makes the file, piece by piece, and keeps no more than its digest."""

    name = "export-digest"
    params_type, memo_type = ExportDigestParams, ExportDigestMemo
    steps = (Step("read", "Read the file once"),)

    def read(self) -> bool | None:
        """Nothing to do where somebody has read the whole file meanwhile."""
        context = self.context
        with context.session() as session:
            version = session.get_one(Version, self.params.version_id)
            assert version.line
            session.expunge_all()
        wanted = export_as(version, self.params.format, self.params.disk)
        if known_digest(context.database, version, wanted) is not None:
            return False
        context.keep_chunks(self.params.region)
        file = export_file(version, context.store(self.params.region), wanted)
        hashing, done = Hashing(context.database, version, wanted, file.size), 0
        for piece in stream(file):
            hashing.take(piece)
            done += len(piece)
            context.progress(done, file.size)
        hashing.keep()
        return None

    def clean_up(self, outcome: str) -> None:
        """There is nothing temporary."""

    def result(self) -> dict[str, Any]:
        return {"reference": self.params.reference, "format": self.params.format}
