"""Objects in the buckets of the operator's list, for an account that may read or write them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from bathotype.core.errors import Refused
from bathotype.core.store.buckets import BucketObject
from bathotype.service.reach import Reach
from bathotype.service.settings import Bucket

_REFUSED = {
    "read": ("may not read", "accounts", "source-unknown"),
    "write": ("may not export to", "writers", "bucket-forbidden"),
}


def bucket_object(reach: Reach, account: str, address: str, *, to: Literal["read", "write"]) -> BucketObject:
    """The object at ``s3://BUCKET/KEY``.  Raises `Refused` where the account may not do that there."""
    name, _, key = address.removeprefix("s3://").partition("/")
    bucket = reach.places.buckets.get(name)
    if bucket is None or account not in _admitted(bucket, to):
        verb, setting, code = _REFUSED[to]
        allowed = sorted(known for known, one in reach.places.buckets.items() if account in _admitted(one, to))
        raise Refused(
            f"{account} {verb} the bucket {name!r}.",
            advice=f"An operator names it in the bucket's `{setting}`, in the regions file. "
            f"Now there: {', '.join(allowed) or 'none'}.",
            code=code,
        )
    return BucketObject(name, key, bucket.store_settings)


def _admitted(bucket: Bucket, to: Literal["read", "write"]) -> Sequence[str]:
    return bucket.accounts if to == "read" else bucket.writers
