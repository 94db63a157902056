"""Shares: proposed by one account, decided by the other; what they give, and what runs from them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated

from fastapi import Query
from sqlalchemy import func, or_, select
from sqlalchemy.exc import IntegrityError
from sqlalchemy.orm import Session

from bathotype.core.errors import Invalid, NotFound, Refused
from bathotype.core.lifecycle.references import parse_reference
from bathotype.core.lifecycle.states import VersionState
from bathotype.service import audit
from bathotype.service.auth import Principal
from bathotype.service.catalogue import find_line, find_version
from bathotype.service.keys import check_signature
from bathotype.service.numbering import claimable
from bathotype.service.records import Account, Instance, Line, Notice, NumberClaim, Replica, Share, Version
from bathotype.service.records.base import CHANGE, new_id, utcnow
from bathotype.service.records.fleet import PRESENT
from bathotype.service.routes.common import Key, Operator, Reader, ServiceOf, Sharer, api_router, once, queued
from bathotype.service.routes.operations import operation_answers
from bathotype.service.sharing import find_usable, in_regions, reference_for, shares_of_version, visible_versions
from bathotype.service.state import start_operation
from bathotype.service.work.adopting import Adopt
from bathotype.wire import sharing as wire
from bathotype.wire.operations import Operation

router = api_router(tags=["shares"])


def share_answers(session: Session, caller: Principal, rows: Sequence[Share]) -> list[wire.Share]:
    """What the API tells about shares, to either side.  Who acted on the other side stays there."""
    names = {a.id: a.name for a in session.scalars(select(Account))}
    out = []
    for row in rows:
        line = session.get_one(Line, row.line_id)
        version = session.get(Version, row.version_id) if row.version_id else None
        ours = row.owner_id == caller.account_id
        running = select(func.count()).select_from(Instance).join(Version, Version.id == Instance.version_id)
        running = running.where(Instance.state.in_(PRESENT), Version.line_id == row.line_id)
        if row.version_id:
            running = running.where(Version.id == row.version_id)
        consumer = row.consumer_id if ours else caller.account_id
        running = running.where(Instance.account_id == consumer if consumer else Instance.account_id != row.owner_id)
        out.append(
            wire.Share(
                id=row.id,
                owner=names[row.owner_id],
                consumer=names[row.consumer_id] if row.consumer_id else None,
                subject=f"{line.name}@{version.number}" if version else line.name,
                regions=row.regions,
                until=row.until,
                expired=row.state == "active" and row.until is not None and row.until < utcnow().date(),
                note=row.note,
                state=row.state,  # type: ignore[arg-type]
                proposed_by=row.proposed_by if ours else None,
                proposed_at=row.proposed_at,
                decided_by=row.decided_by if not ours else None,
                decided_at=row.decided_at,
                ended_at=row.ended_at,
                running=session.scalar(running) or 0,
            )
        )
    return out


@router.post("/shares", status_code=201)
def propose(body: wire.ShareRequest, caller: Sharer, service: ServiceOf, key: Key = None) -> wire.Share:
    """Propose a share; it grants nothing before the other account's steward accepts it.

    A share with every account needs ``confirm_public`` and holds at once.
    """
    for region in body.regions or ():
        service.reach.check_region(region)
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

    def make(session: Session) -> wire.Share:
        line = find_line(session, caller, reference.line)
        version = find_version(session, caller, reference) if reference.number else None
        other = None
        if body.consumer is not None:
            other = session.scalar(select(Account).where(Account.name == body.consumer))
            if other is None:
                raise NotFound(f"There is no account {body.consumer!r}.", advice="Ask its steward for its name.")
            if other.id == caller.account_id:
                raise Refused("A line is its own account's already.", code="exists")
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
        return share_answers(session, caller, [row])[0]

    return wire.Share.model_validate(once(caller, service, key, body, make))


@router.get("/shares")
def list_shares(
    caller: Reader,
    service: ServiceOf,
    side: Annotated[str, Query(pattern="^(given|taken|inbox|all)$", description="inbox: what waits for us.")] = "all",
    ended: bool = False,
) -> list[wire.Share]:
    """Shares of this account's lines with others, and of others' with it."""
    taken = or_(
        Share.consumer_id == caller.account_id, Share.consumer_id.is_(None) & (Share.owner_id != caller.account_id)
    )
    given = Share.owner_id == caller.account_id
    where = {
        "given": given,
        "taken": taken,
        "inbox": (Share.consumer_id == caller.account_id) & (Share.state == "proposed"),
        "all": or_(given, taken),
    }[side]
    with service.database.reads() as session:
        query = select(Share).where(where).order_by(Share.id.desc()).limit(500)
        if not ended:
            query = query.where(Share.state.in_(("proposed", "active")))
        return share_answers(session, caller, session.scalars(query).all())


def _find(session: Session, caller: Principal, share: str, *, lock: bool = False) -> Share:
    row = session.get(Share, share, with_for_update=CHANGE if lock else False)
    if row is None or caller.account_id not in (row.owner_id, row.consumer_id):
        raise NotFound(f"There is no share {share!r} here.", advice="`bathotype shares list` shows them.")
    return row


@router.get("/shares/{share}")
def show_share(share: str, caller: Reader, service: ServiceOf) -> wire.Share:
    """One share."""
    with service.database.reads() as session:
        return share_answers(session, caller, [_find(session, caller, share)])[0]


def _decide(share: str, caller: Principal, service: ServiceOf, state: str) -> wire.Share:
    with service.database.sessions.begin() as session:
        row = _find(session, caller, share, lock=True)
        if row.consumer_id != caller.account_id:
            raise Refused(f"This is for {caller.account}'s partner to decide.", code="state-forbids")
        if row.state != "proposed":
            raise Refused(f"The share is {row.state} already.", code="state-same")
        if state == "active":
            for version in _covered(session, row):
                check_signature(session, version)
        row.state, row.decided_by, row.decided_at = state, caller.actor, utcnow()
        action = "share.accepted" if state == "active" else "share.declined"
        answer = share_answers(session, caller, [row])[0]
        owner = session.get_one(Account, row.owner_id).name
        audit.record(
            session, caller.account_id, caller.actor, action, f"{owner}/{answer.subject}", after={"share": row.id}
        )
        audit.record(session, row.owner_id, caller.account, action, answer.subject, after={"share": row.id})
        return answer


def _covered(session: Session, row: Share) -> list[Version]:
    """What a share gives now: the released versions of a line, or its one version."""
    query = select(Version).where(Version.line_id == row.line_id, Version.state.in_(("released", "sunset")))
    if row.version_id:
        query = select(Version).where(Version.id == row.version_id)
    return list(session.scalars(query.order_by(Version.sort_key.desc()).limit(1000)))


@router.post("/shares/{share}/acceptance")
def accept_share(share: str, caller: Sharer, service: ServiceOf) -> wire.Share:
    """Accept a share.  Refused where the signature of anything that it gives does not hold."""
    return _decide(share, caller, service, "active")


@router.post("/shares/{share}/refusal")
def decline_share(share: str, caller: Sharer, service: ServiceOf) -> wire.Share:
    """Decline a share."""
    return _decide(share, caller, service, "declined")


@router.post("/shares/{share}/end")
def end_share(share: str, caller: Sharer, service: ServiceOf) -> wire.Share:
    """End a share, from either side: no new launch from now on.  What runs keeps running, and is told as a number."""
    with service.database.sessions.begin() as session:
        row = _find(session, caller, share, lock=True)
        if row.state not in ("proposed", "active"):
            raise Refused(f"The share is {row.state} already.", code="state-same")
        row.state, row.ended_by, row.ended_at = "ended", caller.actor, utcnow()
        answer = share_answers(session, caller, [row])[0]
        for account in {row.owner_id, row.consumer_id} - {None}:
            mine = account == caller.account_id
            audit.record(
                session, str(account), caller.actor if mine else caller.account, "share.ended", answer.subject,
                after={"share": row.id, "running": answer.running},
            )  # fmt: skip
        return answer


@router.get("/shared-versions")
def shared_versions(caller: Reader, service: ServiceOf) -> list[wire.SharedVersion]:
    """Versions of other accounts that this one may see, newest first within each line.

    A purged one only while instances of it are left here.
    """
    with service.database.reads() as session:
        query = visible_versions(caller.account_id).join(Line, Line.id == Version.line_id)
        kept = select(Instance.version_id).where(Instance.account_id == caller.account_id, Instance.state.in_(PRESENT))
        query = query.where(
            Line.account_id != caller.account_id, (Version.state != VersionState.PURGED) | Version.id.in_(kept)
        )
        rows = session.scalars(query.order_by(Line.account_id, Line.name, Version.sort_key.desc()).limit(1000)).all()
        ids = [v.id for v in rows]
        held: dict[str, list[str]] = {}
        ready = select(Replica).where(Replica.version_id.in_(ids), Replica.state == "ready").order_by(Replica.region)
        for replica in session.scalars(ready):
            held.setdefault(replica.version_id, []).append(replica.region)
        mine = dict(
            session.execute(
                select(Instance.version_id, func.count())
                .where(
                    Instance.version_id.in_(ids), Instance.account_id == caller.account_id, Instance.state.in_(PRESENT)
                )
                .group_by(Instance.version_id)
            ).all()
        )
        out = []
        for version in rows:
            allowed = in_regions(shares_of_version(session, caller.account_id, version))
            out.append(
                wire.SharedVersion(
                    reference=reference_for(session, version, caller.account_id),
                    state=version.state,
                    regions=[r for r in held.get(version.id, []) if allowed is None or r in allowed],
                    released_at=version.released_at,
                    retire_on=version.retire_on,
                    running=mine.get(version.id, 0),
                )
            )
        return out


@router.get("/lines/{name}/consumers")
def consumers(name: str, caller: Reader, service: ServiceOf) -> list[wire.ConsumerCount]:
    """How many instances each other account runs from a line's versions, by region: numbers only."""
    with service.database.reads() as session:
        line = find_line(session, caller, name)
        rows = session.execute(
            select(Account.name, Version.number, Instance.region, func.count())
            .select_from(Instance)
            .join(Version, Version.id == Instance.version_id)
            .join(Account, Account.id == Instance.account_id)
            .where(Version.line_id == line.id, Instance.account_id != caller.account_id, Instance.state.in_(PRESENT))
            .group_by(Account.name, Version.number, Version.sort_key, Instance.region)
            .order_by(Account.name, Version.sort_key.desc(), Instance.region)
        )
        return [wire.ConsumerCount(account=a, version=v, region=r, running=n) for a, v, r, n in rows]


