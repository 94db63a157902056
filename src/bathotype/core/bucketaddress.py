"""Addresses of objects in buckets: ``s3://BUCKET/KEY``, as many programs write them."""

from __future__ import annotations

import re

_BUCKET = re.compile(r"s3://([a-z0-9][a-z0-9._-]{1,62})/(.*)", re.DOTALL)
_MOST_KEY = 1024


def check_object(text: str) -> str:
    """An object's address.  Raises `ValueError` with what is wrong."""
    match = _BUCKET.fullmatch(text)
    if match is None or not _is_key(match[2]):
        raise ValueError(f"{text[:100]!r} must be an address such as s3://halvane-images/gauges/gauge.qcow2")
    return text


def check_folder(text: str) -> str:
    """The address of a bucket or of a folder in it, which ends with ``/``.  Raises `ValueError`."""
    match = _BUCKET.fullmatch(text)
    if match is None or (match[2] and not (match[2].endswith("/") and _is_key(match[2][:-1]))):
        raise ValueError(f"{text[:100]!r} must be an address such as s3://halvane-images/gauges/ (with the last slash)")
    return text


def _is_key(key: str) -> bool:
    """Plain segments alone: a store that is a folder must have it where an object store has it."""
    plain = key.isascii() and key.isprintable() and len(key) <= _MOST_KEY and not set(key) & set('\\?*:"<>|')
    return plain and all(segment not in ("", ".", "..") for segment in key.split("/"))
