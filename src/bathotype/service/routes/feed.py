"""The live feed of an account: what is different, as server-sent events (WHATWG HTML, section 9.2)."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator
from typing import Annotated, Any

from fastapi import Depends, Header, Query, Request
from sqlalchemy import select
from sse_starlette import EventSourceResponse
from starlette.concurrency import run_in_threadpool

from bathotype.core.access.roles import Verb
from bathotype.core.errors import BathotypeError
from bathotype.service.access.principals import Principal
from bathotype.service.answers.operations import operation_answers
from bathotype.service.changes import Change
from bathotype.service.database import Reads
from bathotype.service.records import Event, Operation
from bathotype.service.routes.callers import CallerWith, ServiceOf
from bathotype.service.routes.route import api_router
from bathotype.service.state import Service

router = api_router(tags=["feed"])
_READER = CallerWith(Verb.READ, account_query="account")
#: Seconds after which a quiet feed says that it is there, and looks whether its reader may still read.
_HEARTBEAT = 10.0
_MOST_REPLAYED = 200
_MOST_NUMBER = 1 << 63
#: Seconds for which changes are gathered: a launch of hundreds takes a few messages.
_GATHERED = 0.2


@router.get("/feed", response_class=EventSourceResponse, responses={200: {"content": {"text/event-stream": {}}}})
async def feed(
    caller: Annotated[Principal, Depends(_READER)],
    service: ServiceOf,
    request: Request,
    last: Annotated[str, Header(alias="Last-Event-ID", max_length=40)] = "",
    account: Annotated[
        str, Query(max_length=63, description="Instead of the header, which a browser cannot send.")
    ] = "",
) -> EventSourceResponse:
    """What changes in the account, as it happens.

    ``event`` carries one event of the audit trail, under its number as the id of the message: a reader that comes back
    with ``Last-Event-ID`` is sent what it missed.  ``operation`` carries an operation whose progress changed.
    ``changed`` names an instance, replica or share that is different.  ``everything`` says to look at all of it again.
    ``beat`` says that the feed is there.  ``ended`` says that the reader may not read any more."""

    async def stream() -> AsyncIterator[dict[str, Any]]:
        async with service.changes.listener(caller.account_id) as listener:
            seen = await run_in_threadpool(_newest, service, caller.account_id)
            if last.isdecimal() and int(last) < _MOST_NUMBER:
                missed = await run_in_threadpool(_since, service, caller.account_id, int(last))
                for message in missed if missed is not None else [{"event": "everything", "data": "{}"}]:
                    yield message
            yield {"event": "beat", "id": str(seen), "data": "{}"}
            while not await request.is_disconnected():
                changes = await listener.next(_HEARTBEAT)
                if changes:
                    await asyncio.sleep(_GATHERED)
                    changes = list(dict.fromkeys([*changes, *await listener.next(0.001)]))
                if not await run_in_threadpool(_may_read, request):
                    yield {"event": "ended", "data": "{}"}
                    return
                if not changes:
                    yield {"event": "beat", "data": "{}"}
                for message in await run_in_threadpool(_messages, service, changes):
                    yield message

    return EventSourceResponse(stream())


def _may_read(request: Request) -> bool:
    reads = Reads(request.app.state.service.database)
    try:
        _READER.again(request, reads)
    except BathotypeError:
        return False
    finally:
        reads.release()
    return True


def _newest(service: Service, account_id: str) -> int:
    with service.database.reads() as session:
        query = select(Event.id).where(Event.account_id == account_id).order_by(Event.id.desc()).limit(1)
        return session.scalar(query) or 0


def _event(row: Event) -> dict[str, Any]:
    body = {"action": row.action, "subject": row.subject, "actor": row.actor}
    return {"event": "event", "id": str(row.id), "data": json.dumps(body)}


def _since(service: Service, account_id: str, last: int) -> list[dict[str, Any]] | None:
    """Events after one, oldest first; None where there are too many to replay."""
    with service.database.reads() as session:
        query = select(Event).where(Event.account_id == account_id, Event.id > last).order_by(Event.id)
        rows = session.scalars(query.limit(_MOST_REPLAYED + 1)).all()
        return [_event(row) for row in rows] if len(rows) <= _MOST_REPLAYED else None


def _messages(service: Service, changes: list[Change]) -> list[dict[str, Any]]:
    """Changes as messages; events and operations with what is known of them."""
    ids: dict[str, list[str]] = {}
    for change in changes:
        ids.setdefault(change.what, []).append(change.id)
    out: list[dict[str, Any]] = []
    with service.database.reads() as session:
        if found := ids.pop("event", None):
            numbers = [int(number) for number in found]
            out += [
                _event(row) for row in session.scalars(select(Event).where(Event.id.in_(numbers)).order_by(Event.id))
            ]
        if found := ids.pop("operation", None):
            rows = session.scalars(select(Operation).where(Operation.id.in_(found)).order_by(Operation.id)).all()
            for answer in operation_answers(session, rows):
                out.append({"event": "operation", "data": answer.model_dump_json()})
    for what, keys in ids.items():
        if what == "everything":
            out.append({"event": "everything", "data": "{}"})
        else:
            out += [{"event": "changed", "data": json.dumps({"what": what, "id": key})} for key in keys[:50]]
    return out
