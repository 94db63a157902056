"""The page on which the API can be read and tried: the OpenAPI document in Swagger UI, built in with the console."""

from __future__ import annotations

from fastapi import FastAPI
from fastapi.responses import HTMLResponse

_PAGE = """<!doctype html><html lang="en"><meta charset="utf-8"><title>Bathotype API</title>
<meta name="viewport" content="width=device-width, initial-scale=1">
<link rel="icon" href="/favicon.svg"><link rel="stylesheet" href="/api-page/swagger-ui.css">
<div id="api"></div>
<script src="/api-page/swagger-ui-bundle.js"></script><script src="/api-page/start.js"></script></html>"""
#: The library writes style attributes and pictures as data; nothing comes from elsewhere, and no script is inline.
_POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; connect-src 'self'; "
    "font-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
)


def install(app: FastAPI) -> None:
    """Serve the page at ``/api/docs``; what it calls needs a session or a token, as ever."""

    @app.get("/api/docs", response_class=HTMLResponse, include_in_schema=False)
    def page() -> HTMLResponse:
        return HTMLResponse(_PAGE, headers={"Content-Security-Policy": _POLICY, "Cache-Control": "no-cache"})
