"""Errors over HTTP: RFC 9457 problem details with a stable code, and nothing of our insides."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from contextvars import ContextVar
from dataclasses import replace
from urllib.parse import quote

import structlog
from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from psycopg.errors import ForeignKeyViolation, UniqueViolation
from pydantic_core import PydanticSerializationError
from sqlalchemy.exc import DataError, DBAPIError, OperationalError
from starlette.exceptions import HTTPException
from starlette.routing import Match, Route
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from bathotype.core.errors import BathotypeError
from bathotype.core.faults import Fault, faults_in, place_of
from bathotype.service import audit

log = structlog.get_logger()
#: Title and code of the errors that the framework raises by itself.
_PLAIN = {
    400: ("Not valid", "invalid"),
    404: ("Not found", "not-found"),
    405: ("Not possible", "method-not-allowed"),
    408: ("Too slow", "too-slow"),
    413: ("Too large", "too-large"),
    422: ("Not valid", "invalid"),
}
_MOST = 5  # values that are named as not valid in one answer
#: Method and path of the request that is answered.
asked_for: ContextVar[str] = ContextVar("asked_for", default="")


def problem(
    request: Request,
    status: int,
    title: str,
    detail: str,
    code: str,
    advice: str = "",
    about: str = "",
    errors: Sequence[dict[str, str]] = (),
) -> JSONResponse:
    """One problem document."""
    body = {
        "type": "about:blank",
        "title": title,
        "status": status,
        "detail": detail,
        "code": code,
        "advice": advice,
        **({"about": about} if about else {}),
        **({"errors": errors} if errors else {}),
        "request_id": getattr(request.state, "request_id", ""),
    }
    headers = {401: {"WWW-Authenticate": "Bearer"}, 429: {"Retry-After": "2"}}.get(status)
    return JSONResponse(body, status, headers, media_type="application/problem+json")


def install(app: FastAPI) -> None:
    """Make every error of the application a problem document."""

    @app.exception_handler(BathotypeError)
    async def ours(request: Request, error: BathotypeError) -> JSONResponse:
        return problem(request, error.status, error.title, error.message, error.code, error.advice, error.about)

    @app.exception_handler(RequestValidationError)
    async def invalid(request: Request, error: RequestValidationError) -> JSONResponse:
        found = _faults_of_request(error)[:_MOST]
        faults = "; ".join(str(replace(one, place=one.place[1:] or one.place)) for one in found)
        detail, errors = f"The request is not valid: {faults}.", [_where(one) for one in found]
        return problem(request, 422, "Not valid", detail, "invalid", errors=errors)

    @app.exception_handler(HTTPException)
    async def plain(request: Request, error: HTTPException) -> JSONResponse:
        title, code = _PLAIN.get(error.status_code, ("Failed", "http"))
        detail, advice, allowed, path = str(error.detail), "", "", request.url.path[:200]
        if error.status_code == 400:
            detail, advice = "The body of this request cannot be read.", "Send JSON in UTF-8."
        elif error.status_code == 404:
            detail, advice = f"There is nothing at {path}.", "The addresses are in /api/v1/openapi.json."
        elif error.status_code == 405:
            allowed = ", ".join(_methods_at(request))
            detail, advice = f"{request.method} is not possible at {path}.", f"Possible there: {allowed}."
        answer = problem(request, error.status_code, title, detail, code, advice)
        if allowed:
            answer.headers["Allow"] = allowed  # RFC 9110, section 15.5.6
        return answer

    @app.exception_handler(UnicodeError)
    @app.exception_handler(PydanticSerializationError)
    async def half_a_character(request: Request, _: Exception) -> JSONResponse:
        detail = "A text of this request holds what is no Unicode."
        return problem(request, 422, "Not valid", detail, "invalid", "Correct the value, and try again.")

    @app.exception_handler(DBAPIError)
    async def database(request: Request, error: DBAPIError) -> JSONResponse:
        if isinstance(error.orig, UniqueViolation):
            detail = "Another request created one with the same name at the same moment."
            return problem(request, 409, "Refused", detail, "exists", "Look at it, or try again with another name.")
        if isinstance(error.orig, ForeignKeyViolation):
            detail = "Something that this request refers to was removed at the same moment."
            return problem(request, 409, "Refused", detail, "gone", "List what is there now, and try again.")
        if isinstance(error, DataError):
            log.warning("value refused by the database", error=str(error.orig)[:300])
            detail = "A value of this request holds a NUL character, or a number that is too large."
            return problem(request, 422, "Not valid", detail, "invalid", "Correct the value, and try again.")
        if not isinstance(error, OperationalError) and not error.connection_invalidated:
            raise error
        log.warning("database unavailable", error=str(error)[:300])
        detail = "The database does not answer just now."
        return problem(request, 503, "Unavailable", detail, "unavailable", "Try again in a moment.")

    app.add_middleware(Identified)


def _faults_of_request(error: RequestValidationError) -> list[Fault]:
    """What is wrong with the values of a request, each at its place: ``body``, ``query``, ``path`` or ``header``, then where
    it is in the body, or the name of the parameter."""
    errors = error.errors()
    of_body = [one for one in errors if one["loc"][0] == "body" and one["type"] != "json_invalid"]
    found = faults_in(of_body, {"body": error.body})
    # Which of several values of a parameter it is, its own words say.
    named = [(tuple(part for part in one["loc"] if isinstance(part, str)), one) for one in errors]
    found += [Fault(place, (one,)) for place, one in named if place[0] != "body"]
    found += [Fault(("body",), (one,)) for one in errors if one["type"] == "json_invalid"]
    return found


def _where(fault: Fault) -> dict[str, str]:
    """One of a problem's ``errors``, as RFC 9457 (section 3) shows them: a pointer is a fragment (RFC 6901, section 6)."""
    part, *place = fault.place
    if part != "body":
        return {"detail": fault.words, "parameter": place_of(place)}
    steps = [quote(str(step).replace("~", "~0").replace("/", "~1"), safe="~") for step in place]
    return {"detail": fault.words, "pointer": "/".join(["#", *steps])}


