"""What git hosts call after a push."""

from __future__ import annotations

import time

from fastapi import Request, Response
from starlette.concurrency import run_in_threadpool

from bathotype.core.errors import NotFound
from bathotype.core.messages import signature
from bathotype.service.records import Repository
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.routes.callers import ServiceOf
from bathotype.service.routes.route import api_router
from bathotype.service.state import Service

router = api_router("/pushes", tags=["builds"])


@router.post(
    "/{repository}",
    status_code=204,
    openapi_extra={"requestBody": {"content": {"application/json": {}}}},
)
async def pushed(repository: str, request: Request, service: ServiceOf) -> Response:
    """Say that somebody pushed to a repository: it is looked at now.  What the body says is not read.

    It is signed with the repository's key, as Standard Webhooks has it (`webhook-signature`) or as W3C WebSub
    (`X-Hub-Signature` or `X-Hub-Signature-256`: `sha256=HEX`), or bears the key as its token (RFC 6750).
    """
    body = await request.body()
    await run_in_threadpool(_look, service, repository, dict(request.headers), body)
    return Response(status_code=204)


def _look(service: Service, repository: str, headers: dict[str, str], body: bytes) -> None:
    with service.database.reads() as session:
        row = session.get(Repository, repository)
        key = service.settings.box.decrypt(row.sealed.encode()).decode() if row is not None else ""
    if not key or not signature.shown(key, headers, body, int(time.time())):
        raise NotFound(
            "There is no such repository, or the push is signed with another key.",
            advice="Sign with the repository's key.",
        )
    with service.database.sessions.begin() as session:
        row = session.get(Repository, repository, with_for_update=CHANGE)
        if row is not None:
            row.next_at = utcnow()
