"""Routes of disks: making, sealing and granting them, snapshots, and NBD exports."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel
from sqlalchemy import select

from standin.records import Disk, Export
from standin.routes.common import PAGE, Caller, TheSite, TheTenancy
from standin.siterules import SiteError

router = APIRouter()


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


@router.put("/v1/disks/{disk_id}/grants/{other}", status_code=204)
def grant_disk(site: TheSite, tenancy: TheTenancy, account: Caller, disk_id: str, other: str) -> None:
    if other not in tenancy.accounts:
        raise SiteError(404, "not-found", f"There is no account {other}.")
    site.grant(account, disk_id, other)


@router.delete("/v1/disks/{disk_id}/grants/{other}", status_code=204)
def revoke_disk(site: TheSite, account: Caller, disk_id: str, other: str) -> None:
    site.revoke(account, disk_id, other)


@router.get("/v1/disks")
def list_disks(
    site: TheSite, account: Caller, region: str | None = None, tag: str | None = None, after: str = ""
) -> dict[str, Any]:
    with site.sessions() as session:
        query = select(Disk).where(Disk.account == account.name, Disk.kind != "gone", Disk.id > after)
        query = query.order_by(Disk.id)
        if region:
            query = query.where(Disk.region == region)
        if tag:
            key, _, value = tag.partition("=")
            query = query.where(Disk.tags[key].as_string() == value)
        page = list(session.scalars(query.limit(PAGE + 1)))
        return {
            "items": [_disk(d) for d in page[:PAGE]],
            "after": page[PAGE - 1].id if len(page) > PAGE else None,
        }


@router.post("/v1/disks", status_code=201)
def create_disk(site: TheSite, account: Caller, body: NewDisk) -> dict[str, Any]:
    return _disk(site.create_disk(account, body.model_dump()))


@router.get("/v1/disks/{disk_id}")
def show_disk(site: TheSite, account: Caller, disk_id: str) -> dict[str, Any]:
    with site.sessions.begin() as session:
        return _disk(site.disk(session, account, disk_id))


@router.delete("/v1/disks/{disk_id}", status_code=204)
def delete_disk(site: TheSite, account: Caller, disk_id: str) -> None:
    site.delete_disk(account, disk_id)


@router.post("/v1/disks/{disk_id}/snapshots", status_code=201)
def snapshot(site: TheSite, account: Caller, disk_id: str, body: NewSnapshot) -> dict[str, Any]:
    return _disk(site.snapshot(account, disk_id, body.model_dump()))


@router.post("/v1/disks/{disk_id}/seal")
def seal(site: TheSite, account: Caller, disk_id: str) -> dict[str, Any]:
    return _disk(site.seal(account, disk_id))


@router.post("/v1/disks/{disk_id}/exports", status_code=201)
def export(site: TheSite, account: Caller, disk_id: str, body: NewExport) -> dict[str, Any]:
    return _export(site.export(account, disk_id, body.model_dump()))


@router.delete("/v1/exports/{export_id}", status_code=204)
def end_export(site: TheSite, account: Caller, export_id: str) -> None:
    site.end_export(account, export_id)


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
