"""A machine for the time of an operation: made of a version's base disk, used when its first boot is finished, removed."""

from __future__ import annotations

import time
from collections.abc import Mapping
from dataclasses import dataclass

from bathotype.core.firstboot.seed import build_seed
from bathotype.core.firstboot.settings import FirstBoot
from bathotype.core.generalize.profile import AnswerFile
from bathotype.service.guests.ready import wait_until_booted
from bathotype.service.kinds.basedisks import BaseDisks
from bathotype.service.operations.context import WorkContext
from bathotype.sites.protocol import SiteMachine


@dataclass(frozen=True)
class TemporaryMachine:
    """Where it runs and what it is made of.  There is one of a name at a time."""

    context: WorkContext
    bases: BaseDisks
    region: str
    name: str
    size: str
    zone: str | None
    isolated: bool
    tags: Mapping[str, str]
    ready_seconds: float
    boot_bytes: int | None = None

    def ensure_base(self) -> bool | None:
        """Make sure that the site has a verified base disk; False where it had one."""
        if self.bases.ready():
            return False
        self.bases.lock()
        if self.bases.ready():
            return False
        self.bases.make_first()
        return None

    def remove(self) -> None:
        """Remove it, also one that a crash left."""
        site = self.context.site(self.region)
        machine = site.machine_named(self.region, self.name)
        if machine is not None:
            site.delete_machine(machine.id)

    def make(self, seed_id: str, settings: FirstBoot, answers: AnswerFile | None = None) -> SiteMachine:
        """A new one, seeded and switched on, in the place of an older one."""
        self.remove()
        context, site = self.context, self.context.site(self.region)
        with self.bases.least_busy(self.zone) as base:
            self.bases.grant(base, context.account_name)
            machine = site.create_machine(
                key=f"{seed_id}/{time.time_ns()}",
                name=self.name,
                region=self.region,
                zone=self.zone or base.zone or None,
                machine_size=self.size,
                boot_disk=str(base.site_disk),
                data_disks=base.data_disks,
                boot_bytes=self.boot_bytes,
                isolated=self.isolated,
                tags=context.tags(dict(self.tags)),
            )
        seed = build_seed(settings, instance_id=seed_id, host_name=self.name, mac=machine.mac, answers=answers)
        site.set_seed(machine.id, seed.volume())
        site.power(machine.id, "on")
        return machine

    def wait(self, machine: str, seed_id: str, *, named: bool = False) -> None:
        """Wait until its first boot is finished.  Raises `Unavailable` with the end of its console.

        ``named`` says that its system takes its name from the seed, whether or not its files can be read.
        """
        wait_until_booted(
            self.context.site(self.region), machine, seed_id, host_name=self.name if named else "",
            seconds=self.ready_seconds, check=self.context.check,
        )  # fmt: skip
