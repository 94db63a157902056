"""A machine for the time of an operation: made of a version's base disk, used when its first boot is finished, removed."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from typing import Protocol

from bathotype.core.firstboot.seed import build_seed
from bathotype.core.firstboot.settings import FirstBoot
from bathotype.core.generalize.profile import AnswerFile
from bathotype.core.lifecycle.networks import Attach
from bathotype.service.guests.ready import wait_until_booted
from bathotype.service.operations.context import WorkContext
from bathotype.sites.protocol import SiteMachine


class ReadyDisks(Protocol):
    """Disks at the site that a machine's are cloned of: the boot disk's, and those of data disks."""

    @property
    def site_disk(self) -> str | None:
        """The boot disk's id."""
        ...

    @property
    def data_disks(self) -> Sequence[str]:
        """The ids of the others."""
        ...

    @property
    def zone(self) -> str:
        """Where they are; empty where that does not matter."""
        ...


class MadeFrom(Protocol):
    """What a temporary machine is made from."""

    def ensure(self) -> bool | None:
        """Make sure that the site has its disks, verified; False where it had them."""
        ...

    def chosen(self, zone: str | None) -> AbstractContextManager[ReadyDisks]:
        """The disks to clone, which stay for the time of the block; those in a zone are preferred."""
        ...


@dataclass(frozen=True)
class TemporaryMachine:
    """Where it runs and what it is made of.  There is one of a name at a time."""

    context: WorkContext
    made_from: MadeFrom
    region: str
    name: str
    size: str
    zone: str | None
    isolated: bool
    tags: Mapping[str, str]
    ready_seconds: float
    boot_bytes: int | None = None
    attach: Attach | None = None

    def ensure_base(self) -> bool | None:
        """Make sure that the site has a verified base disk; False where it had one."""
        return self.made_from.ensure()

    def remove(self) -> None:
        """Remove it, also one that a crash left."""
        site = self.context.site(self.region)
        machine = site.machine_named(self.region, self.name)
        if machine is not None:
            site.delete_machine(machine.id)

    def make(
        self, seed_id: str, settings: FirstBoot, answers: AnswerFile | None = None,
        secrets: Mapping[str, str] | None = None,
    ) -> SiteMachine:  # fmt: skip
        """A new one, seeded and switched on, in the place of an older one.  ``secrets`` are the values that its first boot
        is given, by their names."""
        self.remove()
        context, site = self.context, self.context.site(self.region)
        with self.made_from.chosen(self.zone) as base:
            machine = site.create_machine(
                key=f"{seed_id}/{time.time_ns()}",
                name=self.name,
                region=self.region,
                zone=self.zone or base.zone or None,
                machine_size=self.size,
                boot_disk=str(base.site_disk),
                data_disks=base.data_disks,
                boot_bytes=self.boot_bytes,
                attach=self.attach,
                isolated=self.isolated,
                tags=context.tags(dict(self.tags)),
            )
        seed = build_seed(
            settings, instance_id=seed_id, host_name=self.name, mac=machine.mac, answers=answers, secrets=secrets or {}
        )
        site.set_seed(machine.id, seed.volume())
        site.power(machine.id, "on")
        return machine

    def wait(self, machine: str, seed_id: str, *, named: bool = False, check: Callable[[], None] | None = None) -> None:
        """Wait until its first boot is finished.  Raises `Unavailable` with the end of its console.

        ``named`` says that its system takes its name from the seed, whether or not its files can be read.  ``check`` is
        called meanwhile, and may raise to stop.
        """
        wait_until_booted(
            self.context.site(self.region), machine, seed_id, host_name=self.name if named else "",
            seconds=self.ready_seconds, check=check or self.context.check,
        )  # fmt: skip
