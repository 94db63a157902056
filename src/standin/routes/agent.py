"""The way to a machine's guest agent: its bytes over a WebSocket."""

from __future__ import annotations

import json
import time
from typing import Any

from fastapi import APIRouter, WebSocket, WebSocketDisconnect
from starlette.concurrency import run_in_threadpool

from standin.faults import take
from standin.guest import AgentError
from standin.records import Machine
from standin.site import Site
from standin.world import Account

router = APIRouter()


@router.websocket("/v1/machines/{machine_id}/agent")
async def agent(socket: WebSocket, machine_id: str) -> None:
    """A machine's guest agent, line by line."""
    state = socket.app.state
    account = state.tenancy.account_of(socket.headers.get("authorization", "").removeprefix("Bearer "))
    known = account is not None and await run_in_threadpool(_owns, state.site, account, machine_id)
    if not known:
        await socket.close(4404)
        return
    await socket.accept()
    buffer = b""
    try:
        while True:
            buffer += await socket.receive_bytes()
            buffer = buffer.rpartition(b"\xff")[2]
            *lines, buffer = buffer.split(b"\n")
            for line in lines:
                answer = await run_in_threadpool(_answer, state.site, state.silent_until, machine_id, line)
                if answer is not None:
                    await socket.send_bytes(answer)
    except WebSocketDisconnect:
        return


def _owns(site: Site, account: Account, machine_id: str) -> bool:
    with site.sessions() as session:
        machine = session.get(Machine, machine_id)
        return machine is not None and machine.account == account.name


def _answer(site: Site, silent_until: dict[str, float], machine_id: str, line: bytes) -> bytes | None:
    """One line of the agent protocol; None where the agent does not answer."""
    guest, body = site.guest(machine_id), site.body(machine_id)
    with site.sessions.begin() as session:
        silent = take(session, ("agent-silent",), machine_id)
        dies = take(session, ("agent-dies-frozen",), machine_id)
    if (guest is None and body is None) or silent or silent_until.get(machine_id, 0) > time.monotonic():
        return None
    try:
        request = json.loads(line)
        name = request.get("execute", "")
    except (ValueError, AttributeError):
        return json.dumps({"error": {"class": "GenericError", "desc": "Parse error"}}).encode() + b"\n"
    answer = body.agent.ask(line) if body is not None else _modelled(guest, request, name)
    if dies and name == "guest-fsfreeze-freeze":
        silent_until[machine_id] = time.monotonic() + dies.seconds
    return answer


def _modelled(guest: Any, request: dict[str, Any], name: str) -> bytes:
    try:
        result: dict[str, Any] = {"return": guest.handle(request)}
    except AgentError as error:
        result = {"error": {"class": error.error_class, "desc": str(error)}}
    sentinel = b"\xff" if name == "guest-sync-delimited" else b""
    return sentinel + json.dumps(result).encode() + b"\n"
