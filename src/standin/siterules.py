"""What every call at the stand-in is held to: whose things these are, regions, tags and quotas."""

from __future__ import annotations

from typing import Any, TypeVar

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from standin.faults import take
from standin.records import Disk, DiskGrant, Export, Machine
from standin.world import REGIONS, Account

Made = TypeVar("Made", Disk, Export, Machine)


class SiteError(Exception):
    """A refusal: HTTP status, stable code and text."""

    def __init__(self, status: int, code: str, text: str) -> None:
        super().__init__(text)
        self.status, self.code, self.text = status, code, text


class SiteRules:
    """The rules, for the parts of the site that follow."""

    def machine(self, session: Session, account: Account, machine_id: str, *, lock: bool = False) -> Machine:
        """A machine of the account.  Raises `SiteError` 404."""
        machine = session.get(Machine, machine_id, with_for_update=lock)
        if machine is None or machine.account != account.name:
            raise SiteError(404, "not-found", f"There is no machine {machine_id}.")
        self.check_region(session, machine.region)
        return machine

    def disk(self, session: Session, account: Account, disk_id: str) -> Disk:
        """A disk of the account.  Raises `SiteError` 404."""
        disk = session.get(Disk, disk_id)
        if disk is None or disk.account != account.name or disk.kind == "gone":
            raise SiteError(404, "not-found", f"There is no disk {disk_id}.")
        self.check_region(session, disk.region)
        return disk

    def usable_disk(self, session: Session, account: Account, disk_id: str) -> Disk:
        """A disk of the account, or a base disk that another one granted it.  Raises `SiteError` 404."""
        disk = session.get(Disk, disk_id)
        granted = session.get(DiskGrant, (disk_id, account.name))
        if disk is not None and disk.kind == "base" and granted is not None:
            self.check_region(session, disk.region)
            return disk
        return self.disk(session, account, disk_id)

    @staticmethod
    def _known(session: Session, kind: type[Made], account: Account, body: dict[str, Any]) -> Made | None:
        """What an earlier call with the same client key created."""
        key = body.get("client_key")
        if not key:
            return None
        made: Made | None = session.scalars(select(kind).filter_by(account=account.name, client_key=key)).first()
        return made

    @staticmethod
    def check_region(session: Session, region: str) -> None:
        """Raises `SiteError` where there is no such region, or it is out of service."""
        if region not in REGIONS:
            raise SiteError(404, "region", f"There is no region {region}; there are {', '.join(REGIONS)}.")
        if take(session, ("region-out",), region):
            raise SiteError(503, "region-out", f"Region {region} is out of service.")

    @staticmethod
    def _check_tags(account: Account, body: dict[str, Any]) -> None:
        missing = [tag for tag in account.demanded_tags if not body.get("tags", {}).get(tag)]
        if missing:
            raise SiteError(422, "tags-missing", f"The account demands the tags {', '.join(missing)}.")

    @staticmethod
    def _check_disk_quota(session: Session, account: Account, size: int) -> None:
        used = session.scalar(
            select(func.coalesce(func.sum(Disk.size), 0)).where(Disk.account == account.name, Disk.kind == "disk")
        )
        if int(used or 0) + size > account.disk_bytes:
            raise SiteError(403, "quota", f"The account uses {used} of {account.disk_bytes} bytes of disk.")

    def usage(self, session: Session, account: Account) -> dict[str, dict[str, int]]:
        """Quotas and what is used of them."""

        def count(query: Any) -> int:
            return int(session.scalar(query) or 0)

        return {
            "machines": {
                "most": account.machines,
                "used": count(select(func.count()).where(Machine.account == account.name)),
            },
            "snapshots": {
                "most": account.snapshots,
                "used": count(select(func.count()).where(Disk.account == account.name, Disk.kind == "snapshot")),
            },
            "disk_bytes": {
                "most": account.disk_bytes,
                "used": count(select(func.sum(Disk.size)).where(Disk.account == account.name, Disk.kind == "disk")),
            },
        }
