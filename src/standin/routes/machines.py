"""Routes of machines: making and removing them, power, seed and console."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, HTTPException, Query, Request
from pydantic import BaseModel, Field
from sqlalchemy import select
from starlette.concurrency import run_in_threadpool
from starlette.responses import PlainTextResponse

from standin.records import Machine
from standin.routes.common import PAGE, Caller, TheSite, disks_of, machine_answer, one_machine

router = APIRouter()


class NewMachine(BaseModel):
    """A machine to create; disks are unused ones, or base disks and snapshots to clone; a clone of the boot disk may be
    larger: ``boot_bytes``.  An unused disk can be a medium, which boots where the boot disk is blank."""

    name: str = Field(pattern=r"^[a-z0-9][a-z0-9-]{0,62}$")
    region: str
    zone: str | None = None
    size: str = "small"
    boot_disk: str
    boot_bytes: int | None = None
    data_disks: list[str] = []
    medium: str | None = None
    subnet: str | None = None
    address: str | None = None
    firewalls: list[str] = []
    public_address: bool | str = False
    isolated: bool = False
    tags: dict[str, str] = {}
    client_key: str | None = None


class Probe(BaseModel):
    """A connection to try: to a port, from an address."""

    port: int = Field(ge=1, le=65535)
    source: str


class Power(BaseModel):
    """What to do with a machine's power."""

    action: str = Field(pattern="^(on|off|restart)$")


@router.get("/v1/machines")
def machines(
    site: TheSite, account: Caller, region: str | None = None, name: str | None = None, after: str = ""
) -> dict[str, Any]:
    with site.sessions.begin() as session:
        if region:
            site.check_region(session, region)
        query = select(Machine).where(Machine.account == account.name, Machine.id > after).order_by(Machine.id)
        if region:
            query = query.where(Machine.region == region)
        if name:
            query = query.where(Machine.name == name)
        page = list(session.scalars(query.limit(PAGE + 1)))
        attached = disks_of(session, page[:PAGE])
        rows = [machine_answer(m, attached.get(m.id, [])) for m in page[:PAGE]]
        return {"items": rows, "after": page[PAGE - 1].id if len(page) > PAGE else None}


@router.post("/v1/machines", status_code=201)
def create_machine(site: TheSite, account: Caller, body: NewMachine) -> dict[str, Any]:
    machine = site.create_machine(account, body.model_dump())
    with site.sessions() as session:
        return one_machine(session, machine)


@router.get("/v1/machines/{machine_id}")
def show_machine(site: TheSite, account: Caller, machine_id: str) -> dict[str, Any]:
    with site.sessions.begin() as session:
        return one_machine(session, site.machine(session, account, machine_id))


@router.delete("/v1/machines/{machine_id}", status_code=204)
def delete_machine(
    site: TheSite, account: Caller, machine_id: str, keep: Annotated[tuple[str, ...], Query()] = ()
) -> None:
    site.delete_machine(account, machine_id, keep)


@router.post("/v1/machines/{machine_id}/power")
def power(site: TheSite, account: Caller, machine_id: str, body: Power) -> dict[str, Any]:
    machine = site.power(account, machine_id, body.action)
    with site.sessions() as session:
        return one_machine(session, machine)


@router.post("/v1/machines/{machine_id}/probe")
def probe(site: TheSite, account: Caller, machine_id: str, body: Probe) -> dict[str, Any]:
    return site.probe(account, machine_id, body.port, body.source)


@router.put("/v1/machines/{machine_id}/seed", status_code=204)
async def seed(site: TheSite, account: Caller, machine_id: str, request: Request) -> None:
    data = await request.body()
    if len(data) > 4 * 1024 * 1024:
        raise HTTPException(413, "A seed has 4 MiB at most.")
    await run_in_threadpool(site.set_seed, account, machine_id, data)


@router.get("/v1/machines/{machine_id}/console", response_class=PlainTextResponse)
def console(site: TheSite, account: Caller, machine_id: str) -> str:
    with site.sessions.begin() as session:
        return site.console(site.machine(session, account, machine_id))
