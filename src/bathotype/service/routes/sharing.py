"""Shares: proposed by one account, decided by the other; what they give, and what runs from them."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query
from sqlalchemy import func, or_, select
from sqlalchemy.orm import Session

from bathotype.core.errors import Invalid, Refused
from bathotype.core.forms import form
from bathotype.core.lifecycle.states import VersionState
from bathotype.service.answers.calendar import calendar_of, dates_of
from bathotype.service.answers.operations import operation_answers
from bathotype.service.answers.shares import share_answers, shared_version_answers
from bathotype.service.catalogue import find_line
from bathotype.service.kinds.adopt import Adopt, AdoptParams
from bathotype.service.kinds.making import start_making
from bathotype.service.numbering import claimable
from bathotype.service.proposals import decide, end, find_share, propose
from bathotype.service.records import Account, Instance, Line, Share, Version
from bathotype.service.records.base import new_id
from bathotype.service.records.fleet import IS_PRESENT
from bathotype.service.routes.callers import Operator, Reader, ReadsOf, ServiceOf, Sharer
from bathotype.service.routes.common import Key, once
from bathotype.service.routes.paging import REVERSED, Ordering, Paged
from bathotype.service.routes.route import api_router
from bathotype.service.shares import find_usable, reference_for, visible_versions
from bathotype.wire import sharing as wire
from bathotype.wire.common import Page
from bathotype.wire.operations import Operation

router = api_router(tags=["shares"])


@router.post("/shares", status_code=201)
def propose_share(body: wire.ShareRequest, caller: Sharer, service: ServiceOf, key: Key = None) -> wire.Share:
    """Propose a share; it grants nothing before the other account's steward accepts it.

    A share with every account needs ``confirm_public`` and holds at once.
    """
    for region in body.regions or ():
        service.reach.check_region(region)

    def make(session: Session) -> wire.Share:
        return share_answers(session, caller, [propose(session, caller, body)])[0]

    return wire.Share.model_validate(once(caller, service, key, body, make))


_SHARES = Ordering(Share.id, proposed=Share.id, line=Line.name, state=Share.state)
_SHARED = Ordering(Version.id, made=Version.id, line=Line.name, state=Version.state)


@router.get("/shares")
def list_shares(
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    side: Annotated[
        str,
        Query(
            pattern=form("^(given|taken|inbox|all)$", "given, taken, inbox or all"),
            description="inbox: shares that wait for this account's answer.",
        ),
    ] = "all",
    ended: bool = False,
    sort: Annotated[wire.ShareSort, Query(description=REVERSED)] = "-proposed",
) -> Page[wire.Share]:
    """Shares of this account's lines with others, and of others' with it; the newest first unless sorted."""
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
    with reads.session() as session:
        query = select(Share).join(Line, Line.id == Share.line_id).where(where)
        if not ended:
            query = query.where(Share.state.in_(("proposed", "active")))
        rows, following, total = paging.in_order(session, query, _SHARES, sort)
        items = share_answers(session, caller, [row[0] for row in rows])
        return Page[wire.Share](items=items, next=following, total=total)


@router.get("/shares/{share}")
def show_share(share: str, caller: Reader, reads: ReadsOf) -> wire.Share:
    """One share."""
    with reads.session() as session:
        return share_answers(session, caller, [find_share(session, caller, share)])[0]


@router.post("/shares/{share}/acceptance")
def accept_share(share: str, caller: Sharer, service: ServiceOf) -> wire.Share:
    """Accept a share.  Refused where the signature of anything that it grants does not hold."""
    with service.database.sessions.begin() as session:
        return share_answers(session, caller, [decide(session, caller, share, "active")])[0]


@router.post("/shares/{share}/refusal")
def decline_share(share: str, caller: Sharer, service: ServiceOf) -> wire.Share:
    """Decline a share."""
    with service.database.sessions.begin() as session:
        return share_answers(session, caller, [decide(session, caller, share, "declined")])[0]


@router.post("/shares/{share}/end")
def end_share(share: str, caller: Sharer, service: ServiceOf) -> wire.Share:
    """End a share, from either side: no new launch from now on.  What runs keeps running, and is shown as a number."""
    with service.database.sessions.begin() as session:
        return share_answers(session, caller, [end(session, caller, share)])[0]


@router.get("/shared-versions")
def shared_versions(
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    sort: Annotated[wire.SharedVersionSort, Query(description=REVERSED)] = "-made",
) -> Page[wire.SharedVersion]:
    """Versions of other accounts that this one may see, the newest first unless sorted.

    A purged one only while instances of it are left here.
    """
    with reads.session() as session:
        query = visible_versions(caller.account_id).join(Line, Line.id == Version.line_id)
        kept = select(Instance.version_id).where(Instance.account_id == caller.account_id, IS_PRESENT)
        query = query.where(
            Line.account_id != caller.account_id, (Version.state != VersionState.PURGED) | Version.id.in_(kept)
        )
        rows, following, total = paging.in_order(session, query, _SHARED, sort)
        items = shared_version_answers(session, caller.account_id, [row[0] for row in rows])
        return Page[wire.SharedVersion](items=items, next=following, total=total)


@router.get("/lines/{name}/consumers")
def consumers(name: str, caller: Reader, reads: ReadsOf) -> list[wire.ConsumerCount]:
    """How many instances each other account runs from a line's versions, by region: numbers only."""
    with reads.session() as session:
        line = find_line(session, caller, name)
        rows = session.execute(
            select(Account.name, Version.number, Instance.region, func.count())
            .select_from(Instance)
            .join(Version, Version.id == Instance.version_id)
            .join(Account, Account.id == Instance.account_id)
            .where(Version.line_id == line.id, Instance.account_id != caller.account_id, IS_PRESENT)
            .group_by(Account.name, Version.number, Version.sort_key, Instance.region)
            .order_by(Account.name, Version.sort_key.desc(), Instance.region)
        )
        return [wire.ConsumerCount(account=a, version=v, region=r, running=n) for a, v, r, n in rows]


@router.get("/calendar")
def calendar(caller: Reader, reads: ReadsOf) -> list[wire.Due]:
    """What this account runs that is coming to its end, the next first: each is to be renewed by its date."""
    with reads.session() as session:
        return calendar_of(session, caller)


@router.get("/dates")
def dates(caller: Reader, reads: ReadsOf) -> list[wire.Due]:
    """The calendar, and with it this account's own versions that come to their end, whoever runs them: when each retires,
    from when it may be purged, and what is in the way."""
    with reads.session() as session:
        return dates_of(session, caller, purging=True)


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
        params = AdoptParams(
            origin_id=origin.id,
            origin=reference_for(session, origin, caller.account_id),
            version_id=new_id("ve"),
            line_id=line.id,
            line=line.name,
            number=claimable(session, line, body.number, body.bump),
            notes=body.notes,
        )
        row = start_making(session, caller, Adopt, params, {"from": params.origin})
        return operation_answers(session, [row])[0]

    return Operation.model_validate(once(caller, service, key, body, make))