def _methods_at(request: Request) -> list[str]:
    """The methods of all routes of an address."""
    found: set[str] = set()
    for route in request.app.routes:
        if isinstance(route, Route) and route.matches(request.scope)[0] != Match.NONE:
            found |= route.methods or set()
    return sorted(found | {"HEAD"} if "GET" in found else found)


class Identified:
    """Gives each request an id for its answer and the log, and answers any exception with a problem document.

    Plain ASGI: a wrapper that reads the answer first would keep every stream of events waiting, and costs a task each.
    """

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        given = next((value for header, value in scope["headers"] if header == b"x-request-id"), b"")
        name = given.decode("latin-1")[:64] or secrets.token_hex(8)
        origin = scope["client"][0] if scope.get("client") else ""
        scope.setdefault("state", {}).update(request_id=name, origin=origin)
        # Each request is a task with a context of its own: none of this needs to be taken back.
        structlog.contextvars.bind_contextvars(request_id=name)
        audit.origin.set(origin)
        asked_for.set(f"{scope['method']} {scope['path']}")
        begun = False

        async def named(message: Message) -> None:
            nonlocal begun
            if message["type"] == "http.response.start":
                begun = True
                message["headers"] = [*message["headers"], (b"x-request-id", name.encode("latin-1"))]
            await send(message)

        try:
            await self._app(scope, receive, named)
        except Exception:
            log.exception("request broke", path=scope["path"])
            if begun:  # half of an answer is out: only cutting it short shows that something is wrong
                raise
            detail = "An error occurred inside the service."
            advice = "The service's log has more under this request's id."
            await problem(Request(scope), 500, "Failed", detail, "internal", advice)(scope, receive, named)
