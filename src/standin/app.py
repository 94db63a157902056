"""The stand-in's HTTP API."""

from __future__ import annotations

import asyncio
import json
import secrets
import time
from collections import defaultdict
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from typing import Annotated, Any

from fastapi import Depends, FastAPI, Header, HTTPException, Request, Response, WebSocket, WebSocketDisconnect
from pydantic import BaseModel, Field
from sqlalchemy import delete, select
from starlette.concurrency import run_in_threadpool
from starlette.responses import JSONResponse, PlainTextResponse

from standin.faults import KINDS, take
from standin.guest import AgentError
from standin.qmp import MonitorError
from standin.records import Attachment, Disk, Export, Fault, Machine
from standin.site import Site
from standin.siterules import SiteError
from standin.world import CALLS_PER_SECOND, LARGEST_DISK, REGIONS, SIZES, Account, Tenancy, token_digest

_SUDDEN = {"machine-dies", "machine-lost", "rename", "disk-damage", "disk-lost"}
_PAGE = 100


class NewDisk(BaseModel):
    """A disk to create."""

    region: str
    zone: str = ""
    name: str = ""
    size: int | None = None
    source: str | None = None
    tags: dict[str, str] = {}
    client_key: str | None = None


class NewSnapshot(BaseModel):
    """A snapshot to take; ``checkpoint`` notes changes from now on, ``changes_since`` names an earlier checkpoint."""

    name: str = ""
    checkpoint: bool = False
    changes_since: str | None = None
    tags: dict[str, str] = {}
    client_key: str | None = None


class NewExport(BaseModel):
    """An NBD export to open."""

    writable: bool = False
    client_key: str | None = None


class NewMachine(BaseModel):
    """A machine to create; ``boot_disk`` is an unused disk, or a base disk or snapshot to clone."""

    name: str = Field(pattern=r"^[a-z0-9][a-z0-9-]{0,62}$")
    region: str
    zone: str | None = None
    size: str = "small"
    boot_disk: str
    data_disks: list[str] = []
    tags: dict[str, str] = {}
    client_key: str | None = None


class LabMachine(BaseModel):
    """A real guest to register: ``image`` is a raw disk file on the stand-in's own host, which is not changed."""

    name: str = Field(pattern=r"^[a-z0-9][a-z0-9-]{0,62}$")
    account: str
    region: str
    size: str
    image: str
    on: bool = True


class Power(BaseModel):
    """What to do with a machine's power."""

    action: str = Field(pattern="^(on|off|restart)$")


class NewFault(BaseModel):
    """Something that shall go wrong."""

    kind: str
    target: str = ""
    count: int = 1
    seconds: float = 0.0
    status: int = 500


def caller(request: Request, authorization: Annotated[str, Header()] = "") -> Account:
    """Whose token the call carries; an account that calls too often is told so."""
    account = request.app.state.tenancy.account_of(authorization.removeprefix("Bearer "))
    if account is None:
        raise HTTPException(401, "This token is not known.")
    spent = request.app.state.spent
    window = (account.name, int(time.time()))
    spent[window] += 1
    if spent[window] > CALLS_PER_SECOND:
        raise HTTPException(429, "Too many calls.", {"Retry-After": "1"})
    if len(spent) > 100:
        for old in [w for w in spent if w[1] < window[1] - 5]:
            spent.pop(old, None)
    return account  # type: ignore[no-any-return]


def operator(request: Request, authorization: Annotated[str, Header()] = "") -> None:
    """Only the operator of the stand-in may ask for faults."""
    if token_digest(authorization.removeprefix("Bearer ")) != request.app.state.tenancy.operator_digest:
        raise HTTPException(401, "Only the operator may do this.")


Caller = Annotated[Account, Depends(caller)]


