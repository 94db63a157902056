"""Tokens: made, listed and revoked."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request
from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.access.roles import Verb, covered, verbs_of
from bathotype.core.errors import Forbidden, Invalid, NotFound
from bathotype.service import audit
from bathotype.service.access.principals import (
    Person,
    Principal,
    add_token,
    revoke,
    withdraw,
)
from bathotype.service.records import Account, ApiToken, Membership, User
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.routes.callers import Reader, ReadsOf, ServiceOf, Signed
from bathotype.service.routes.paging import REVERSED, Ordering, Paged
from bathotype.service.routes.route import api_router
from bathotype.wire import access as wire
from bathotype.wire.common import Page

router = api_router()


def _token(row: ApiToken, user: User, seen_by: Principal | None = None) -> wire.Token:
    """``seen_by`` is shown no more of somebody else's token than that it reaches its own account."""
    fields = {name: getattr(row, name) for name in wire.Token.model_fields if name not in ("user", "kind")}
    if seen_by is not None and seen_by.user_id != user.id and user.kind == "person":
        fields["accounts"] = [seen_by.account]
    return wire.Token(user=user.name, kind=user.kind, **fields)


#: What a token may do that is for some sheets alone.
_OF_SHEETS = frozenset({Verb.READ, Verb.RUN})
_TOKENS = Ordering(
    ApiToken.id,
    made=ApiToken.created_at,
    name=ApiToken.name,
    user=User.name,
    used=ApiToken.last_used_at,
    expires=ApiToken.expires_at,
)


@router.get("/tokens", tags=["access"])
def list_tokens(
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    user: Annotated[str | None, Query(max_length=63, description="Only those of this person or robot.")] = None,
    valid: Annotated[bool, Query(description="Only those that are neither revoked nor expired.")] = False,
    sort: Annotated[wire.TokenSort, Query(description=REVERSED)] = "-made",
) -> Page[wire.Token]:
    """One's own tokens; for who manages the account also those of its robots and members that reach it."""
    with reads.session() as session:
        query = select(ApiToken, User).join(User, User.id == ApiToken.user_id)
        if "manage" in caller.verbs:
            members = select(Membership.user_id).where(
                Membership.account_id == caller.account_id, Membership.accepted_at.is_not(None)
            )
            query = query.where(
                ApiToken.user_id.in_(members),
                ApiToken.accounts.is_(None) | ApiToken.accounts.contains([caller.account]),
            )
        else:
            query = query.where(ApiToken.user_id == caller.user_id)
        if user is not None:
            query = query.where(User.name == user)
        if valid:
            query = query.where(ApiToken.revoked_at.is_(None), ApiToken.expires_at > utcnow())
        rows, following, total = paging.in_order(session, query, _TOKENS, sort)
        return Page(items=[_token(row[0], row[1], caller) for row in rows], next=following, total=total)


@router.post("/tokens", status_code=201, tags=["access"])
def make_token(body: wire.TokenRequest, person: Signed, request: Request, service: ServiceOf) -> wire.NewToken:
    """A token for oneself, never wider than what one signs in with; or, for who manages the account, for a robot."""
    with service.database.sessions.begin() as session:
        accounts = frozenset(body.accounts) if body.accounts is not None else person.accounts
        verbs: frozenset[str] | None = frozenset(body.verbs) if body.verbs is not None else person.verbs
        if person.accounts is not None and accounts is not None and not accounts <= person.accounts:
            raise Forbidden("The token that you use does not cover all these accounts.", advice="Use a wider one.")
        if person.verbs is not None and verbs is not None and not verbs <= covered(person.verbs):
            raise Forbidden("The token that you use does not cover all these verbs.", advice="Use a wider one.")
        sheets = frozenset(body.sheets) if body.sheets is not None else person.sheets
        if person.sheets is not None and sheets is not None and not sheets <= person.sheets:
            raise Forbidden("The token that you use does not cover all these sheets.", advice="Use a wider one.")
        if sheets is not None and (verbs is None or not verbs <= _OF_SHEETS):
            raise Invalid(
                "A token for some sheets may read and run, and nothing else.", advice="Give it the verbs read and run."
            )
        held = {s.account for s in person.standings}
        if accounts is not None and (unknown := sorted(accounts - held)):
            raise NotFound(f"There is no account {unknown[0]!r} here.", advice="`bathotype auth whoami` shows yours.")
        owner = session.get_one(User, person.user_id)
        if body.robot is not None:
            owner = _robot(session, person, body.robot)
        row, text = add_token(
            session,
            owner,
            body.name,
            made_by=person.name,
            days=body.days,
            accounts=accounts,
            verbs=verbs,
            sheets=sheets,
            made_with=person,
        )
        for account_id in _reached(session, owner, accounts):
            audit.record(
                session, account_id, person.name, "token.made", row.id, after={"user": owner.name, "name": row.name}
            )
        return wire.NewToken(**_token(row, owner).model_dump(), token=text)


def _robot(session: Session, person: Person, name: str) -> User:
    """A robot all of whose accounts the person manages: a token of it reaches them all."""
    robot = session.scalar(select(User).where(User.name == name, User.kind == "robot"))
    ours = {s.account_id: verbs_of(s.role, person.verbs) for s in person.standings}
    of_robot = (
        list(session.scalars(select(Membership.account_id).where(Membership.user_id == robot.id))) if robot else []
    )
    if robot is None or not any(a in ours for a in of_robot):
        raise NotFound(f"There is no robot {name!r}.", advice=f"`bathotype members add {name} --robot` makes it.")
    if not all("manage" in ours.get(a, ()) for a in of_robot):
        raise Forbidden(f"You do not manage every account of {name}.", advice="Ask a steward of them.")
    return robot


def _reached(session: Session, user: User, accounts: frozenset[str] | None) -> list[str]:
    rows = session.execute(
        select(Account.id, Account.name)
        .join(Membership)
        .where(Membership.user_id == user.id, Membership.accepted_at.is_not(None))
    )
    return [i for i, name in rows if accounts is None or name in accounts]


@router.delete("/tokens/{token}", status_code=204, tags=["access"])
def revoke_token(token: str, caller: Reader, service: ServiceOf) -> None:
    """Revoke a token: the next call with it is refused.  Of another member's, what it reaches of this account ends."""
    with service.database.sessions.begin() as session:
        row = session.get(ApiToken, token, with_for_update=CHANGE)
        member = session.get(Membership, (caller.account_id, row.user_id)) if row is not None else None
        mine = row is not None and row.user_id == caller.user_id
        managed = member is not None and member.accepted_at is not None and "manage" in caller.verbs
        reaches = row is not None and (row.accounts is None or caller.account in row.accounts)
        if row is None or not (mine or (managed and reaches)):
            raise NotFound(f"There is no token {token!r}.", advice="`bathotype auth tokens list` shows them.")
        if mine:
            revoke(session, row)
        else:
            withdraw(session, row, caller.account)
        audit.record(session, caller.account_id, caller.actor, "token.revoked", row.id, after={"name": row.name})
