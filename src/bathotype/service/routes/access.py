"""Log-in, tokens, members and keys."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request, Response
from fastapi.responses import RedirectResponse
from sqlalchemy import delete, func, or_, select
from sqlalchemy.orm import Session

from bathotype.core.access.roles import Role, Verb, covered, verbs_of
from bathotype.core.errors import Forbidden, Invalid, NotFound, Refused, Unavailable
from bathotype.service import audit
from bathotype.service.access.principals import (
    SESSION_COOKIE,
    Person,
    Principal,
    add_token,
    csrf_of,
    make_user,
    person_named,
    revoke,
    withdraw,
)
from bathotype.service.access.signin import (
    SESSION_LASTS,
    accept_invitation,
    hash_password,
    invite,
    log_in,
    open_session,
)
from bathotype.service.records import Account, AccountKey, ApiToken, ConsoleSession, Invitation, Membership, User
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.routes.callers import Manager, Reader, ReadsOf, ServiceOf, Signed
from bathotype.service.routes.conditions import Conditional
from bathotype.service.routes.paging import REVERSED, Ordering, Paged
from bathotype.service.routes.route import api_router
from bathotype.service.signatures import KeyRing
from bathotype.service.state import Service
from bathotype.wire import access as wire
from bathotype.wire.common import Page

router = api_router()
_STATE_COOKIE = "bathotype_log_in"
_CALLBACK = "/api/v1/session/oidc/callback"


def who(person: Person, csrf: str | None = None) -> wire.WhoAmI:
    """Who somebody is, and what it may."""
    held = [
        wire.Standing(account=s.account, role=s.role, verbs=sorted(verbs_of(s.role, person.verbs)))
        for s in person.standings
    ]
    return wire.WhoAmI(user=person.name, kind=person.kind, accounts=held, csrf=csrf)


# Sessions


def _begin_session(service: Service, session: Session, user: User, answer: Response) -> wire.WhoAmI:
    cookie, csrf = open_session(session, user)
    answer.set_cookie(
        SESSION_COOKIE,
        cookie,
        max_age=int(SESSION_LASTS.total_seconds()),
        httponly=True,
        samesite="strict",
        secure=service.settings.public_url.startswith("https:"),
        path="/",
    )
    return who(person_named(session, user), csrf)


@router.get("/session/ways", tags=["access"])
def ways(service: ServiceOf) -> wire.LogInWays:
    """How one can log in here.  Needs no token."""
    return wire.LogInWays(oidc="/api/v1/session/oidc" if service.oidc else None)


@router.post("/session", tags=["access"])
def start_session(body: wire.LogIn, request: Request, service: ServiceOf, answer: Response) -> wire.WhoAmI:
    """Log in with a password.  The session lies in a cookie; changes need its CSRF token as ``X-CSRF-Token``."""
    user = log_in(service.database, body.user, body.password, request.state.origin)
    with service.database.sessions.begin() as session:
        return _begin_session(service, session, session.get_one(User, user.id), answer)


@router.get("/session", tags=["access"])
def who_am_i(person: Signed, request: Request) -> wire.WhoAmI:
    """Who is signed in, by token or session, and what it may.  A session is given its CSRF token again."""
    return who(person, csrf_of(request.cookies[SESSION_COOKIE]) if person.session_digest else None)


@router.delete("/session", status_code=204, tags=["access"])
def end_session(person: Signed, service: ServiceOf, answer: Response) -> None:
    """Log out."""
    with service.database.sessions.begin() as session:
        if person.session_digest and (row := session.get(ConsoleSession, person.session_digest)):
            session.delete(row)
    answer.delete_cookie(SESSION_COOKIE, path="/")


def _callback(service: Service) -> str:
    """Where the provider sends the browser back to: what a request calls this host may be anybody's word."""
    if not service.settings.public_url:
        raise Unavailable(
            "The service does not know its own address.", advice="Set BATHOTYPE_PUBLIC_URL for log-ins by a provider."
        )
    return service.settings.public_url.rstrip("/") + _CALLBACK


@router.get("/session/oidc", tags=["access"], status_code=307, response_class=RedirectResponse)
def start_oidc(service: ServiceOf) -> RedirectResponse:
    """Begin a log-in by the OpenID Connect provider."""
    if service.oidc is None:
        raise NotFound("No OpenID Connect provider is configured here.", advice="Sign in with a password.")
    with service.database.sessions.begin() as session:
        address, state = service.oidc.begin(session, _callback(service))
    answer = RedirectResponse(address, 307)
    _keep_state(service, answer, state)
    return answer