def create_app(site: Site, tenancy: Tenancy, *, latency: float = 0.0) -> FastAPI:
    """The whole API over one site."""

    @asynccontextmanager
    async def lifespan(_: FastAPI) -> AsyncIterator[None]:
        await run_in_threadpool(site.open)
        yield
        await run_in_threadpool(site.close)

    app = FastAPI(title="Stand-in cloud", version="1", lifespan=lifespan)
    app.state.tenancy, app.state.spent = tenancy, defaultdict(int)

    @app.exception_handler(SiteError)
    async def refused(_: Request, error: SiteError) -> JSONResponse:
        return JSONResponse({"code": error.code, "detail": error.text}, error.status)

    @app.exception_handler(MonitorError)
    async def monitor_refused(_: Request, error: MonitorError) -> JSONResponse:
        return JSONResponse({"code": "hypervisor", "detail": f"QEMU refused: {error}"}, 500)

    @app.middleware("http")
    async def mishaps(request: Request, call_next: Any) -> Response:
        if latency:
            await asyncio.sleep(latency)
        if request.url.path.startswith("/v1/") and not request.url.path.startswith("/v1/faults"):
            fault = await run_in_threadpool(_mishap, request.url.path)
            if fault is not None:
                if fault.kind in ("slow", "hang"):
                    await asyncio.sleep(fault.seconds)
                elif fault.kind == "rate-limit":
                    return JSONResponse(
                        {"code": "too-many", "detail": "Too many calls."}, 429, {"Retry-After": str(fault.seconds)}
                    )
                else:
                    return JSONResponse({"code": "internal", "detail": "Something went wrong."}, fault.status)
        answer: Response = await call_next(request)
        return answer

    def _mishap(path: str) -> Fault | None:
        with site.sessions.begin() as session:
            return take(session, ("fail", "rate-limit", "slow", "hang"), path, prefix=True)

    @app.get("/v1/site")
    def describe(account: Caller, region: str | None = None) -> dict[str, Any]:
        if region:
            with site.sessions.begin() as session:
                site.check_region(session, region)
        return {
            "regions": {name: {"zones": list(zones)} for name, zones in REGIONS.items()},
            "sizes": {name: {"processors": s.processors, "memory_mib": s.memory_mib} for name, s in SIZES.items()},
            "largest_disk": LARGEST_DISK,
            "demanded_tags": list(account.demanded_tags),
        }

    @app.get("/v1/quota")
    def quota(account: Caller) -> dict[str, Any]:
        with site.sessions() as session:
            return site.usage(session, account)

    @app.get("/v1/machines")
    def machines(
        account: Caller, region: str | None = None, name: str | None = None, after: str = ""
    ) -> dict[str, Any]:
        with site.sessions.begin() as session:
            if region:
                site.check_region(session, region)
            query = select(Machine).where(Machine.account == account.name, Machine.id > after).order_by(Machine.id)
            if region:
                query = query.where(Machine.region == region)
            if name:
                query = query.where(Machine.name == name)
            page = list(session.scalars(query.limit(_PAGE + 1)))
            attached = _attached(session, page[:_PAGE])
            rows = [_machine(m, attached.get(m.id, [])) for m in page[:_PAGE]]
            return {"items": rows, "after": page[_PAGE - 1].id if len(page) > _PAGE else None}

    def _attached(session: Any, machines: list[Machine]) -> dict[str, list[tuple[int, Disk]]]:
        rows = session.execute(
            select(Attachment.machine_id, Attachment.position, Disk)
            .join(Disk, Disk.id == Attachment.disk_id)
            .where(Attachment.machine_id.in_([m.id for m in machines]))
            .order_by(Attachment.position)
        )
        found: dict[str, list[tuple[int, Disk]]] = {}
        for machine, position, disk in rows:
            found.setdefault(machine, []).append((position, disk))
        return found

    def _one(session: Any, machine: Machine) -> dict[str, Any]:
        return _machine(machine, _attached(session, [machine]).get(machine.id, []))

    def _machine(machine: Machine, attached: list[tuple[int, Disk]]) -> dict[str, Any]:
        return {
            "id": machine.id,
            "name": machine.name,
            "region": machine.region,
            "zone": machine.zone,
            "size": machine.size,
            "body": machine.body,
            "state": machine.state,
            "address": machine.address,
            "mac": machine.mac,
            "tags": machine.tags,
            "created_from": machine.created_from,
            "has_seed": machine.seed is not None,
            "created_at": machine.created_at.isoformat(),
            "disks": [
                {"id": d.id, "name": d.name, "size": d.size, "boot": p == 0, "device": f"vd{'abcdefgh'[p]}"}
                for p, d in attached
            ],
        }

    @app.post("/v1/machines", status_code=201)
    def create_machine(account: Caller, body: NewMachine) -> dict[str, Any]:
        machine = site.create_machine(account, body.model_dump())
        with site.sessions() as session:
            return _one(session, machine)

    @app.get("/v1/machines/{machine_id}")
    def show_machine(account: Caller, machine_id: str) -> dict[str, Any]:
        with site.sessions.begin() as session:
            return _one(session, site.machine(session, account, machine_id))

    @app.delete("/v1/machines/{machine_id}", status_code=204)
    def delete_machine(account: Caller, machine_id: str) -> None:
        site.delete_machine(account, machine_id)

    @app.post("/v1/machines/{machine_id}/power")
    def power(account: Caller, machine_id: str, body: Power) -> dict[str, Any]:
        machine = site.power(account, machine_id, body.action)
        with site.sessions() as session:
            return _one(session, machine)

    @app.put("/v1/machines/{machine_id}/seed", status_code=204)
    async def seed(account: Caller, machine_id: str, request: Request) -> None:
        data = await request.body()
        if len(data) > 4 * 1024 * 1024:
            raise HTTPException(413, "A seed has 4 MiB at most.")
        await run_in_threadpool(site.set_seed, account, machine_id, data)

    @app.get("/v1/machines/{machine_id}/console", response_class=PlainTextResponse)
    def console(account: Caller, machine_id: str) -> str:
        with site.sessions.begin() as session:
            return site.console(site.machine(session, account, machine_id))

    @app.put("/v1/disks/{disk_id}/grants/{other}", status_code=204)
    def grant_disk(account: Caller, disk_id: str, other: str) -> None:
        if other not in tenancy.accounts:
            raise SiteError(404, "not-found", f"There is no account {other}.")
        site.grant(account, disk_id, other)

    @app.delete("/v1/disks/{disk_id}/grants/{other}", status_code=204)
    def revoke_disk(account: Caller, disk_id: str, other: str) -> None:
        site.revoke(account, disk_id, other)

    @app.get("/v1/disks")
    def list_disks(
        account: Caller, region: str | None = None, tag: str | None = None, after: str = ""
    ) -> dict[str, Any]:
        with site.sessions() as session:
            query = select(Disk).where(Disk.account == account.name, Disk.kind != "gone", Disk.id > after)
            query = query.order_by(Disk.id)
            if region:
                query = query.where(Disk.region == region)
            if tag:
                key, _, value = tag.partition("=")
                query = query.where(Disk.tags[key].as_string() == value)
            page = list(session.scalars(query.limit(_PAGE + 1)))
            return {
                "items": [_disk(d) for d in page[:_PAGE]],
                "after": page[_PAGE - 1].id if len(page) > _PAGE else None,
            }

    @app.post("/v1/disks", status_code=201)
    def create_disk(account: Caller, body: NewDisk) -> dict[str, Any]:
        return _disk(site.create_disk(account, body.model_dump()))

    @app.get("/v1/disks/{disk_id}")
    def show_disk(account: Caller, disk_id: str) -> dict[str, Any]:
        with site.sessions.begin() as session:
            return _disk(site.disk(session, account, disk_id))

    @app.delete("/v1/disks/{disk_id}", status_code=204)
    def delete_disk(account: Caller, disk_id: str) -> None:
        site.delete_disk(account, disk_id)

    @app.post("/v1/disks/{disk_id}/snapshots", status_code=201)
    def snapshot(account: Caller, disk_id: str, body: NewSnapshot) -> dict[str, Any]:
        return _disk(site.snapshot(account, disk_id, body.model_dump()))

    @app.post("/v1/disks/{disk_id}/seal")
    def seal(account: Caller, disk_id: str) -> dict[str, Any]:
        return _disk(site.seal(account, disk_id))

    @app.post("/v1/disks/{disk_id}/exports", status_code=201)
    def export(account: Caller, disk_id: str, body: NewExport) -> dict[str, Any]:
        return _export(site.export(account, disk_id, body.model_dump()))

    @app.delete("/v1/exports/{export_id}", status_code=204)
    def end_export(account: Caller, export_id: str) -> None:
        site.end_export(account, export_id)

    @app.websocket("/v1/machines/{machine_id}/agent")
    async def agent(socket: WebSocket, machine_id: str) -> None:
        account = tenancy.account_of(socket.headers.get("authorization", "").removeprefix("Bearer "))
        known = account is not None and await run_in_threadpool(_owns, account, machine_id)
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
                    answer = await run_in_threadpool(_answer, machine_id, line)
                    if answer is not None:
                        await socket.send_bytes(answer)
        except WebSocketDisconnect:
            return

    def _owns(account: Account, machine_id: str) -> bool:
        with site.sessions() as session:
            machine = session.get(Machine, machine_id)
            return machine is not None and machine.account == account.name

    silent_until: dict[str, float] = {}

    def _answer(machine_id: str, line: bytes) -> bytes | None:
        """One line of the agent protocol; None where nobody answers."""
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

    @app.post("/v1/lab/machines", status_code=201, dependencies=[Depends(operator)])
    def add_lab_machine(body: LabMachine) -> dict[str, Any]:
        account = tenancy.accounts.get(body.account)
        if account is None:
            raise HTTPException(404, f"There is no account {body.account}.")
        machine = site.add_lab_machine(account, body.model_dump())
        with site.sessions() as session:
            return _one(session, machine)

    @app.get("/v1/faults", dependencies=[Depends(operator)])
    def list_faults() -> dict[str, Any]:
        with site.sessions() as session:
            rows = session.scalars(select(Fault).order_by(Fault.id))
            return {
                "kinds": KINDS,
                "items": [
                    {"id": f.id, "kind": f.kind, "target": f.target, "count": f.count, "seconds": f.seconds}
                    for f in rows
                ],
            }

    @app.post("/v1/faults", status_code=201, dependencies=[Depends(operator)])
    def add_fault(body: NewFault) -> dict[str, str]:
        if body.kind not in KINDS:
            raise HTTPException(422, f"The kinds are {', '.join(KINDS)}.")
        if body.kind in _SUDDEN:
            site.strike(body.kind, body.target)
            return {"id": ""}
        with site.sessions.begin() as session:
            fault = Fault(id=f"{time.time_ns():020d}-{secrets.token_hex(3)}", **body.model_dump())
            session.add(fault)
            return {"id": fault.id}

    @app.delete("/v1/faults", status_code=204, dependencies=[Depends(operator)])
    def clear_faults() -> None:
        with site.sessions.begin() as session:
            session.execute(delete(Fault))

    @app.get("/healthz", response_class=PlainTextResponse)
    def health() -> str:
        return "ok\n"

    return app


def _disk(disk: Disk) -> dict[str, Any]:
    return {
        "changes_known": disk.bitmap is not None,
        "id": disk.id,
        "name": disk.name,
        "region": disk.region,
        "kind": disk.kind,
        "size": disk.size,
        "source": disk.source_disk,
        "tags": disk.tags,
        "created_at": disk.created_at.isoformat(),
    }


def _export(export: Export) -> dict[str, Any]:
    return {
        "id": export.id,
        "disk": export.disk_id,
        "writable": export.writable,
        "address": f"nbd://127.0.0.1:{export.port}/{export.name}",
        "changes_context": f"qemu:dirty-bitmap:{export.changes}" if export.changes else None,
    }
