"""The members of an account, their roles and their invitations."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query
from sqlalchemy import delete, func, or_, select
from sqlalchemy.orm import Session

from bathotype.core.access.roles import Role, Verb, verbs_of
from bathotype.core.errors import Forbidden, NotFound, Refused
from bathotype.service import audit
from bathotype.service.access.principals import (
    Person,
    Principal,
    make_user,
)
from bathotype.service.access.signin import (
    invite,
)
from bathotype.service.records import Account, Invitation, Membership, User
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.routes.callers import Manager, Reader, ReadsOf, ServiceOf, Signed
from bathotype.service.routes.conditions import Conditional
from bathotype.service.routes.paging import REVERSED, Ordering, Paged
from bathotype.service.routes.route import api_router
from bathotype.wire import access as wire
from bathotype.wire.common import Page

router = api_router()


_MEMBERS = Ordering(User.id, user=User.name, role=Membership.role, since=Membership.since)


@router.get("/members", tags=["access"])
def list_members(
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    kind: wire.UserKind | None = None,
    role: Role | None = None,
    sort: Annotated[wire.MemberSort, Query(description=REVERSED)] = "user",
) -> Page[wire.Member]:
    """Who may act for the account."""
    query = select(Membership, User).join(User, User.id == Membership.user_id)
    query = query.where(Membership.account_id == caller.account_id)
    if kind is not None:
        query = query.where(User.kind == kind)
    if role is not None:
        query = query.where(Membership.role == role)
    with reads.session() as session:
        rows, following, total = paging.in_order(session, query, _MEMBERS, sort)
        return Page(items=[_member(row[0], row[1]) for row in rows], next=following, total=total)


def _member(row: Membership, user: User, invitation: str | None = None) -> wire.Member:
    accepted = row.accepted_at is not None
    return wire.Member(
        user=user.name, kind=user.kind, role=row.role, since=row.since, accepted=accepted, invitation=invitation
    )


def _locked(session: Session, caller: Principal) -> None:
    """Changes to the members of an account are made one after another, and by who still may.

    Of two stewards that remove each other at once, the second is none any more.
    """
    session.scalar(select(Account.id).where(Account.id == caller.account_id).with_for_update(**CHANGE))
    row = session.get(Membership, (caller.account_id, caller.user_id))
    if row is None or "manage" not in verbs_of(Role(row.role)):
        raise Forbidden(f"{caller.actor} is no steward of {caller.account} any more.")


@router.post("/members", status_code=201, tags=["access"])
def add_member(body: wire.MemberRequest, caller: Manager, service: ServiceOf) -> wire.Member:
    """Add a robot, or a person: with an invitation if it is new here; else the membership counts once it is accepted."""
    with service.database.sessions.begin() as session:
        _locked(session, caller)
        known = session.scalar(select(User).where(User.name == body.user))
        if known is not None and session.get(Membership, (caller.account_id, known.id)) is not None:
            raise Refused(
                f"{known.name} is a member already, or was asked to be one.",
                advice="Change the role instead.",
                code="exists",
            )
        if (
            known is not None
            and known.kind == "robot"
            and session.get(Membership, (caller.account_id, known.id)) is None
        ):
            raise Refused(f"The name {body.user} is taken.", advice="Take another one.", code="exists")
        if known is not None and (not _has_joined(known) or _is_invited(session, known)):
            # Whoever invited this person could still choose the password, and would act for this account too.
            raise Refused(
                f"{body.user} has an open invitation.",
                advice="Add the person once the invitation is used, or take another name.",
                code="not-joined",
            )
        user = make_user(session, body.user, "robot" if body.robot else "person")
        # Nobody who is here becomes a member of another account unasked; who is new accepts with the invitation.
        accepted = utcnow() if known is None else None
        row = Membership(account_id=caller.account_id, user_id=user.id, role=body.role, accepted_at=accepted)
        session.add(row)
        session.flush()
        code = invite(session, user) if known is None and user.kind == "person" else None
        audit.record(
            session,
            caller.account_id,
            caller.actor,
            "member.added",
            user.name,
            after={"role": body.role, "kind": user.kind},
        )
        return _member(row, user, code)


def _has_joined(user: User) -> bool:
    return user.kind == "robot" or user.password is not None or user.subject is not None


def _is_invited(session: Session, user: User) -> bool:
    session.refresh(user, with_for_update=CHANGE)
    query = select(Invitation.digest).where(Invitation.user_id == user.id, Invitation.expires_at > utcnow())
    return session.scalar(query) is not None


def _find_member(session: Session, caller: Principal, name: str) -> tuple[Membership, User]:
    found = session.execute(
        select(Membership, User)
        .join(User, User.id == Membership.user_id)
        .where(Membership.account_id == caller.account_id, User.name == name)
    ).one_or_none()
    if found is None:
        raise NotFound(f"{caller.account} has no member {name!r}.", advice="`bathotype members list` shows them.")
    return found[0], found[1]


def keep_a_steward(session: Session, account: str, row: Membership) -> None:
    """Raises `Refused` unless an account has another steward than this one: who has not joined yet may never do so."""
    others = session.scalar(
        select(func.count())
        .select_from(Membership)
        .join(User, User.id == Membership.user_id)
        .where(
            Membership.account_id == row.account_id,
            Membership.user_id != row.user_id,
            Membership.role == Role.STEWARD,
            Membership.accepted_at.is_not(None),
            or_(User.kind == "robot", User.password.is_not(None), User.subject.is_not(None)),
        )
    )
    if row.role == Role.STEWARD and row.accepted_at is not None and not others:
        raise Refused(
            f"{account} would be left without a steward.", advice="Make another one first.", code="last-steward"
        )


@router.get("/members/{user}", tags=["access"])
def show_member(user: str, caller: Reader, reads: ReadsOf) -> wire.Member:
    """One member."""
    with reads.session() as session:
        return _member(*_find_member(session, caller, user))


@router.put("/members/{user}", tags=["access"])
def change_role(
    user: str, body: wire.RoleRequest, caller: Manager, service: ServiceOf, conditions: Conditional
) -> wire.Member:
    """Change a member's role."""
    with service.database.sessions.begin() as session:
        _locked(session, caller)
        row, who = _find_member(session, caller, user)
        conditions.check(f"The membership of {user}", _member(row, who))
        if body.role != Role.STEWARD:
            keep_a_steward(session, caller.account, row)
        before, row.role = row.role, body.role
        audit.record(
            session,
            caller.account_id,
            caller.actor,
            "member.changed",
            user,
            before={"role": before},
            after={"role": body.role},
        )
        return _member(row, who)


