"""Accounts' signing keys, and the signed record of each version."""

from __future__ import annotations

import base64

from cryptography.fernet import InvalidToken
from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.errors import NotFound, Refused, Unavailable
from bathotype.core.signing.envelope import BadSignature, SigningKey, open_envelope
from bathotype.core.signing.statement import VersionFacts, check_statement, statement_of
from bathotype.service.records import Account, AccountKey, Version
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.settings import Settings

#: Keys whose signatures count: a rotated key signs nothing new, but its earlier signatures remain valid.
COUNTS = ("active", "rotated")


class KeyRing:
    """Keys of accounts; their private halves lie encrypted in the database, the key to them in a file."""

    def __init__(self, settings: Settings) -> None:
        self._box = settings.box

    def active(self, session: Session, account_id: str) -> SigningKey:
        """The key that an account signs with now, made if it has none."""
        # Of two who find none one makes it: the other waits for the account's row.
        session.scalar(select(Account.id).where(Account.id == account_id).with_for_update(**CHANGE))
        row = session.scalar(
            select(AccountKey).where(AccountKey.account_id == account_id, AccountKey.state == "active")
        )
        if row is None:
            return self._make(session, account_id)
        try:
            return SigningKey(self._box.decrypt(str(row.private).encode()))
        except InvalidToken as error:
            raise Unavailable(
                "The account's signing key cannot be decrypted on this host.",
                advice="Give every process the same BATHOTYPE_SECRET_FILE.",
                code="secret-differs",
            ) from error

    def _make(self, session: Session, account_id: str) -> SigningKey:
        key = SigningKey.new()
        session.add(
            AccountKey(
                id=key.id,
                account_id=account_id,
                public=base64.b64encode(key.public).decode(),
                private=self._box.encrypt(key.private).decode(),
                state="active",
            )
        )
        session.flush()
        return key

    def rotate(self, session: Session, account_id: str) -> str:
        """Sign new versions with a new key; returns its id."""
        self.active(session, account_id)
        old = session.scalars(
            select(AccountKey).where(AccountKey.account_id == account_id, AccountKey.state == "active")
        ).one()
        old.state, old.private, old.ended_at = "rotated", None, utcnow()
        session.flush()
        return self._make(session, account_id).id

    @staticmethod
    def distrust(session: Session, account_id: str, key: str) -> AccountKey:
        """Make the signatures of a key invalid, for example after the key was lost."""
        row = session.get(AccountKey, (key, account_id), with_for_update=CHANGE)
        if row is None:
            raise NotFound(f"There is no key {key}.", advice="`bathotype keys list` shows them.")
        if row.state == "active":
            raise Refused("It is the key in use.", advice="Rotate first, then distrust it.", code="state-forbids")
        row.state = "distrusted"
        return row

    def sign(self, session: Session, version: Version) -> None:
        """Sign a version's record with its account's key."""
        key = self.active(session, version.line.account_id)
        version.signature = key.sign(statement_of(facts_of(session, version)))


def facts_of(session: Session, version: Version) -> VersionFacts:
    """What a version's record says, as it is signed."""
    account = session.get_one(Account, version.line.account_id)
    parent = session.get(Version, version.parent_id or version.adopted_from_id or "")
    return VersionFacts(
        account.name,
        version.line.name,
        version.number,
        version.id,
        version.content_digest,
        version.virtual_bytes,
        version.mode,
        version.source,
        version.profile,
        version.operation_id,
        parent.content_digest if parent else None,
        version.created_at,
        version.proof,
        tuple(version.disks),
    )


def public_keys(session: Session, account_id: str) -> dict[str, bytes]:
    """An account's keys that count, by id."""
    rows = session.scalars(select(AccountKey).where(AccountKey.account_id == account_id, AccountKey.state.in_(COUNTS)))
    return {row.id: base64.b64decode(row.public) for row in rows}


def check_signature(session: Session, version: Version) -> None:
    """Raises `BadSignature` unless a version's record is what one of its account's keys signed.

    A version from before there were signatures has none: that is refused only where a launch rule asks for one.
    """
    if version.signature is not None:
        statement = open_envelope(version.signature, public_keys(session, version.line.account_id))
        check_statement(statement, facts_of(session, version))


def signed(session: Session, version: Version) -> bool | None:
    """True for a valid signature, False for an invalid one, None if there is none."""
    if version.signature is None:
        return None
    try:
        check_signature(session, version)
    except BadSignature:
        return False
    return True