@router.post("/session/oidc", tags=["access"])
def join_by_oidc(body: wire.OidcStart, service: ServiceOf, answer: Response) -> wire.OidcAddress:
    """Begin a log-in by the provider with an invitation: who comes back is the person who was invited."""
    if service.oidc is None:
        raise NotFound("No OpenID Connect provider is configured here.", advice="Choose a password.")
    with service.database.sessions.begin() as session:
        address, state = service.oidc.begin(session, _callback(service), body.invitation)
    _keep_state(service, answer, state)
    return wire.OidcAddress(address=address)


def _keep_state(service: Service, answer: Response, state: str) -> None:
    secure = service.settings.public_url.startswith("https:")
    answer.set_cookie(_STATE_COOKIE, state, max_age=600, httponly=True, samesite="lax", secure=secure, path=_CALLBACK)


@router.get("/session/oidc/callback", tags=["access"], status_code=303, response_class=RedirectResponse)
def finish_oidc(
    request: Request,
    service: ServiceOf,
    state: Annotated[str, Query(max_length=500)] = "",
    code: Annotated[str, Query(max_length=4000)] = "",
) -> RedirectResponse:
    """Where the provider sends the browser back to."""
    if service.oidc is None:
        raise NotFound("No OpenID Connect provider is configured here.", advice="Sign in with a password.")
    answer = RedirectResponse("/", 303)
    with service.database.sessions.begin() as session:  # of its own: a state is good once, whatever comes of it
        attempt = service.oidc.take(session, state=state, cookie=request.cookies.get(_STATE_COOKIE, ""))
    with service.database.sessions.begin() as session:
        user = service.oidc.finish(session, _callback(service), attempt=attempt, code=code)
        _begin_session(service, session, user, answer)
    answer.delete_cookie(_STATE_COOKIE, path=_CALLBACK)
    return answer


@router.post("/invitations/acceptance", tags=["access"])
def accept_an_invitation(body: wire.InvitationAcceptance, service: ServiceOf) -> wire.WhoAmI:
    """Choose a password with the code of an invitation.  Needs no token."""
    hashed = hash_password(body.password)  # a bad one is refused before the code is used up
    with service.database.sessions.begin() as session:
        user = accept_invitation(session, body.code, hashed)
        return who(person_named(session, user))


# Tokens


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


# Members


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


# Keys


def _keys(session: Session, account: Account) -> list[wire.PublicKey]:
    rows = session.scalars(
        select(AccountKey).where(AccountKey.account_id == account.id).order_by(AccountKey.created_at.desc())
    )
    return [
        wire.PublicKey(
            id=r.id, account=account.name, public=r.public, state=r.state,
            created_at=r.created_at, ended_at=r.ended_at,
        )
        for r in rows
    ]  # fmt: skip


@router.get("/accounts/{account}/keys", tags=["access"])
def list_keys(account: str, person: Signed, reads: ReadsOf) -> list[wire.PublicKey]:
    """The public keys with which an account signs its versions.  Public for everybody who is signed in here."""
    with reads.session() as session:
        row = session.scalar(select(Account).where(Account.name == account))
        return _keys(session, row) if row is not None else []


@router.post("/keys/rotation", tags=["access"])
def rotate_key(caller: Manager, service: ServiceOf) -> list[wire.PublicKey]:
    """Sign with a new key from now on; what the old one signed still counts."""
    with service.database.sessions.begin() as session:
        made = KeyRing(service.settings).rotate(session, caller.account_id)
        audit.record(session, caller.account_id, caller.actor, "key.rotated", made)
        return _keys(session, session.get_one(Account, caller.account_id))


@router.post("/keys/{key}/distrust", tags=["access"])
def distrust_key(key: str, caller: Manager, service: ServiceOf) -> list[wire.PublicKey]:
    """Let nothing count that a key has signed, after it was lost."""
    with service.database.sessions.begin() as session:
        KeyRing.distrust(session, caller.account_id, key)
        audit.record(session, caller.account_id, caller.actor, "key.distrusted", key)
        return _keys(session, session.get_one(Account, caller.account_id))