@router.delete("/members/{user}", status_code=204, tags=["access"])
def remove_member(user: str, caller: Manager, service: ServiceOf) -> None:
    """End a membership: the next call of this user for the account is refused.

    With its last one a robot ends, and a person that never joined: the name is free, tokens and invitation are gone.
    """
    with service.database.sessions.begin() as session:
        _locked(session, caller)
        row, who = _find_member(session, caller, user)
        keep_a_steward(session, caller.account, row)
        session.delete(row)
        session.flush()
        if who.kind == "robot" or not _has_joined(who):
            elsewhere = select(Membership.account_id).where(Membership.user_id == who.id)
            session.execute(delete(User).where(User.id == who.id, ~elsewhere.exists()))
        audit.record(session, caller.account_id, caller.actor, "member.removed", user, before={"role": row.role})


@router.post("/members/{user}/invitation", tags=["access"])
def invite_again(user: str, caller: Manager, person: Signed, service: ServiceOf) -> wire.Member:
    """A new invitation for a person that has not used its first one, or does not know the password any more.

    Whoever has a password in an account that you do not manage keeps it: no steward may take over what a person may do in
    another account.
    """
    with service.database.sessions.begin() as session:
        _locked(session, caller)
        row, who = _find_member(session, caller, user)
        if who.kind == "robot":
            raise Refused(f"{user} is a robot: it has tokens, and no password.", code="state-forbids")
        session.refresh(who, with_for_update=CHANGE)  # of its memberships none may be accepted meanwhile
        if who.password is not None:
            if row.accepted_at is None:
                raise Refused(f"{user} has not accepted the membership yet.", code="state-forbids")
            _need_all_accounts(session, person, who)
        elif who.subject is not None:
            raise Refused(f"{user} signs in by your organisation's log-in, without a password.", code="state-forbids")
        audit.record(session, caller.account_id, caller.actor, "member.invited", user)
        return _member(row, who, invite(session, who))


def _need_all_accounts(session: Session, person: Person, who: User) -> None:
    """Raises `Refused` unless the person manages every account that somebody is a member of, or is asked to be: with a new
    password, the offer could be accepted too."""
    managed = [s.account_id for s in person.standings if Verb.MANAGE in verbs_of(s.role, person.verbs)]
    elsewhere = session.scalar(
        select(func.count()).where(Membership.user_id == who.id, Membership.account_id.not_in(managed))
    )
    if elsewhere:
        raise Refused(
            f"{who.name} has a password, and is in accounts that you do not manage: only who knows it can change it.",
            advice=f"{who.name} runs `bathotype auth password`.",
            code="state-forbids",
        )
