"""Sign-in: sessions of the console, OpenID Connect, and the password that an invitation asks for."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request, Response
from fastapi.responses import RedirectResponse
from sqlalchemy.orm import Session

from bathotype.core.access.roles import verbs_of
from bathotype.core.errors import NotFound, Unavailable
from bathotype.service.access.principals import (
    SESSION_COOKIE,
    Person,
    csrf_of,
    person_named,
)
from bathotype.service.access.signin import (
    SESSION_LASTS,
    accept_invitation,
    hash_password,
    log_in,
    open_session,
)
from bathotype.service.records import ConsoleSession, User
from bathotype.service.routes.callers import ServiceOf, Signed
from bathotype.service.routes.route import api_router
from bathotype.service.state import Service
from bathotype.wire import access as wire

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
