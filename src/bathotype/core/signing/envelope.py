"""DSSE envelopes (Dead Simple Signing Envelope v1, secure-systems-lab/dsse) signed with Ed25519 (RFC 8032).

What is signed is not the payload alone but its *pre-authentication encoding*, ``DSSEv1 SP len(type) SP type SP
len(body) SP body``, so that bytes of one type can never be taken for another.
"""

from __future__ import annotations

import base64
import hashlib
import json
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat, PublicFormat

from bathotype.core.errors import Damaged

PAYLOAD_TYPE = "application/vnd.in-toto+json"


class BadSignature(Damaged):
    """A signature that does not verify, or was made with a key that does not count."""

    code = "signature-bad"


@dataclass(frozen=True)
class SigningKey:
    """An Ed25519 key with both its halves; ``private`` is the 32-byte seed."""

    private: bytes

    @classmethod
    def new(cls) -> SigningKey:
        """A fresh one."""
        made = Ed25519PrivateKey.generate()
        return cls(made.private_bytes(Encoding.Raw, PrivateFormat.Raw, NoEncryption()))

    @property
    def public(self) -> bytes:
        """The 32-byte public key."""
        key = Ed25519PrivateKey.from_private_bytes(self.private).public_key()
        return key.public_bytes(Encoding.Raw, PublicFormat.Raw)

    @property
    def id(self) -> str:
        """The key's id."""
        return key_id(self.public)

    def sign(self, payload: Mapping[str, Any]) -> dict[str, Any]:
        """An envelope around a JSON payload."""
        body = json.dumps(payload, sort_keys=True, separators=(",", ":")).encode()
        signature = Ed25519PrivateKey.from_private_bytes(self.private).sign(_encoded(PAYLOAD_TYPE, body))
        return {
            "payloadType": PAYLOAD_TYPE,
            "payload": base64.b64encode(body).decode(),
            "signatures": [{"keyid": self.id, "sig": base64.b64encode(signature).decode()}],
        }


def key_id(public: bytes) -> str:
    """The id of a public key: the first 16 hex digits of its SHA-256."""
    return hashlib.sha256(public).hexdigest()[:16]


def open_envelope(envelope: Mapping[str, Any], keys: Mapping[str, bytes]) -> dict[str, Any]:
    """The payload, once a signature by one of the keys (id → public key) verifies.  Raises `BadSignature`."""
    try:
        kind, body = str(envelope["payloadType"]), base64.b64decode(envelope["payload"], validate=True)
        signatures = [(str(s["keyid"]), base64.b64decode(s["sig"], validate=True)) for s in envelope["signatures"]]
    except (KeyError, TypeError, ValueError) as error:
        raise BadSignature("The envelope around the record is broken.") from error
    known = [(name, made) for name, made in signatures if name in keys]
    if kind != PAYLOAD_TYPE or not known:
        raise BadSignature(
            f"The record is signed with {', '.join(n for n, _ in signatures) or 'no key'}, which its owner does not have.",
            advice="Ask the owner which of its keys count; `bathotype keys list --account OWNER` shows them.",
        )
    for name, made in known:
        try:
            Ed25519PublicKey.from_public_bytes(keys[name]).verify(made, _encoded(kind, body))
        except (InvalidSignature, ValueError):
            continue
        payload = json.loads(body)
        if isinstance(payload, dict):
            return payload
    raise BadSignature(
        "The record's signature does not verify: the record or the signature was changed.",
        advice="Do not use this version. Ask its owner.",
    )


def _encoded(kind: str, body: bytes) -> bytes:
    return b"DSSEv1 %d %s %d %s" % (len(kind.encode()), kind.encode(), len(body), body)
