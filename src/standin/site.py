"""The site itself: machines of both kinds, on top of disks and rules."""

from __future__ import annotations

import os
import secrets
import threading
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from sqlalchemy import create_engine, func, select, text
from sqlalchemy.orm import Session, sessionmaker

from standin import disks
from standin.bodies import Bodies
from standin.clonepace import ClonePace
from standin.exports import ExportProcesses
from standin.faults import Book, take
from standin.guest import GuestFacts, ModelledGuest, new_mac
from standin.installer import install, is_blank
from standin.labseed import lab_seed
from standin.qemubody import QemuBody
from standin.qmp import MonitorError
from standin.records import Attachment, Base, Disk, Export, Machine
from standin.sitedisks import SiteDisks
from standin.sitenetworks import SiteNetworks
from standin.siterules import SiteError
from standin.world import LARGEST_DISK, REGIONS, SIZES, Account

_PLACES_LOCK = 91_001


class Site(SiteDisks, SiteNetworks):
    """Everything that the API does, without HTTP."""

    def __init__(self, data: Path, database_url: str, *, clones_per_second: float) -> None:
        self._disk_folder = data / "disks"
        self._disk_folder.mkdir(parents=True, exist_ok=True)
        self._engine = create_engine(database_url, pool_size=10, max_overflow=30, pool_pre_ping=True)
        Base.metadata.create_all(self._engine)
        with self._engine.begin() as connection:  # a stand-in made by an earlier release has disks without a zone
            connection.execute(text("alter table disks add column if not exists zone varchar not null default ''"))
            for column in ("subnet varchar not null default ''", "firewalls json", "public_address varchar"):
                connection.execute(text(f"alter table machines add column if not exists {column}"))
            connection.execute(text("update machines set firewalls = '[]' where firewalls is null"))
        self._pace = ClonePace(clones_per_second)
        self.faults = Book()
        self.sessions = sessionmaker(self._engine, expire_on_commit=False, info={"faults": self.faults})
        self._exports = ExportProcesses(data / "exports")
        self._guests: dict[str, ModelledGuest] = {}
        self._guests_lock = threading.Lock()
        self._bodies = Bodies(data / "bodies", self.path, self._guest_off)

    # Start and stop

    def open(self) -> None:
        """Take up where the last life of the stand-in ended: running machines run, exports are offered."""
        self._exports.reap_leftovers()
        for leftover in self._disk_folder.glob("*.part"):
            leftover.unlink()
        with self.sessions() as session:
            recorded = set(session.scalars(select(Disk.file)))
            for orphan in self._disk_folder.iterdir():  # of calls that a crash cut short
                if orphan.name not in recorded:
                    orphan.unlink()
            for machine in session.scalars(select(Machine).where(Machine.state == "running")):
                if machine.body == "modelled":
                    self._attach_guest(session, machine)
                elif not self._bodies.take_up(session, machine):
                    self._bodies.start(session, machine)
            for export in session.scalars(select(Export).where(Export.served_by.is_(None))):
                disk = session.get_one(Disk, export.disk_id)
                self._exports.start(
                    export.id, export.name, self.path(disk), disk.format, writable=export.writable, port=export.port
                )
        with self.sessions.begin() as session:
            self._drop_lost(session)

    def _drop_lost(self, session: Session) -> None:
        """Forget snapshots and exports of QEMU processes that are gone."""
        for export in session.scalars(select(Export).where(Export.served_by.is_not(None))):
            disk = session.get_one(Disk, export.disk_id)
            body = self._bodies.get(str(export.served_by))
            if body is None or (disk.format == "fleece" and not body.holds(disk.id)):
                session.delete(export)
        session.flush()
        for disk in session.scalars(select(Disk).where(Disk.format == "fleece")):
            body = self._bodies.get(str(disk.held_by))
            if body is None or not body.holds(disk.id):
                self._drop_disk(session, disk)

    def close(self) -> None:
        """Stop what runs in processes of its own."""
        self._exports.stop_all()
        self._bodies.stop_all()
        self._engine.dispose()

    # Machines

    def create_machine(self, account: Account, body: dict[str, Any]) -> Machine:
        """A machine from disks of its own, or clones of base disks and snapshots."""
        with self.sessions.begin() as session:
            if (known := self._known(session, Machine, account, body)) is not None:
                return known
            self.check_region(session, body["region"])
            zone = body.get("zone") or REGIONS[body["region"]][0]
            if zone not in REGIONS[body["region"]]:
                raise SiteError(
                    422, "zone", f"Region {body['region']} has the zones {', '.join(REGIONS[body['region']])}."
                )
            if take(session, ("zone-out",), zone):
                raise SiteError(503, "zone-out", f"Zone {zone} is out of service.")
            if body.get("size", "small") not in SIZES:
                raise SiteError(422, "size", f"The sizes are {', '.join(SIZES)}.")
            self._check_tags(account, body)
            medium = body.get("medium")
            names = (body["boot_disk"], *body.get("data_disks", []), *([medium] if medium else []))
            wanted = [self.usable_disk(session, account, d) for d in names]
            if medium and wanted[-1].kind != "disk":
                raise SiteError(422, "medium", "A medium is an unused disk.")
            for disk in wanted:
                self._check_attachable(session, body["region"], disk)
            created_from = wanted[0].id if wanted[0].kind != "disk" else None
            if created_from:
                self._pace.wait(created_from)
            sizes = [body.get("boot_bytes") or wanted[0].size, *(disk.size for disk in wanted[1:])]
            self._check_boot_size(wanted[0], sizes[0])
            cloned = sum(size for disk, size in zip(wanted, sizes, strict=True) if disk.kind != "disk")
            self._check_disk_quota(session, account, cloned)
            attached: list[Disk] = []
            made: list[Disk] = []
            for position, disk in enumerate(wanted):
                own = disk
                if disk.kind != "disk":
                    name = f"{body['name']}-{f'data-{position}' if position else 'boot'}"
                    spec = {"region": disk.region, "tags": body.get("tags", {}), "name": name}
                    own = self._new_disk(session, account, spec, sizes[position], "disk", disk)
                    made.append(own)
                    overlay = not position and SIZES[body.get("size", "small")].body == "qemu"
                    self._fill(own, disk, overlay=overlay)
                    if own.format == "raw":
                        os.truncate(self.path(own), own.size)
                attached.append(own)
            # From here on one creation at a time: two must not get one address, or one place in the quota.
            session.execute(select(func.pg_advisory_xact_lock(_PLACES_LOCK)))
            try:
                place = self._attached(session, account, body)
                held = session.scalar(select(func.count()).where(Machine.account == account.name))
                if (held or 0) >= account.machines:
                    raise SiteError(403, "quota", f"The account has {held} of {account.machines} machines.")
            except SiteError:
                for disk in made:
                    disks.remove(self.path(disk))
                raise
            machine = Machine(
                id=f"m-{secrets.token_hex(6)}",
                account=account.name,
                region=body["region"],
                zone=zone,
                name=body["name"],
                size=body.get("size", "small"),
                body=SIZES[body.get("size", "small")].body,
                state="stopped",
                **place,
                mac=new_mac(),
                tags=body.get("tags", {}),
                created_from=created_from,
                client_key=body.get("client_key"),
                guest={"medium": medium} if medium else {},
                seed=None,
            )
            session.add(machine)
            session.flush()
            for position, disk in enumerate(attached):
                session.add(Attachment(disk_id=disk.id, machine_id=machine.id, position=position))
            return machine

    @staticmethod
    def _check_boot_size(boot: Disk, size: int) -> None:
        if size != boot.size and boot.kind == "disk":
            raise SiteError(422, "disk-size", "Only a clone can be larger than its disk.")
        if not boot.size <= size <= LARGEST_DISK or size % 512:
            raise SiteError(422, "disk-size", f"A boot disk has {boot.size} to {LARGEST_DISK} bytes, in sectors.")

    def _check_attachable(self, session: Session, region: str, disk: Disk) -> None:
        if disk.region != region:
            raise SiteError(422, "other-region", f"Disk {disk.id} is in {disk.region}, not in {region}.")
        if disk.kind == "disk" and session.get(Attachment, disk.id) is not None:
            raise SiteError(409, "in-use", f"Disk {disk.id} is attached already.")
        if disk.kind != "disk" and disk.zone and take(session, ("zone-out",), disk.zone):
            raise SiteError(503, "zone-out", f"Zone {disk.zone}, where disk {disk.id} is, is out of service.")

    def add_lab_machine(self, account: Account, body: dict[str, Any]) -> Machine:
        """A machine whose boot disk builds upon a prepared guest disk."""
        image, tags = Path(body["image"]), {"owner": account.name, "purpose": "lab"}
        if not image.is_file():
            raise SiteError(422, "image", f"There is no disk file {image}.")
        with self.sessions.begin() as session:
            here = select(Machine).where(Machine.account == account.name, Machine.name == body["name"])
            if session.scalar(here) is not None:
                raise SiteError(409, "name-taken", f"There is a machine {body['name']} already.")
            spec = {"region": body["region"], "tags": tags, "name": f"{body['name']}-template"}
            template = self._new_disk(session, account, spec, image.stat().st_size, "base", None)
            try:
                os.link(image, self.path(template))
            except OSError:  # the cache lies on another file system
                disks.copy_raw(image, self.path(template))
            template_id = template.id
        machine = self.create_machine(
            account, {**body, "boot_disk": template_id, "tags": tags, "zone": None, "client_key": None}
        )
        self.delete_disk(account, template_id)
        self.set_seed(account, machine.id, lab_seed(machine.id, body["name"], machine.mac))
        return self.power(account, machine.id, "on") if body["on"] else machine

    def set_seed(self, account: Account, machine_id: str, seed: bytes) -> Machine:
        """Attach a first-boot seed volume."""
        with self.sessions.begin() as session:
            machine = self.machine(session, account, machine_id)
            machine.seed = seed
            return machine

    def power(self, account: Account, machine_id: str, action: str) -> Machine:
        """``on``, ``off`` or ``restart``; what is so already stays so."""
        with self.sessions.begin() as session:
            machine = self.machine(session, account, machine_id, lock=True)
            if action in ("off", "restart"):
                self._switch_off(machine)
            if action in ("on", "restart") and machine.state != "running":
                self._switch_on(session, machine)
            return machine

    def _switch_off(self, machine: Machine) -> None:
        if machine.body == "qemu":
            self._switch_off_body(machine)
            return
        guest = self._guests.pop(machine.id, None)
        if guest is not None:
            guest.stop()
        if machine.state == "running":
            machine.console += f"[{_stamp()}] power off\n"
        machine.state = "stopped"
        machine.guest = {**machine.guest, "frozen": False}

    def _switch_off_body(self, machine: Machine) -> None:
        session = Session.object_session(machine)
        assert session is not None
        machine.state = "stopped"
        body = self._bodies.get(machine.id)
        if body is not None and session.scalar(select(Disk.id).where(Disk.held_by == machine.id).limit(1)):
            body.pause()  # its snapshots can be read until they are deleted
        else:
            self._bodies.stop(machine.id)

    def _switch_on(self, session: Session, machine: Machine) -> None:
        if take(session, ("zone-out",), machine.zone):
            raise SiteError(503, "zone-out", f"Zone {machine.zone} is out of service.")
        if take(session, ("boot-fails",), machine.id):
            machine.state = "running"
            machine.console += (
                f"[{_stamp()}] boot: no bootable system found; halted in the initial shell\n(initramfs) _\n"
            )
            return
        if machine.body == "qemu":
            try:
                self._bodies.start(session, machine)
            except MonitorError as error:
                raise SiteError(500, "internal", f"The machine does not start: {error}.") from error
            machine.state = "running"
            self._drop_lost(session)
            return
        medium = session.get(Disk, machine.guest.get("medium", ""))
        boot = self.path(self._disks_in_order(session, machine)[0])
        if medium is not None and is_blank(boot):
            machine.state = "running"
            machine.console += f"[{_stamp()}] boot: the boot disk is blank: the medium boots\n"
            given = (machine.id, boot, self.path(medium), machine.seed)
            threading.Thread(target=self._install, args=given, daemon=True).start()
            return
        try:
            guest = self._attach_guest(session, machine)
            lines = guest.start(machine.seed)
        except (LookupError, OSError) as error:
            machine.state = "running"
            machine.console += f"[{_stamp()}] boot: {error}\n"
            self._guests.pop(machine.id, None)
            return
        machine.state = "running"
        machine.console += "".join(f"[{_stamp()}] {line}\n" for line in ["kernel: boot", *lines, "login: "])

    def _install(self, machine_id: str, boot: Path, medium: Path, volume: bytes | None) -> None:
        """What an installer does while its machine runs; one that cannot go on waits for ever."""
        time.sleep(0.2)  # whoever has switched it on sees it run
        try:
            lines, ended = install(boot, medium, volume), True
        except (LookupError, OSError) as error:
            lines, ended = [str(error)], False
        with self.sessions.begin() as session:
            machine = session.get(Machine, machine_id)
            if machine is not None:
                machine.console += "".join(f"[{_stamp()}] {line}\n" for line in lines)
        if ended:
            self._guest_off(machine_id)

    @staticmethod
    def _disks_in_order(session: Session, machine: Machine) -> list[Disk]:
        query = select(Disk).join(Attachment).where(Attachment.machine_id == machine.id)
        return list(session.scalars(query.order_by(Attachment.position)))

    def _attach_guest(self, session: Session, machine: Machine) -> ModelledGuest:
        boot = self._disks_in_order(session, machine)[0]
        number = machine.id
        try:
            guest = ModelledGuest(
                GuestFacts(
                    number,
                    self.path(boot),
                    machine.address,
                    machine.mac,
                    online=bool(machine.subnet),
                    processors=SIZES[machine.size].processors,
                    memory_mib=SIZES[machine.size].memory_mib,
                ),
                frozen=bool(machine.guest.get("frozen")),
                on_frozen=lambda frozen: self._note_frozen(number, frozen),
                on_off=lambda: self._guest_off(number),
            )
        except LookupError:
            if machine.state != "running":
                raise
            return None  # type: ignore[return-value]  # it was up without an agent before, and still is
        with self._guests_lock:
            self._guests[number] = guest
        return guest

    def _note_frozen(self, machine_id: str, frozen: bool) -> None:
        with self.sessions.begin() as session:
            machine = session.get(Machine, machine_id)
            if machine is not None:
                machine.guest = {**machine.guest, "frozen": frozen}

    def _guest_off(self, machine_id: str) -> None:
        time.sleep(0.05)  # the agent's answer goes out first
        with self.sessions.begin() as session:
            machine = session.get(Machine, machine_id)
            if machine is not None:
                self._switch_off(machine)

    def delete_machine(self, account: Account, machine_id: str, keep: Sequence[str] = ()) -> None:
        """Remove a machine and its disks but for those to keep."""
        with self.sessions.begin() as session:
            machine = self.machine(session, account, machine_id, lock=True)
            self._drop_machine(session, machine, keep)

    def _drop_machine(self, session: Session, machine: Machine, keep: Sequence[str] = ()) -> None:
        self._switch_off(machine)
        for attachment in session.scalars(select(Attachment).where(Attachment.machine_id == machine.id)):
            disk = session.get_one(Disk, attachment.disk_id)
            session.delete(attachment)
            session.flush()
            if disk.id not in keep:
                self._drop_disk(session, disk)
        if machine.body == "qemu":
            for snapshot in session.scalars(select(Disk).where(Disk.held_by == machine.id)):
                self._drop_disk(session, snapshot)
            self._bodies.forget(session, machine)
        session.delete(machine)

    def body(self, machine_id: str) -> QemuBody | None:
        """The QEMU process of a running machine."""
        return self._bodies.get(machine_id)

    def console(self, machine: Machine) -> str:
        """What a machine's serial console shows."""
        if machine.body == "modelled":
            return machine.console
        with self.sessions() as session:
            return self._bodies.console(session, machine)

    def guest(self, machine_id: str) -> ModelledGuest | None:
        """What answers for a running machine."""
        return self._guests.get(machine_id)

    # Happenings behind everybody's back

    def strike(self, kind: str, target: str) -> None:
        """Do at once what a fault of a sudden kind says."""
        with self.sessions.begin() as session:
            if kind in ("machine-dies", "machine-lost", "rename"):
                machine = session.get(Machine, target)
                if machine is None:
                    raise SiteError(404, "not-found", f"There is no machine {target}.")
                if kind == "machine-dies":
                    self._switch_off(machine)
                elif kind == "rename":
                    machine.name += "-renamed"
                else:
                    self._drop_machine(session, machine)
                return
            disk = session.get(Disk, target)
            if disk is None:
                raise SiteError(404, "not-found", f"There is no disk {target}.")
            if kind == "disk-lost":
                self._drop_disk(session, disk)
            else:
                _damage(self.path(disk))


def _damage(path: Path) -> None:
    path.chmod(0o640)
    with path.open("r+b") as file:
        first = os.lseek(file.fileno(), 0, os.SEEK_DATA)
        extents = []
        while True:
            end = os.lseek(file.fileno(), first, os.SEEK_HOLE)
            extents.append((first, end))
            try:
                first = os.lseek(file.fileno(), end, os.SEEK_DATA)
            except OSError:
                break
        start, end = max(extents, key=lambda e: e[1] - e[0])
        file.seek((start + end) // 2)
        file.write(secrets.token_bytes(16384))


def _stamp() -> str:
    return time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime())