@router.get("/calendar")
def calendar(caller: Reader, service: ServiceOf) -> list[wire.Due]:
    """What this account runs that is coming to its end, the next first: each is to be renewed by its date."""
    with service.database.reads() as session:
        rows = session.execute(
            select(Version, func.count())
            .join(Instance, Instance.version_id == Version.id)
            .where(
                Instance.account_id == caller.account_id,
                Instance.state.in_(PRESENT),
                Version.state.in_((VersionState.SUNSET, VersionState.RETIRED, VersionState.PURGED)),
            )
            .group_by(Version.id, Line.id)
            .join(Line, Line.id == Version.line_id)
        ).all()
        out = []
        for version, count in rows:
            newest = session.scalar(
                select(Version.number)
                .where(
                    Version.line_id == version.line_id,
                    Version.state == VersionState.RELEASED,
                    Version.pin_only.is_(False),
                )
                .order_by(Version.sort_key.desc())
                .limit(1)
            )
            told = session.scalar(
                select(Notice.text)
                .where(Notice.account_id == caller.account_id, Notice.version_id == version.id)
                .order_by(Notice.at.desc())
                .limit(1)
            )
            out.append(
                wire.Due(
                    reference=reference_for(session, version, caller.account_id),
                    state=version.state,
                    sunset_on=version.sunset_on,
                    retire_on=version.retire_on,
                    running=count,
                    newest=newest,
                    notice=told,
                )
            )
        return sorted(
            out,
            key=lambda d: (d.retire_on is None and d.state == "sunset", d.retire_on or utcnow().date(), d.reference),
        )


