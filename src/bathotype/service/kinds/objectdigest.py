"""Bucket digest: read an object in a bucket once, to learn its size and SHA-256."""

from __future__ import annotations

import hashlib
from typing import Any

from bathotype.service.buckets import bucket_object
from bathotype.service.operations.kind import Kind, Memo, Params, Step

_PIECE = 4 * 1024 * 1024


class ObjectDigestParams(Params):
    """The object's address."""

    address: str


class ObjectDigestMemo(Memo):
    """What it is."""

    bytes: int = 0
    sha256: str = ""


class DigestOfObject(Kind[ObjectDigestParams, ObjectDigestMemo]):
    """Reads it piece by piece, and keeps no more than its digest."""

    name = "bucket-digest"
    params_type, memo_type = ObjectDigestParams, ObjectDigestMemo
    steps = (Step("read", "Read the object once"),)

    def read(self) -> None:
        """All of it, from its beginning."""
        context = self.context
        source = bucket_object(context.reach, context.account_name, self.params.address, to="read").open()
        sums = hashlib.sha256()
        for at in range(0, source.size, _PIECE):
            sums.update(source.read(at, min(_PIECE, source.size - at)))
            context.progress(min(at + _PIECE, source.size), source.size)
        self.memo.bytes, self.memo.sha256 = source.size, sums.hexdigest()
        self.save()

    def clean_up(self, outcome: str) -> None:
        """There is nothing temporary."""

    def result(self) -> dict[str, Any]:
        return {"address": self.params.address, "bytes": self.memo.bytes, "sha256": self.memo.sha256}
