"""The life of a share: proposed by one account, accepted or declined by the other, ended by either."""

from __future__ import annotations

from typing import Literal

from sqlalchemy import func, select
from sqlalchemy.exc import IntegrityError
from sqlalchemy.orm import Session

from bathotype.core.errors import Invalid, NotFound, Refused
from bathotype.core.lifecycle.references import parse_reference
from bathotype.service import audit
from bathotype.service.access.principals import Principal
from bathotype.service.catalogue import find_line, find_version
from bathotype.service.records import Account, Instance, Line, Share, Version
from bathotype.service.records.base import CHANGE, new_id, utcnow
from bathotype.service.records.fleet import IS_PRESENT
from bathotype.service.signatures import check_signature
from bathotype.wire import sharing as wire

#: What is said of a share in each state.
_IS = {"proposed": "is proposed", "active": "is active", "declined": "was declined", "ended": "has ended"}


def propose(session: Session, caller: Principal, body: wire.ShareRequest) -> Share:
    """Record a proposed share; one with every account holds at once.  Raises `Invalid`, `NotFound` or `Refused`."""
    if body.until is not None and body.until < utcnow().date():
        raise Invalid(f"{body.until} is over.", advice="Give a later last day.")
    reference = parse_reference(body.subject)
    if reference.mark or reference.account not in (None, caller.account):
        raise Invalid(f"{body.subject!r} cannot be shared.", advice="Name a line of yours, or line@number.")
    if body.consumer is None and not body.confirm_public:
        raise Refused(
            f"This would let every account launch {body.subject}.",
            advice="Send `confirm_public`, or `--publish --yes`, if that is what you want.",
            code="confirm-public",
        )
    line = find_line(session, caller, reference.line)
    version = find_version(session, caller, reference) if reference.number else None
    other = _consumer(session, caller, body.consumer) if body.consumer is not None else None
    row = Share(
        id=new_id("sh"),
        owner_id=caller.account_id,
        consumer_id=other.id if other else None,
        line_id=line.id,
        version_id=version.id if version else None,
        regions=sorted(set(body.regions)) if body.regions else None,
        until=body.until,
        note=body.note,
        state="proposed" if other else "active",
        proposed_by=caller.actor,
    )
    try:
        with session.begin_nested():
            session.add(row)
    except IntegrityError as error:
        raise Refused(
            f"{body.subject} has a share with {body.consumer or 'every account'} already.",
            advice="End that one first; `bathotype shares list` shows it.",
            code="exists",
        ) from error
    what = {"share": row.id, "with": body.consumer or "every account", "regions": row.regions}
    action = "share.proposed" if other else "share.published"
    audit.record(session, caller.account_id, caller.actor, action, body.subject, after=what)
    if other:
        subject = f"{caller.account}/{body.subject}"
        audit.record(session, other.id, caller.account, "share.proposed", subject, after={"share": row.id})
    return row


def _consumer(session: Session, caller: Principal, name: str) -> Account:
    other = session.scalar(select(Account).where(Account.name == name))
    if other is None:
        raise NotFound(f"There is no account {name!r}.", advice="Ask its steward for its name.")
    if other.id == caller.account_id:
        raise Refused("An account needs no share of its own lines.", code="exists")
    return other


def find_share(session: Session, caller: Principal, share: str, *, lock: bool = False) -> Share:
    """A share that the caller's account gives or receives.  Raises `NotFound`."""
    row = session.get(Share, share, with_for_update=CHANGE if lock else False)
    if row is None or caller.account_id not in (row.owner_id, row.consumer_id):
        raise NotFound(f"There is no share {share!r} here.", advice="`bathotype shares list` shows them.")
    return row


def _subject(session: Session, row: Share) -> str:
    line = session.get_one(Line, row.line_id).name
    return f"{line}@{session.get_one(Version, row.version_id).number}" if row.version_id else line


def subjects_of(session: Session, row: Share) -> list[tuple[str, str]]:
    """Who gives and who takes a share, each with what it is of as that account writes it."""
    subject = _subject(session, row)
    given = [(row.owner_id, subject)]
    return [*given, (row.consumer_id, f"{_name(session, row.owner_id)}/{subject}")] if row.consumer_id else given


def _name(session: Session, account_id: str) -> str:
    return session.get_one(Account, account_id).name


def decide(session: Session, caller: Principal, share: str, state: Literal["active", "declined"]) -> Share:
    """Accept or decline.  Accepting is refused where the signature of a version that it grants does not hold."""
    row = find_share(session, caller, share, lock=True)
    if row.consumer_id != caller.account_id:
        consumer = session.get(Account, row.consumer_id) if row.consumer_id else None
        raise Refused(
            f"Only {consumer.name} can accept or decline this share."
            if consumer
            else "A share with every account needs no acceptance.",
            code="state-forbids",
        )
    if row.state != "proposed":
        raise Refused(f"The share {_IS[row.state]} already.", code="state-same")
    if state == "active" and row.until is not None and row.until < utcnow().date():
        raise Refused(f"The share's last day was {row.until}.", advice="Ask its owner for another.", code="share-ended")
    if state == "active":
        for version in _granted_now(session, row):
            check_signature(session, version)
    row.state, row.decided_by, row.decided_at = state, caller.actor, utcnow()
    action = "share.accepted" if state == "active" else "share.declined"
    for account, subject in subjects_of(session, row):
        actor = caller.actor if account == caller.account_id else caller.account
        audit.record(session, account, actor, action, subject, after={"share": row.id})
    return row


def _granted_now(session: Session, row: Share) -> list[Version]:
    """What a share grants now: the released versions of a line, or its one version."""
    query = select(Version).where(Version.line_id == row.line_id, Version.state.in_(("released", "sunset")))
    if row.version_id:
        query = select(Version).where(Version.id == row.version_id)
    return list(session.scalars(query.order_by(Version.sort_key.desc()).limit(1000)))


def running_from(session: Session, row: Share, consumer: str | None) -> int:
    """Instances that run from what a share grants: of one account, or of every one but the owner."""
    query = select(func.count()).select_from(Instance).join(Version, Version.id == Instance.version_id)
    query = query.where(IS_PRESENT, Version.line_id == row.line_id)
    if row.version_id:
        query = query.where(Version.id == row.version_id)
    query = query.where(Instance.account_id == consumer if consumer else Instance.account_id != row.owner_id)
    return session.scalar(query) or 0


def end(session: Session, caller: Principal, share: str) -> Share:
    """End a share, from either side.  What runs keeps running."""
    row = find_share(session, caller, share, lock=True)
    if row.state not in ("proposed", "active"):
        raise Refused(f"The share {_IS[row.state]} already.", code="state-same")
    row.state, row.ended_by, row.ended_at = "ended", caller.actor, utcnow()
    running = running_from(session, row, row.consumer_id)
    for account, subject in subjects_of(session, row):
        actor = caller.actor if account == caller.account_id else caller.account
        audit.record(session, account, actor, "share.ended", subject, after={"share": row.id, "running": running})
    return row
