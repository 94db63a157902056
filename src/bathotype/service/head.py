"""HEAD for everything that can be read with GET (RFC 9110, section 9.3.2)."""

from __future__ import annotations

import asyncio

from starlette.types import ASGIApp, Message, Receive, Scope, Send


class WithHead:
    """Answers HEAD with the status and headers that GET has; the rest of the answer is not made."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http" or scope["method"] != "HEAD":
            await self._app(scope, receive, send)
            return
        sent = False

        async def only_head(message: Message) -> None:
            nonlocal sent
            if message["type"] == "http.response.start":
                await send(message)
                await send({"type": "http.response.body"})
                sent = True
                answering.cancel()  # a stream of events would never end, a disk would be read for nobody

        answering = asyncio.ensure_future(self._app({**scope, "method": "GET"}, receive, only_head))
        try:
            await answering
        except asyncio.CancelledError:
            if not sent:
                raise
