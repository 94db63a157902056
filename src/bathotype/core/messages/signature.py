"""Signatures of webhooks, as Standard Webhooks 1.0 has them: HMAC-SHA256 over id, time and body."""

from __future__ import annotations

import base64
import hashlib
import hmac
import secrets
from collections.abc import Mapping

_PREFIX = "whsec_"
_BYTES = 32
#: A message that is older, or newer, than so many seconds is not taken.
TOLERANCE = 300


def new_key() -> str:
    """A key as its receiver is given it."""
    return _PREFIX + base64.b64encode(secrets.token_bytes(_BYTES)).decode()


def headers(key: str, message: str, at: int, body: bytes) -> dict[str, str]:
    """The headers that sign a body.  ``at`` is the time of sending, in seconds since 1970."""
    return {
        "webhook-id": message,
        "webhook-timestamp": str(at),
        "webhook-signature": f"v1,{_sum(key, message, str(at), body)}",
    }


def holds(key: str, given: Mapping[str, str], body: bytes, now: int) -> bool:
    """Whether headers sign a body, and not too long ago: what a receiver checks."""
    message, at = given.get("webhook-id", ""), given.get("webhook-timestamp", "")
    if not at.isascii() or not at.isdigit() or len(at) > 12 or abs(now - int(at)) > TOLERANCE:
        return False
    wanted = f"v1,{_sum(key, message, at, body)}"
    return any(hmac.compare_digest(wanted.encode(), one.encode()) for one in given.get("webhook-signature", "").split())


def _sum(key: str, message: str, at: str, body: bytes) -> str:
    secret = base64.b64decode(key.removeprefix(_PREFIX))
    signed = hmac.new(secret, f"{message}.{at}.".encode() + body, hashlib.sha256)
    return base64.b64encode(signed.digest()).decode()


def shown(key: str, given: Mapping[str, str], body: bytes, now: int) -> bool:
    """Whether who sent a body knows the key: by `holds`, by a signature as W3C WebSub has it, or by showing the key itself.

    ``given`` are the headers, their names in lower case.  Git hosts differ in which of these they can do.
    """
    if holds(key, given, body, now):
        return True
    if hmac.compare_digest(given.get("authorization", "").encode(), f"Bearer {key}".encode()):
        return True
    wanted = f"sha256={hmac.new(key.encode(), body, hashlib.sha256).hexdigest()}".encode()
    names = ("x-hub-signature", "x-hub-signature-256")
    return any(hmac.compare_digest(wanted, given.get(name, "").encode()) for name in names)
