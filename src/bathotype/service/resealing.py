"""Changing the service's secret: a new key comes first in its file, and what is sealed in the database is sealed anew."""

from __future__ import annotations

import os
import secrets
from pathlib import Path

from cryptography.fernet import Fernet, InvalidToken, MultiFernet
from sqlalchemy import func, select
from sqlalchemy.orm import InstrumentedAttribute, Session

from bathotype.core.errors import Invalid
from bathotype.service.records import AccountKey, Operation, Repository, Secret, Subscription
from bathotype.service.settings import Settings

#: Every column that holds something sealed.
_SEALED: tuple[InstrumentedAttribute[str] | InstrumentedAttribute[str | None], ...] = (
    AccountKey.private, Secret.sealed, Subscription.sealed, Repository.sealed,
)  # fmt: skip


def add_key(settings: Settings) -> Path:
    """Put a new key before the others of the secret file, which stay; returns where that is."""
    path = settings.secret_path
    keys = [Fernet.generate_key(), *settings.secrets]
    fresh = path.with_name(f".{path.name}.{secrets.token_hex(8)}")
    fresh.touch(mode=0o600)
    fresh.write_bytes(b"\n".join(keys) + b"\n")
    about = path.stat()
    if os.geteuid() == 0:
        os.chown(fresh, about.st_uid, about.st_gid)
    fresh.replace(path)
    return path


def reseal(session: Session, box: MultiFernet) -> int:
    """Seal with the first key what any of the keys opens; returns how many things that were.

    Raises `Invalid`, and changes nothing, where something was sealed with another key.
    """
    done = 0
    for column in _SEALED:
        for row in session.scalars(select(column.class_).with_for_update()):
            sealed = getattr(row, column.key)
            if not sealed:
                continue
            try:
                setattr(row, column.key, box.rotate(sealed.encode()).decode())
            except InvalidToken:
                raise Invalid(
                    f"{column.class_.__tablename__} holds what none of the keys in the secret file opens.",
                    advice="Put the key back with which it was sealed, a line of its own, and try again.",
                ) from None
            done += 1
    return done


def runs_under_way(session: Session) -> int:
    """Operations that hold secrets of their own, sealed when they began."""
    held = Operation.memo["sealed"].is_not(None)
    query = select(func.count()).where(Operation.ended_at.is_(None), held)
    return session.scalar(query) or 0
