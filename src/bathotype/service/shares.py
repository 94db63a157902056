"""Reach: which versions an account may see and launch, its own and those that active shares grant."""

from __future__ import annotations

from typing import Any

from sqlalchemy import or_, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from bathotype.core.errors import NotFound, Refused
from bathotype.core.lifecycle.references import Reference, parse_reference
from bathotype.core.lifecycle.states import VersionState
from bathotype.service import audit
from bathotype.service.access.principals import Principal
from bathotype.service.catalogue import LOCKS, find_version, holds_now, named, reaches, reference_of
from bathotype.service.records import Account, Instance, Line, Notice, Share, Version
from bathotype.service.records.base import REST, new_id, utcnow
from bathotype.service.records.fleet import IS_PRESENT


def shares_of_version(session: Session, account_id: str, version: Version, *, lock: bool = False) -> list[Share]:
    """Shares by which another account's version is granted to an account now.

    With ``lock`` an end of one of them waits until this transaction is over: of the two one comes first.
    """
    query = select(Share).where(
        Share.line_id == version.line_id,
        reaches(account_id),
        holds_now(),
        or_(Share.version_id.is_(None), Share.version_id == version.id),
    )
    return list(session.scalars(query.with_for_update(**REST) if lock else query))


def in_regions(shares: list[Share]) -> set[str] | None:
    """Regions that shares together allow; None for all."""
    if any(s.regions is None for s in shares):
        return None
    return {region for s in shares for region in s.regions or ()}


def still_granted(session: Session, account_id: str, version_id: str, region: str) -> None:
    """Raises `Refused` where an account may not launch a version in a region any more."""
    version = session.get_one(Version, version_id)
    if version.line.account_id == account_id:
        return
    shares = shares_of_version(session, account_id, version, lock=True)
    allowed = in_regions(shares)
    if not shares or (allowed is not None and region not in allowed):
        raise Refused(
            f"The share of {reference_for(session, version, account_id)} has ended.",
            advice="Ask its owner to share it again; what runs keeps running.",
            code="share-ended",
        )


def find_usable(
    session: Session, caller: Principal, text: str | Reference, *, lock: str | None = None
) -> tuple[Version, list[Share] | None]:
    """A version that the caller may see: its own, or one that is shared with it.

    Returns the shares that grant it, None for one's own.  What one may not see is not there: `NotFound`.
    """
    reference = parse_reference(text) if isinstance(text, str) else text
    if reference.account in (None, caller.account):
        return find_version(session, caller, reference, lock=lock), None
    line = session.scalar(
        select(Line).join(Account).where(Account.name == reference.account, Line.name == reference.line)
    )
    if line is None or not _line_shares(session, caller, line.id):
        raise _not_here(reference)
    query = named(visible_versions(caller.account_id), line.id, reference)
    if lock:
        query = query.with_for_update(**LOCKS[lock], of=Version)
    version = session.scalar(query)
    shares = shares_of_version(session, caller.account_id, version, lock=bool(lock)) if version else []
    if version is None or not shares:
        raise _not_here(reference)
    return version, shares


def _not_here(reference: Reference) -> NotFound:
    return NotFound(
        f"There is no {reference} here.",
        advice="`bathotype shares list` shows what is shared with this account.",
    )


def _line_shares(session: Session, caller: Principal, line_id: str) -> bool:
    return bool(
        session.scalar(
            select(Share.id).where(Share.line_id == line_id, reaches(caller.account_id), holds_now()).limit(1)
        )
    )


def visible_versions(account_id: str) -> Any:
    """A query for versions of others that shares show to an account; staged versions are not shown."""
    granted = (
        select(Share.id)
        .where(
            Share.line_id == Version.line_id,
            reaches(account_id),
            holds_now(),
            or_(Share.version_id.is_(None), Share.version_id == Version.id),
        )
        .correlate(Version)
        .exists()
    )
    return select(Version).where(Version.state != VersionState.STAGED, granted)


def owner_of(session: Session, version: Version) -> str:
    """The name of the account that owns a version's line."""
    return session.get_one(Account, version.line.account_id).name


def reference_for(session: Session, version: Version, account_id: str) -> str:
    """How an account writes a version: with its owner before it where that is another."""
    if version.line.account_id == account_id:
        return reference_of(version)
    return f"{owner_of(session, version)}/{reference_of(version)}"


def tell_consumers(session: Session, version: Version, kind: str, text: str) -> None:
    """Inform every other account that runs a version about a change of state: in its events and its calendar."""
    accounts = session.scalars(
        select(Instance.account_id)
        .where(
            Instance.version_id == version.id,
            Instance.account_id != version.line.account_id,
            IS_PRESENT,
        )
        .distinct()
    ).all()
    for account in accounts:
        reference = reference_for(session, version, account)
        filled = text.format(reference=reference)
        session.execute(
            insert(Notice)
            .values(id=new_id("no"), account_id=account, kind=kind, version_id=version.id, text=filled, at=utcnow())
            .on_conflict_do_update(
                index_elements=["account_id", "kind", "version_id"], set_={"text": filled, "at": utcnow()}
            )
        )
        audit.record(session, account, owner_of(session, version), f"notice.{kind}", reference, after={"text": filled})
