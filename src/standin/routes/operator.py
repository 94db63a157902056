"""Routes for the operator of the stand-in: faults, and real guests to register."""

from __future__ import annotations

import secrets
import time
from typing import Any

from fastapi import APIRouter, Depends, HTTPException
from pydantic import BaseModel, Field
from sqlalchemy import delete, select

from standin.faults import KINDS
from standin.records import Fault
from standin.routes.common import TheSite, TheTenancy, one_machine, operator

router = APIRouter(dependencies=[Depends(operator)])
_SUDDEN = {"machine-dies", "machine-lost", "rename", "disk-damage", "disk-lost"}


class LabMachine(BaseModel):
    """A real guest to register: ``image`` is a raw disk file on the stand-in's own host, which is not changed."""

    name: str = Field(pattern=r"^[a-z0-9][a-z0-9-]{0,62}$")
    account: str
    region: str
    size: str
    image: str
    on: bool = True
    data_disks: list[str] = []


class NewFault(BaseModel):
    """A fault to cause."""

    kind: str
    target: str = ""
    count: int = 1
    seconds: float = 0.0
    status: int = 500


@router.post("/v1/lab/machines", status_code=201)
def add_lab_machine(site: TheSite, tenancy: TheTenancy, body: LabMachine) -> dict[str, Any]:
    account = tenancy.accounts.get(body.account)
    if account is None:
        raise HTTPException(404, f"There is no account {body.account}.")
    machine = site.add_lab_machine(account, body.model_dump())
    with site.sessions() as session:
        return one_machine(session, machine)


@router.get("/v1/faults")
def list_faults(site: TheSite) -> dict[str, Any]:
    with site.sessions() as session:
        rows = session.scalars(select(Fault).order_by(Fault.id))
        return {
            "kinds": KINDS,
            "items": [
                {"id": f.id, "kind": f.kind, "target": f.target, "count": f.count, "seconds": f.seconds} for f in rows
            ],
        }


@router.post("/v1/faults", status_code=201)
def add_fault(site: TheSite, body: NewFault) -> dict[str, str]:
    if body.kind not in KINDS:
        raise HTTPException(422, f"The kinds are {', '.join(KINDS)}.")
    if body.kind in _SUDDEN:
        site.strike(body.kind, body.target)
        return {"id": ""}
    with site.sessions.begin() as session:
        fault = Fault(id=f"{time.time_ns():020d}-{secrets.token_hex(3)}", **body.model_dump())
        session.add(fault)
    site.faults.entered()
    return {"id": fault.id}


@router.delete("/v1/faults", status_code=204)
def clear_faults(site: TheSite) -> None:
    with site.sessions.begin() as session:
        session.execute(delete(Fault))