@router.post("/versions/{reference:path}/adoption", status_code=202)
def adopt(reference: str, body: wire.AdoptRequest, caller: Operator, service: ServiceOf, key: Key = None) -> Operation:
    """Take another account's version over into a line of one's own.  No chunk is copied; its origin is kept."""
    if body.number and body.bump:
        raise Invalid("Both a number and a part to bump are given.", advice="Give one of them.")

    def make(session: Session) -> Operation:
        line = find_line(session, caller, body.line, lock=True)
        origin, shares = find_usable(session, caller, reference, lock="share")
        if shares is None:
            raise Refused(f"{reference} is {caller.account}'s own already.", code="exists")
        if origin.state not in (VersionState.RELEASED, VersionState.SUNSET):
            raise Refused(f"{reference} is {origin.state}.", code="state-forbids")
        number = claimable(session, line, body.number, body.bump)
        params = {
            "origin_id": origin.id,
            "origin": reference_for(session, origin, caller.account_id),
            "version_id": new_id("ve"),
            "line_id": line.id,
            "line": line.name,
            "number": number,
            "notes": body.notes,
        }
        row = start_operation(session, caller, Adopt, f"{line.name}@{number}", params)
        session.add(NumberClaim(line_id=line.id, number=number, operation_id=row.id))
        audit.record(
            session, caller.account_id, caller.actor, "adopt.requested", f"{line.name}@{number}",
            after={"operation": row.id, "from": params["origin"]},
        )  # fmt: skip
        return operation_answers(session, [row])[0]

    return Operation.model_validate(queued(service, once(caller, service, key, body, make)))
