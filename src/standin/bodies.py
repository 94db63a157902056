"""The real guests of a stand-in: which machine is which QEMU process, and on what files it runs."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Callable
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from standin.qemubody import BodyFacts, QemuBody
from standin.qmp import MonitorError
from standin.records import Attachment, Disk, Machine
from standin.world import SIZES


class Bodies:
    """QEMU processes by machine.  ``path`` says where a disk's file lies, ``on_off`` hears of guests that shut down."""

    def __init__(self, folder: Path, path: Callable[[Disk], Path], on_off: Callable[[str], None]) -> None:
        self._folder, self._path, self._on_off = folder, path, on_off
        self._running: dict[str, QemuBody] = {}
        self._lock = threading.Lock()

    def get(self, machine_id: str) -> QemuBody | None:
        """The process of a machine, None where it has none."""
        return self._running.get(machine_id)

    def _body(self, session: Session, machine: Machine) -> QemuBody:
        disks = session.scalars(
            select(Disk).join(Attachment).where(Attachment.machine_id == machine.id).order_by(Attachment.position)
        )
        size = SIZES[machine.size]
        facts = BodyFacts(
            machine.id,
            self._folder / machine.id,
            tuple((d.id, self._path(d), d.format) for d in disks),
            machine.address,
            machine.mac,
            size.processors,
            size.memory_mib,
            machine.guest.get("medium"),
        )
        number = machine.id
        return QemuBody(facts, on_off=lambda: self._on_off(number))

    def take_up(self, session: Session, machine: Machine) -> bool:
        """Go on with the process that an earlier life of the stand-in left running; False where there is none."""
        body = self._body(session, machine)
        if body.pid is None:
            return False
        try:
            body.attach()
        except MonitorError:
            body.stop()
            return False
        with self._lock:
            self._running[machine.id] = body
        return True

    def start(self, session: Session, machine: Machine) -> None:
        """Switch a machine on.  Raises `MonitorError`."""
        self.stop(machine.id)
        body = self._body(session, machine)
        body.start(machine.seed)
        with self._lock:
            self._running[machine.id] = body

    def stop(self, machine_id: str) -> None:
        """Switch a machine off; one that is off already is fine."""
        with self._lock:
            body = self._running.pop(machine_id, None)
        if body is not None:
            body.stop()

    def forget(self, session: Session, machine: Machine) -> None:
        """Switch off and remove what is left in files."""
        self.stop(machine.id)
        self._body(session, machine).forget()

    def console(self, session: Session, machine: Machine) -> str:
        """The serial console's text."""
        body = self.get(machine.id) or self._body(session, machine)
        return body.console

    def stop_all(self) -> None:
        """Switch everything off."""
        for machine_id in list(self._running):
            with contextlib.suppress(MonitorError):
                self.stop(machine_id)
