"""Errors over HTTP: RFC 9457 problem details with a stable code, and nothing of our insides."""

from __future__ import annotations

import uuid
from typing import Any

import structlog
from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from sqlalchemy.exc import DBAPIError, OperationalError
from starlette.exceptions import HTTPException

from bathotype.core.errors import BathotypeError, Damaged, Invalid, NotFound, OutOfSpace, Refused, Unavailable
from bathotype.service import audit
from bathotype.service.auth import NotSignedIn

log = structlog.get_logger()
_STATUS: tuple[tuple[type[BathotypeError], int, str], ...] = (
    (NotSignedIn, 401, "Not signed in"),
    (Invalid, 422, "Not valid"),
    (NotFound, 404, "Not found"),
    (Refused, 409, "Refused"),
    (OutOfSpace, 507, "Out of space"),
    (Unavailable, 503, "Unavailable"),
    (Damaged, 500, "Damaged"),
    (BathotypeError, 500, "Failed"),
)


def problem(request: Request, status: int, title: str, detail: str, code: str, advice: str = "") -> JSONResponse:
    """One problem document."""
    body = {
        "type": "about:blank",
        "title": title,
        "status": status,
        "detail": detail,
        "code": code,
        "advice": advice,
        "request_id": getattr(request.state, "request_id", ""),
    }
    headers = {"WWW-Authenticate": "Bearer"} if status == 401 else None
    return JSONResponse(body, status, headers, media_type="application/problem+json")


def install(app: FastAPI) -> None:
    """Make every error of the application a problem document."""

    @app.exception_handler(BathotypeError)
    async def ours(request: Request, error: BathotypeError) -> JSONResponse:
        status, title = next((s, t) for kind, s, t in _STATUS if isinstance(error, kind))
        return problem(request, status, title, error.message, error.code, error.advice)

    @app.exception_handler(RequestValidationError)
    async def invalid(request: Request, error: RequestValidationError) -> JSONResponse:
        faults = "; ".join(
            f"{'.'.join(str(p) for p in e['loc'][1:]) or e['loc'][0]}: {e['msg']}" for e in error.errors()[:5]
        )
        return problem(request, 422, "Not valid", f"The request is not valid: {faults}.", "invalid")

    @app.exception_handler(HTTPException)
    async def plain(request: Request, error: HTTPException) -> JSONResponse:
        codes = {404: "not-found", 405: "method-not-allowed"}
        return problem(
            request, error.status_code, str(error.detail), str(error.detail), codes.get(error.status_code, "http")
        )

    @app.exception_handler(OperationalError)
    async def database(request: Request, error: DBAPIError) -> JSONResponse:
        log.warning("database unavailable", error=str(error)[:300])
        return problem(
            request,
            503,
            "Unavailable",
            "The database does not answer just now.",
            "unavailable",
            "Try again in a moment.",
        )

    @app.middleware("http")
    async def identify(request: Request, call_next: Any) -> Any:
        request.state.request_id = request.headers.get("X-Request-Id", "")[:64] or uuid.uuid4().hex[:16]
        structlog.contextvars.bind_contextvars(request_id=request.state.request_id)
        audit.origin.set(request.client.host if request.client else "")
        try:
            answer = await call_next(request)
        except Exception:
            log.exception("request broke", path=request.url.path)
            answer = problem(
                request,
                500,
                "Failed",
                "Something went wrong inside the service.",
                "internal",
                "The service's log has more under this request's id.",
            )
        finally:
            structlog.contextvars.unbind_contextvars("request_id")
        answer.headers["X-Request-Id"] = request.state.request_id
        return answer
