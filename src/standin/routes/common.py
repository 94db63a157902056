"""What the routes share: who calls, the site, and the JSON that several routes answer."""

from __future__ import annotations

import time
from typing import Annotated, Any

from fastapi import Depends, Header, HTTPException, Request
from sqlalchemy import select
from sqlalchemy.orm import Session

from standin.records import Attachment, Disk, Machine
from standin.site import Site
from standin.world import CALLS_PER_SECOND, Account, Tenancy, token_digest

PAGE = 100


async def the_site(request: Request) -> Site:
    """The site that the application serves."""
    return request.app.state.site  # type: ignore[no-any-return]


async def the_tenancy(request: Request) -> Tenancy:
    """The accounts and their tokens."""
    return request.app.state.tenancy  # type: ignore[no-any-return]


def caller(request: Request, authorization: Annotated[str, Header()] = "") -> Account:
    """The account whose token the call carries.  Refuses an account that calls too often."""
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
    """Refuse everybody but the operator of the stand-in."""
    if token_digest(authorization.removeprefix("Bearer ")) != request.app.state.tenancy.operator_digest:
        raise HTTPException(401, "Only the operator may do this.")


Caller = Annotated[Account, Depends(caller)]
TheSite = Annotated[Site, Depends(the_site)]
TheTenancy = Annotated[Tenancy, Depends(the_tenancy)]


def disks_of(session: Session, machines: list[Machine]) -> dict[str, list[tuple[int, Disk]]]:
    """The disks of machines by machine id, each with its position."""
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


def one_machine(session: Session, machine: Machine) -> dict[str, Any]:
    """A machine with its disks, as JSON."""
    return machine_answer(machine, disks_of(session, [machine]).get(machine.id, []))


def machine_answer(machine: Machine, attached: list[tuple[int, Disk]]) -> dict[str, Any]:
    """A machine as JSON."""
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
        "subnet": machine.subnet,
        "firewalls": machine.firewalls,
        "public_address": machine.public_address,
        "tags": machine.tags,
        "created_from": machine.created_from,
        "has_seed": machine.seed is not None,
        "created_at": machine.created_at.isoformat(),
        "disks": [
            {"id": d.id, "name": d.name, "size": d.size, "boot": p == 0, "device": f"vd{'abcdefgh'[p]}"}
            for p, d in attached
        ],
    }
