"""Objects in buckets that are not ours: read by range, or written whole.

A bucket is one of an S3-compatible store, or a folder of the host that is named like one.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import timedelta
from typing import Any

import obstore
from obstore.store import LocalStore, ObjectStore, S3Store

from bathotype.core.errors import BathotypeError, Refused
from bathotype.core.store.objects import ObjectFile, explained
from bathotype.core.units import iec

_MIB = 1024 * 1024
#: What the S3 protocol allows: parts of one upload, and bytes of one object.
_MOST_PARTS, _MOST_OBJECT = 10_000, 5 << 40
_PART, _AT_ONCE = 8 * _MIB, 4


class BucketObject:
    """One object by its bucket and key.

    ``settings`` are obstore's for S3 (``region``, ``access_key_id``, ``endpoint`` and so on), or ``folder``.  All calls
    raise `NotFound`, `Refused`, `Invalid` or `Unavailable` with the reason; a store that does not answer is given up after
    ``within`` seconds.
    """

    def __init__(self, bucket: str, key: str, settings: Mapping[str, str], *, within: float = 8.0) -> None:
        self._bucket, self._key, self._settings, self._within = bucket, key, dict(settings), within

    def __str__(self) -> str:
        return f"s3://{self._bucket}/{self._key}"

    def open(self) -> ObjectFile:
        """Its bytes, by range."""
        try:
            store = self._store()
            # Not a HEAD: only the answer to a GET says why it is refused.
            size = int(obstore.get(store, self._key, options={"range": (0, 1)}).meta["size"])
        except Exception as error:
            raise self._explained(error) from error
        return ObjectFile(store, [(self._key, size)])

    def exists(self) -> bool:
        """Whether there is something under its key."""
        try:
            obstore.head(self._store(), self._key)
        except FileNotFoundError:
            return False
        except Exception as error:
            raise self._explained(error) from error
        return True

    def entity_tag(self) -> str:
        """What changes with its content (RFC 9110, section 8.8.3)."""
        try:
            found = obstore.head(self._store(), self._key)
        except Exception as error:
            raise self._explained(error) from error
        return found["e_tag"] or f"{found['last_modified']} {found['size']}"

    def size(self) -> int:
        """Its length in bytes."""
        try:
            return int(obstore.head(self._store(), self._key)["size"])
        except Exception as error:
            raise self._explained(error) from error

    def put(self, pieces: Iterable[bytes], size: int) -> None:
        """Write it whole from pieces of ``size`` bytes altogether: until then nothing is seen of it.

        Raises `Refused` for more than one object may have.  An error of ``pieces`` is raised as it is.
        """
        if size > _MOST_OBJECT:
            raise Refused(
                f"{self} would have {iec(size)}, and an object has {iec(_MOST_OBJECT)} at most.", code="too-large"
            )
        part = max(_PART, -(-size // (_MOST_PARTS - 1) // _MIB + 1) * _MIB)
        failed: list[BaseException] = []

        def taken() -> Iterable[bytes]:
            try:
                yield from pieces
            except BaseException as error:
                failed.append(error)
                raise

        try:
            obstore.put(
                self._store(checksum_algorithm="SHA256"), self._key, taken(),
                use_multipart=True, chunk_size=part, max_concurrency=_AT_ONCE if part == _PART else 1,
            )  # fmt: skip
        except Exception as error:
            if failed:
                raise failed[0] from None
            raise self._explained(error) from error

    def _store(self, **more: str) -> ObjectStore:
        if folder := self._settings.get("folder"):
            return LocalStore(folder, mkdir=True)
        config: Any = {**self._settings, **more}
        options: Any = {
            "connect_timeout": "3s",
            "timeout": "30s",
            "allow_http": self._settings.get("endpoint", "").startswith("http://"),
        }
        retry: Any = {"max_retries": 2, "retry_timeout": timedelta(seconds=self._within)}
        return S3Store(self._bucket, config=config, client_options=options, retry_config=retry)

    def _explained(self, error: Exception) -> Exception:
        if isinstance(error, BathotypeError):
            return error
        return explained(error, str(self), bucket=self._bucket, region=self._settings.get("region", ""))
