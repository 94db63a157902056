"""A file in an object store as a source of bytes: one object, or the parts of an upload."""

from __future__ import annotations

import re
import threading
from collections import OrderedDict
from collections.abc import Callable

import obstore
from obstore.store import ObjectStore

from bathotype.core.disk.ranges import Ranges
from bathotype.core.errors import Damaged, Invalid, NotFound, Refused, Unavailable

_PIECE = 1024 * 1024
_CACHED = 16


class ObjectFile:
    """Objects that make up one file, read by range, a few pieces of 1 MiB kept.

    ``parts`` gives each object's path and length in order; a path of None is a part of zeros.
    """

    def __init__(self, store: ObjectStore, parts: list[tuple[str | None, int]]) -> None:
        self._store, self._parts = store, parts
        self._starts = [0]
        for _, length in parts:
            self._starts.append(self._starts[-1] + length)
        self._cache: OrderedDict[int, bytes] = OrderedDict()
        self._lock = threading.Lock()

    @property
    def size(self) -> int:
        return self._starts[-1]

    def read(self, offset: int, length: int) -> bytes:
        if offset < 0 or length < 0 or offset + length > self.size:
            raise Damaged(f"Read of {length} bytes at {offset} is beyond the file.")
        out, end = bytearray(), offset + length
        while offset < end:
            number = offset // _PIECE
            piece = self._piece(number)
            inside = offset - number * _PIECE
            out += piece[inside : inside + end - offset]
            offset = (number + 1) * _PIECE
        return bytes(out)

    def _piece(self, number: int) -> bytes:
        with self._lock:
            if (known := self._cache.get(number)) is not None:
                self._cache.move_to_end(number)
                return known
        start = number * _PIECE
        piece = self._fetch(start, min(start + _PIECE, self.size))
        with self._lock:
            self._cache[number] = piece
            if len(self._cache) > _CACHED:
                self._cache.popitem(last=False)
        return piece

    def _fetch(self, start: int, end: int) -> bytes:
        out = b""
        for (path, length), begin in zip(self._parts, self._starts, strict=False):
            low, high = max(start, begin), min(end, begin + length)
            if low >= high:
                continue
            if path is None:
                out += bytes(high - low)
                continue
            try:
                out += bytes(obstore.get_range(self._store, path, start=low - begin, end=high - begin))
            except Exception as error:
                raise explained(error, path) from error
        if len(out) != end - start:
            raise Damaged("The file in the object store is shorter than it was.", advice="Start the import again.")
        return out

    def allocated(self) -> Ranges:
        return Ranges.of(
            (start, start + length)
            for (path, length), start in zip(self._parts, self._starts, strict=False)
            if path is not None
        )


_REASONS: tuple[tuple[tuple[str, ...], Callable[[str, str, str], Exception]], ...] = (
    (
        (
            "PermanentRedirect",
            "AuthorizationHeaderMalformed",
            "IllegalLocationConstraint",
            "incorrectly configured region",
        ),
        lambda what, bucket, region: Refused(
            f"{what}: the bucket is not in region {region or '(none given)'}.",
            advice=f"Set the right region for bucket {bucket} in the regions file.",
            code="source-region",
        ),
    ),
    (
        ("InvalidAccessKeyId", "SignatureDoesNotMatch", "403", "AccessDenied", "Forbidden", "Unauthorized", "401"),
        lambda what, bucket, region: Refused(
            f"{what}: the store does not accept our key, or the key may not do this.",
            advice=f"Check the key for bucket {bucket} in the regions file, and what it may do.",
            code="source-credentials",
        ),
    ),
)


def explained(error: Exception, what: str, *, bucket: str = "", region: str = "") -> Exception:
    """What a failure of the object store means."""
    text = f"{type(error).__name__} {error}"
    for marks, make in _REASONS:
        if any(re.search(rf"\b{mark}\b", text) for mark in marks):  # whole words: a port may have 403 in it
            return make(what, bucket, region)
    if isinstance(error, FileNotFoundError) or re.search(r"\b404\b", text):
        return NotFound(f"There is no {what}.", advice="Check bucket and key.", code="source-missing")
    if "UnknownConfigurationKey" in text or isinstance(error, (TypeError, ValueError)):
        return Invalid(f"The settings for {what} cannot be used: {str(error).splitlines()[0][:200]}")
    return Unavailable(f"{what} cannot be reached: {str(error).splitlines()[0][:200]}", code="source-unreachable")
