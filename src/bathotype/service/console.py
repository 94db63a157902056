"""The console: its page, and the files that it is made of, as they were built into the package."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from fastapi import FastAPI, Request
from fastapi.responses import FileResponse, HTMLResponse, Response
from starlette.types import Receive, Scope, Send

_FOLDER = Path(__file__).parent.parent / "console_dist"
_MARK = "__NONCE__"
_FOREVER = "public, max-age=31536000, immutable"
_TYPES = {
    ".js": "text/javascript; charset=utf-8",
    ".css": "text/css; charset=utf-8",
    ".woff2": "font/woff2",
    ".svg": "image/svg+xml",
    ".txt": "text/plain; charset=utf-8",
}
_ENCODINGS = (("br", ".br"), ("gzip", ".gz"))
_HEADERS = {
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
    "X-Frame-Options": "DENY",
    "Cross-Origin-Opener-Policy": "same-origin",
}
_NOT_BUILT = """<!doctype html><html lang="en"><meta charset="utf-8"><title>Bathotype</title>
<h1>Bathotype</h1><p>The service is running. Its console is not built: run <code>make console</code> and start the
service again. The API's document is <a href="/api/v1/openapi.json">here</a>.</p></html>"""


def _policy(nonce: str) -> str:
    """Content Security Policy Level 3: nothing from elsewhere, no inline script, styles by nonce."""
    own = "worker-src 'self'; img-src 'self'; font-src 'self'; connect-src 'self'; manifest-src 'self'"
    return (
        f"default-src 'none'; script-src 'self'; style-src 'self' 'nonce-{nonce}'; {own}; "
        "base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
    )


@dataclass(frozen=True)
class _File:
    """A built file, and the compressed copies of it that lie beside it, by encoding."""

    path: Path
    media_type: str
    smaller: dict[str, Path]


@dataclass(frozen=True)
class _Built:
    """The page, and the other files by the path under which they are asked for; nothing else is ever served."""

    page: str
    files: dict[str, _File]


def _built() -> _Built:
    """What is built now; read again when it was built again."""
    try:
        return _read((_FOLDER / "index.html").stat().st_mtime_ns)
    except FileNotFoundError:
        return _Built("", {})


@lru_cache(maxsize=1)
def _read(_: int) -> _Built:
    files = {}
    for path in _FOLDER.rglob("*"):
        if path.is_file() and path.suffix in _TYPES:
            beside = {name: path.with_name(path.name + suffix) for name, suffix in _ENCODINGS}
            smaller = {name: file for name, file in beside.items() if file.is_file()}
            files[f"/{path.relative_to(_FOLDER)}"] = _File(path, _TYPES[path.suffix], smaller)
    return _Built((_FOLDER / "index.html").read_text(), files)


def install(app: FastAPI) -> None:
    """Serve the console at every path where nothing else is: each of its pages has an address of its own."""
    nothing_here = app.router.default

    async def console(scope: Scope, receive: Receive, send: Send) -> None:
        path = scope["path"] if scope["type"] == "http" else ""
        if not path or path == "/api" or path.startswith("/api/") or scope["method"] not in ("GET", "HEAD"):
            await nothing_here(scope, receive, send)
            return
        await _answer(path, Request(scope))(scope, receive, send)

    app.router.default = console


def _answer(path: str, request: Request) -> Response:
    if file := _built().files.get(path):
        return _sent(file, request)
    if path.startswith("/assets/"):
        return Response("There is no such file.\n", 404, _HEADERS, "text/plain")
    return _shown()


def _sent(file: _File, request: Request) -> Response:
    hashed = file.path.parent.name == "assets"
    headers = {**_HEADERS, "Cache-Control": _FOREVER if hashed else "no-cache", "Vary": "Accept-Encoding"}
    offered = {part.partition(";")[0].strip() for part in request.headers.get("Accept-Encoding", "").split(",")}
    for encoding, smaller in file.smaller.items():
        if encoding in offered:
            return FileResponse(smaller, headers={**headers, "Content-Encoding": encoding}, media_type=file.media_type)
    return FileResponse(file.path, headers=headers, media_type=file.media_type)


def _shown() -> Response:
    nonce = secrets.token_urlsafe(18)
    page = _built().page
    headers = {**_HEADERS, "Cache-Control": "no-store", "Content-Security-Policy": _policy(nonce)}
    return HTMLResponse(page.replace(_MARK, nonce) if page else _NOT_BUILT, headers=headers)
