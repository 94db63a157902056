"""What a request may send before it is known whose it is, and the headers that every answer bears.

Plain ASGI: a body is counted while it arrives, and is refused before anything reads it.
"""

from __future__ import annotations

import asyncio
import re
import time

from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from bathotype.service.access.principals import SESSION_COOKIE
from bathotype.service.problems import problem

_KIB, _MIB = 1024, 1024 * 1024
#: Bytes of a body: from who shows nothing, from others (a step of an edit may hold 24 MiB), of one part of a file, and of
#: what says that somebody pushed.
MOST_UNSIGNED, MOST_SIGNED, MOST_PART, MOST_PUSH = 64 * _KIB, 32 * _MIB, 8 * _MIB, 2 * _MIB
_PART = re.compile(r"/api/v1/uploads/[^/]+/parts/[^/]+")
#: Seconds without a byte, and for a whole body; a large one has a second more for each 64 KiB.
_SILENCE, _WHOLE = 20.0, 30.0
#: Where anybody may send something.
_OPEN = ("/api/v1/session", "/api/v1/session/oidc", "/api/v1/invitations/acceptance")
#: What git hosts send, which may show a signature instead of a token.
_PUSH = re.compile(r"/api/v1/pushes/[^/]+")
_HEADERS = {
    b"x-content-type-options": b"nosniff",
    b"referrer-policy": b"no-referrer",
    b"x-frame-options": b"DENY",
    b"content-security-policy": b"default-src 'none'; frame-ancestors 'none'",
    b"cache-control": b"no-store",
}


class Limited:
    """Refuses what is too large, too slow, or holds zeros; puts the headers on."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        headers = dict(scope["headers"])
        carries = headers.get(b"content-length", b"0") != b"0" or b"transfer-encoding" in headers
        signed = b"authorization" in headers or SESSION_COOKIE.encode() in headers.get(b"cookie", b"")
        most = MOST_PART if _PART.fullmatch(scope["path"]) else MOST_SIGNED if signed else MOST_UNSIGNED
        most = MOST_PUSH if _PUSH.fullmatch(scope["path"]) else most
        refused = _refusal(scope, headers, most, signed=signed or not carries)
        app = self._app if refused is None else refused
        await app(scope, _counted(scope, receive, most) if carries else receive, _sending(scope, send))


def _refusal(scope: Scope, headers: dict[bytes, bytes], most: int, *, signed: bool) -> Response | None:
    """What a request is answered of which nothing more is read; None for one that may come in."""
    request, path, told = Request(scope), scope["path"], headers.get(b"content-length", b"0")
    if "\0" in path or b"%00" in scope.get("query_string", b""):
        return problem(request, 422, "Not valid", "The address holds a NUL character.", "invalid")
    if not signed and path not in _OPEN and not _PUSH.fullmatch(path) and path.startswith("/api/"):
        advice = "Send `Authorization: Bearer TOKEN`."
        return problem(request, 401, "Not signed in", "This call needs a token.", "not-signed-in", advice)
    if not told.isdigit() or len(told) > 15 or int(told) > most:
        return problem(request, 413, "Too large", _too_large(most), "too-large", "Send less at once.")
    return None


def _sending(scope: Scope, send: Send) -> Send:
    secure = scope["app"].state.service.settings.public_url.startswith("https:")
    # The console's files say themselves what they may do: a policy on its worker would be the worker's.
    ours = _HEADERS if scope["path"].startswith("/api/") else {}

    async def sending(message: Message) -> None:
        if message["type"] == "http.response.start":
            there = {name.lower() for name, _ in message["headers"]}
            more = [(name, value) for name, value in ours.items() if name not in there]
            if secure:
                more.append((b"strict-transport-security", b"max-age=31536000"))
            message["headers"] = [*message["headers"], *more]
        await send(message)

    return sending


def _too_large(most: int) -> str:
    return f"A request here has at most {most} bytes."


def _counted(scope: Scope, receive: Receive, most: int) -> Receive:
    """The body as it comes, as long as it is neither too large nor too slow."""
    taken, begun, whole = 0, time.monotonic(), False
    is_json = any(name == b"content-type" and b"json" in value for name, value in scope["headers"])

    async def counted() -> Message:
        nonlocal taken, whole
        if whole:  # what comes now is that the caller has gone
            return await receive()
        try:
            message = await asyncio.wait_for(receive(), _SILENCE)
        except TimeoutError:
            raise HTTPException(408, "The request came too slowly.") from None
        if message["type"] == "http.request":
            piece = message.get("body", b"")
            taken += len(piece)
            whole = not message.get("more_body")
            if taken > most:
                raise HTTPException(413, _too_large(most))
            if message.get("more_body") and time.monotonic() - begun > _WHOLE + taken / (64 * _KIB):
                raise HTTPException(408, "The request came too slowly.")
            if is_json and (b"\0" in piece or b"\\u0000" in piece):
                raise HTTPException(422, "A value of this request holds a NUL character.")
        return message

    return counted
