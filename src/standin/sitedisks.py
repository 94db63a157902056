"""Disks at the stand-in: files, copies, overlays, snapshots and exports."""

from __future__ import annotations

import secrets
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import delete, func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from standin import disks
from standin.bodies import Bodies
from standin.exports import ExportProcesses
from standin.faults import take
from standin.guest import ModelledGuest
from standin.qemubody import QemuBody
from standin.qmp import MonitorError
from standin.records import Attachment, Disk, DiskGrant, Export, Machine
from standin.siterules import SiteError, SiteRules
from standin.world import LARGEST_DISK, REGIONS, Account


class SiteDisks(SiteRules):
    """Everything about disks; what runs on them is the site's own business."""

    _disk_folder: Path
    _exports: ExportProcesses
    _bodies: Bodies
    _guests: dict[str, ModelledGuest]
    sessions: Any

    def path(self, disk: Disk) -> Path:
        """Where a disk's file lies."""
        return self._disk_folder / disk.file

    # Disks

    def create_disk(self, account: Account, body: dict[str, Any]) -> Disk:
        """An empty disk, or a copy of another disk, snapshot or base."""
        with self.sessions.begin() as session:
            if (known := self._known(session, Disk, account, body)) is not None:
                return known
            self.check_region(session, body["region"])
            self._check_tags(account, body)
            source = self.disk(session, account, body["source"]) if body.get("source") else None
            size = source.size if source else int(body.get("size", 0))
            if source and source.region != body["region"]:
                raise SiteError(
                    422, "other-region", f"Disk {source.id} is in {source.region}, not in {body['region']}."
                )
            if not 0 < size <= LARGEST_DISK or size % 512:
                raise SiteError(422, "disk-size", f"A disk has 512 bytes to {LARGEST_DISK} bytes, in sectors of 512.")
            if body.get("zone") and body["zone"] not in REGIONS[body["region"]]:
                raise SiteError(
                    422, "zone", f"Region {body['region']} has the zones {', '.join(REGIONS[body['region']])}."
                )
            self._check_disk_quota(session, account, size)
            disk = self._new_disk(session, account, body, size, "disk", source)
            self._fill(disk, source)
            return disk

    def grant(self, account: Account, disk_id: str, other: str) -> None:
        """Let another account make machines from a base disk."""
        with self.sessions.begin() as session:
            if self.disk(session, account, disk_id).kind != "base":
                raise SiteError(409, "not-a-base", "Only a base disk can be granted: seal it first.")
            granted = insert(DiskGrant).values(disk_id=disk_id, account=other)
            session.execute(granted.on_conflict_do_nothing())  # of two at once the second finds it done

    def revoke(self, account: Account, disk_id: str, other: str) -> None:
        """End that."""
        with self.sessions.begin() as session:
            self.disk(session, account, disk_id)
            session.execute(delete(DiskGrant).where(DiskGrant.disk_id == disk_id, DiskGrant.account == other))

    def _new_disk(
        self, session: Session, account: Account, body: dict[str, Any], size: int, kind: str, source: Disk | None
    ) -> Disk:
        number = f"d-{secrets.token_hex(6)}"
        disk = Disk(
            id=number,
            account=account.name,
            region=body["region"],
            zone=body.get("zone") or "",
            name=body.get("name") or number,
            kind=kind,
            size=size,
            file=f"{number}.raw",
            format="raw",
            backing=None,
            held_by=None,
            bitmap=None,
            source_disk=source.id if source else None,
            tags=body.get("tags", {}),
            client_key=body.get("client_key"),
        )
        session.add(disk)
        session.flush()
        return disk

    def _fill(self, disk: Disk, source: Disk | None, *, overlay: bool = False) -> None:
        """Make a disk's file.  ``overlay`` builds upon the source's file, which never changes: nothing is copied."""
        if source is None:
            disks.create_raw(self.path(disk), disk.size)
        elif source.format == "fleece":
            with self._offered(source) as address:
                disks.copy_from_export(address, self.path(disk))
        elif overlay or source.format == "qcow2":
            self._become_qcow2(disk)
            base = self._standing(source)
            disk.backing = base.id
            disks.create_overlay(self.path(disk), (self.path(base), base.format), disk.size)
        else:
            with self._quiet(source):
                disks.copy_raw(self.path(source), self.path(disk))

    @staticmethod
    def _become_qcow2(disk: Disk) -> None:
        disk.format, disk.file = "qcow2", f"{disk.id}.qcow2"

    def _standing(self, disk: Disk) -> Disk:
        """A layer that will not change: the disk itself, or, for one in use, what it was until now."""
        if disk.kind in ("base", "snapshot"):
            return disk
        session = Session.object_session(disk)
        assert session is not None
        attached = session.get(Attachment, disk.id)
        if attached and self._bodies.get(attached.machine_id):
            raise SiteError(409, "in-use", "Take a snapshot of the disk of a running machine first.")
        number = f"d-{secrets.token_hex(6)}"
        layer = Disk(
            id=number, account=disk.account, region=disk.region, name=f"{disk.name}-layer", kind="gone",
            format=disk.format, size=disk.size, file=disk.file, backing=disk.backing, tags={},
        )  # fmt: skip
        session.add(layer)
        session.flush()
        disk.format, disk.file, disk.backing = "qcow2", f"{disk.id}-{secrets.token_hex(3)}.qcow2", layer.id
        disks.create_overlay(self.path(disk), (self.path(layer), layer.format), disk.size)
        return layer

    @contextmanager
    def _offered(self, disk: Disk) -> Iterator[str]:
        """A snapshot that a QEMU process holds, for the time of the block."""
        body, export, token = self._holder(disk), f"x-{secrets.token_hex(6)}", secrets.token_urlsafe(18)
        port = body.export(export, token, disk.id, None, None)
        try:
            yield f"nbd://127.0.0.1:{port}/{token}"
        finally:
            body.end_export(export)

    def _holder(self, disk: Disk) -> QemuBody:
        body = self._bodies.get(str(disk.held_by))
        if body is None:
            raise SiteError(404, "not-found", f"Snapshot {disk.id} ended with its machine.")
        return body

    @contextmanager
    def _quiet(self, disk: Disk) -> Iterator[None]:
        """Keep the guest that uses a disk from writing while its file is copied."""
        with self.sessions() as session:
            attached = session.get(Attachment, disk.id)
        guest = self._guests.get(attached.machine_id) if attached else None
        if guest is None:
            yield
            return
        with guest.write_lock:
            yield

    def snapshot(self, account: Account, disk_id: str, body: dict[str, Any]) -> Disk:
        """A copy of a disk at this moment, which cannot be changed."""
        with self.sessions.begin() as session:
            fault = take(session, ("snapshot-fails",), disk_id)
        if fault:
            time.sleep(fault.seconds)
            raise SiteError(500, "internal", "The snapshot failed.")
        with self.sessions.begin() as session:
            source = self.disk(session, account, disk_id)
            body = {**body, "region": source.region}
            if (known := self._known(session, Disk, account, body)) is not None:
                return known
            self._check_tags(account, body)
            held = session.scalar(select(func.count()).where(Disk.account == account.name, Disk.kind == "snapshot"))
            if (held or 0) >= account.snapshots:
                raise SiteError(403, "quota", f"The account has {held} of {account.snapshots} snapshots.")
            disk = self._new_disk(session, account, body, source.size, "snapshot", source)
            attached = session.get(Attachment, source.id)
            running = self._bodies.get(attached.machine_id) if attached and attached.position == 0 else None
            if running is None:
                self._fill(disk, source)
                return disk
            disk.format, disk.file, disk.held_by = "fleece", f"{disk.id}.fleece", running.facts.machine
            try:
                disk.bitmap = running.snapshot(
                    disk.id, self.path(disk), checkpoint=body["checkpoint"], since=body["changes_since"]
                )
            except MonitorError as error:
                raise SiteError(500, "internal", f"The snapshot failed: {error}.") from error
            return disk

    def seal(self, account: Account, disk_id: str) -> Disk:
        """Make a disk a base disk: never written again, cloned at will."""
        with self.sessions.begin() as session:
            disk = self.disk(session, account, disk_id)
            if session.get(Attachment, disk.id) or session.scalar(
                select(Export).where(Export.disk_id == disk.id, Export.writable)
            ):
                raise SiteError(409, "in-use", "The disk is attached or being written.")
            disk.kind = "base"
            self.path(disk).chmod(0o440)
            return disk

    def delete_disk(self, account: Account, disk_id: str) -> None:
        """Remove a disk that no machine uses."""
        with self.sessions.begin() as session:
            disk = self.disk(session, account, disk_id)
            if session.get(Attachment, disk.id):
                raise SiteError(409, "in-use", "The disk is attached to a machine.")
            self._drop_disk(session, disk)

    def _drop_disk(self, session: Session, disk: Disk) -> None:
        self._end_readers(session, disk)
        session.flush()
        if disk.format == "fleece" and (body := self._bodies.get(str(disk.held_by))) is not None:
            body.drop_snapshot(disk.id)
            self._release(session, str(disk.held_by), disk)
        if session.scalar(select(Disk.id).where(Disk.backing == disk.id).limit(1)):
            disk.kind, disk.client_key, disk.tags = "gone", None, {}
            return
        session.delete(disk)
        session.flush()
        disks.remove(self.path(disk))
        below = session.get(Disk, disk.backing) if disk.backing else None
        if below is not None and below.kind == "gone":
            self._drop_disk(session, below)

    def _release(self, session: Session, machine_id: str, dropped: Disk) -> None:
        """The last snapshot of a machine that is off already: its process may end."""
        others = select(Disk.id).where(Disk.held_by == machine_id, Disk.id != dropped.id)
        machine = session.get(Machine, machine_id)
        if (machine is None or machine.state != "running") and session.scalar(others.limit(1)) is None:
            self._bodies.stop(machine_id)

    # Exports

    def export(self, account: Account, disk_id: str, body: dict[str, Any]) -> Export:
        """Offer a disk over NBD."""
        with self.sessions.begin() as session:
            disk = self.disk(session, account, disk_id)
            if (known := self._known(session, Export, account, body)) is not None:
                return known
            writable = bool(body.get("writable"))
            if writable and (disk.kind != "disk" or session.get(Attachment, disk.id)):
                raise SiteError(409, "not-writable", "Only a disk that no machine uses can be written from outside.")
            export = Export(
                id=f"x-{secrets.token_hex(6)}",
                account=account.name,
                disk_id=disk.id,
                port=0,
                name=secrets.token_urlsafe(18),
                writable=writable,
                client_key=body.get("client_key"),
            )
            attached = session.get(Attachment, disk.id)
            if disk.format == "fleece":
                if disk.bitmap:
                    # QEMU lets one export at a time offer a bitmap: the export of a reader that was killed is removed for it.
                    self._end_readers(session, disk)
                export.served_by, node = disk.held_by, disk.id
                export.port = self._holder(disk).export(export.id, export.name, node, None, disk.bitmap)
                export.changes = disk.bitmap
            elif attached and (running := self._bodies.get(attached.machine_id)) is not None:
                export.served_by, node = attached.machine_id, f"disk{attached.position}"
                export.port = running.export(export.id, export.name, node, None, None)
            else:
                export.port = self._exports.start(
                    export.id, export.name, self.path(disk), disk.format, writable=writable
                )
            session.add(export)
            return export

    def _end_readers(self, session: Session, disk: Disk) -> None:
        """End every export of a disk."""
        for left in session.scalars(select(Export).where(Export.disk_id == disk.id)).all():
            self._end(left)
            session.delete(left)

    def end_export(self, account: Account, export_id: str) -> None:
        """Stop offering a disk."""
        with self.sessions.begin() as session:
            export = session.get(Export, export_id)
            if export is None or export.account != account.name:
                raise SiteError(404, "not-found", f"There is no export {export_id}.")
            self._end(export)
            session.delete(export)

    def _end(self, export: Export) -> None:
        if export.served_by is None:
            self._exports.stop(export.id)
        elif (body := self._bodies.get(export.served_by)) is not None:
            body.end_export(export.id)
