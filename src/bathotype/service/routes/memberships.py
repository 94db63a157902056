"""What people change of themselves: memberships that are offered, accepted and given up, and the password."""

from __future__ import annotations

from fastapi import Request
from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from bathotype.core.errors import Forbidden, NotFound
from bathotype.service import audit
from bathotype.service.access.principals import Person, person_named
from bathotype.service.access.signin import another_password, set_password
from bathotype.service.records import Account, Invitation, Membership, User
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.routes.callers import ReadsOf, ServiceOf, Signed
from bathotype.service.routes.members import keep_a_steward
from bathotype.service.routes.route import api_router
from bathotype.service.routes.sessions import who
from bathotype.wire import access as wire

router = api_router()


@router.get("/memberships/offered", tags=["access"])
def list_offered_memberships(person: Signed, reads: ReadsOf) -> list[wire.OfferedMembership]:
    """Memberships that stewards offer to you.  Until you accept one, nobody acts with it."""
    with reads.session() as session:
        rows = session.execute(
            select(Membership, Account.name)
            .join(Account, Account.id == Membership.account_id)
            .where(Membership.user_id == person.user_id, Membership.accepted_at.is_(None))
            .order_by(Account.name)
        )
        return [wire.OfferedMembership(account=name, role=row.role, since=row.since) for row, name in rows]


@router.post("/memberships/{account}/acceptance", tags=["access"])
def accept_membership(account: str, person: Signed, service: ServiceOf) -> wire.WhoAmI:
    """Accept a membership that is offered to you."""
    with service.database.sessions.begin() as session:
        row = _own(session, person, account)
        if row.accepted_at is None:
            row.accepted_at = utcnow()
            # A steward of the other accounts may have an invitation with which to choose this person's password.
            session.get_one(User, person.user_id, with_for_update=CHANGE)
            session.execute(delete(Invitation).where(Invitation.user_id == person.user_id))
            audit.record(
                session, row.account_id, person.name, "membership.accepted", person.name, after={"role": row.role}
            )
            session.flush()
        return who(person_named(session, session.get_one(User, person.user_id)))


@router.delete("/memberships/{account}", status_code=204, tags=["access"])
def leave_account(account: str, person: Signed, service: ServiceOf) -> None:
    """Decline a membership that is offered to you, or give up one that you have."""
    with service.database.sessions.begin() as session:
        row = _own(session, person, account)
        session.scalar(select(Account.id).where(Account.id == row.account_id).with_for_update(**CHANGE))
        keep_a_steward(session, account, row)
        what = "membership.declined" if row.accepted_at is None else "membership.ended"
        audit.record(session, row.account_id, person.name, what, person.name, before={"role": row.role})
        session.delete(row)


@router.put("/session/password", status_code=204, tags=["access"])
def change_own_password(body: wire.PasswordChange, person: Signed, request: Request, service: ServiceOf) -> None:
    """Choose another password.  Your other sessions end; your tokens stay good."""
    _need_no_limits(person)
    hashed = another_password(service.database, person, body.old, body.new, request.state.origin)
    with service.database.sessions.begin() as session:
        set_password(session, person, hashed)
        for standing in person.standings:
            audit.record(session, standing.account_id, person.name, "member.password-changed", person.name)


def _need_no_limits(person: Person) -> None:
    if person.accounts is not None or person.verbs is not None:
        raise Forbidden("This token may do less than you may.", advice="Use the console, or a token without limits.")


def _own(session: Session, person: Person, account: str) -> Membership:
    _need_no_limits(person)
    row = session.scalar(
        select(Membership)
        .join(Account, Account.id == Membership.account_id)
        .where(Membership.user_id == person.user_id, Account.name == account)
        .with_for_update(of=Membership)
    )
    if row is None:
        raise NotFound(
            f"You are no member of {account}, nor asked to be.",
            advice="`bathotype auth memberships list` shows offers.",
        )
    return row
