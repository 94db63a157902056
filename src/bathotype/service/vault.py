"""The secrets of accounts: kept encrypted, opened for the operation that names them, never shown."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from cryptography.fernet import InvalidToken
from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.errors import NotFound, Unavailable
from bathotype.service import audit
from bathotype.service.records import Secret
from bathotype.service.records.base import utcnow
from bathotype.service.settings import Settings


class Vault:
    """What an account keeps secret.  The key to it is the service's own secret file."""

    def __init__(self, settings: Settings) -> None:
        self._box = settings.box

    def put(self, session: Session, account_id: str, name: str, value: str, *, about: str, by: str) -> Secret:
        """Keep a secret, in the place of an older one of its name."""
        row = session.get(Secret, (account_id, name))
        if row is None:
            row = Secret(account_id=account_id, name=name)
            session.add(row)
        row.sealed, row.about, row.set_by, row.set_at = self._box.encrypt(value.encode()).decode(), about, by, utcnow()
        return row

    def give(self, session: Session, account_id: str, names: Collection[str], *, operation: str) -> dict[str, str]:
        """The values for an operation, still sealed; that it was given them is recorded.

        Raises `NotFound` for what is not there.
        """
        found = {}
        for name in sorted(names):
            row = session.get(Secret, (account_id, name))
            if row is None:
                raise NotFound(
                    f"There is no secret {name}.", advice=f"A steward sets it: `bathotype secrets set {name}`."
                )
            found[name] = row.sealed
            row.used_at, row.used_by = utcnow(), operation
        if found:
            audit.record(session, account_id, "bathotype", "secrets.used", operation, after={"names": sorted(found)})
        return found

    def peek(self, session: Session, account_id: str, name: str, *, operation: str) -> str:
        """One value, opened, for what the service does again and again: when, and for what, is kept with the secret alone.

        Raises `NotFound`, `Unavailable`.
        """
        row = session.get(Secret, (account_id, name))
        if row is None:
            raise NotFound(f"There is no secret {name}.", advice=f"A steward sets it: `bathotype secrets set {name}`.")
        row.used_at, row.used_by = utcnow(), operation
        return self.opened({name: row.sealed})[name]

    def opened(self, sealed: Mapping[str, str]) -> dict[str, str]:
        """The values themselves.  Raises `Unavailable` on a host that has another secret file."""
        try:
            return {name: self._box.decrypt(text.encode()).decode() for name, text in sealed.items()}
        except InvalidToken as error:
            raise Unavailable(
                f"The secrets {', '.join(sorted(sealed))} cannot be decrypted on this host.",
                advice="Give every process the same BATHOTYPE_SECRET_FILE.",
                code="secret-differs",
            ) from error


def missing_secrets(session: Session, account_id: str, names: Collection[str]) -> list[str]:
    """Which of the names an account has no secret of."""
    there = set(session.scalars(select(Secret.name).where(Secret.account_id == account_id)))
    return sorted(set(names) - there)
