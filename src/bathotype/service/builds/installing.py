"""The base of a run that an installer lays down: a machine with a blank disk boots from the medium, and reads the answers.

The answers are on a volume of their own, in the place of a first-boot seed.  What was installed is the run's
base disk then.
"""

from __future__ import annotations

import hashlib
import os
import time
from dataclasses import dataclass

from bathotype.core.confined.asking import look
from bathotype.core.errors import Damaged, NotFound, Unavailable
from bathotype.core.firstboot.volume import volume_of
from bathotype.core.lifecycle.networks import Attach
from bathotype.core.sheets.base import InstalledBase
from bathotype.core.units import iec
from bathotype.service.builds.copied import BaseCopy
from bathotype.service.builds.payload import Payload
from bathotype.service.guests.frozen import snapshots
from bathotype.service.guests.power import shut_down, wait_until_off
from bathotype.service.guests.ready import console_tail, wait_for_agent
from bathotype.service.kinds.generalizing import chunks_of
from bathotype.sites.protocol import SiteMachine

_PIECE, _SECTOR = 4 * 1024 * 1024, 1024 * 1024
_MOST_ANSWERS = 2 * 1024 * 1024


@dataclass(frozen=True)
class Installing:
    """The installation of one run; what it makes is kept with ``base``."""

    base: BaseCopy
    wants: InstalledBase
    payload: Payload
    machine_size: str
    zone: str | None
    isolated: bool
    attach: Attach

    @property
    def _name(self) -> str:
        return f"install-{self.base.context.id}"

    def remove(self) -> None:
        """Remove the machine, also one that a crash left."""
        site = self.base.site
        machine = site.machine_named(self.base.region, self._name)
        if machine is not None:
            site.delete_machine(machine.id)

    def install(self) -> None:
        """Run the installer to its end, and keep what it has laid down."""
        context, site = self.base.context, self.base.site
        self.remove()
        self.base.begin()
        context.reader.start()
        volume = volume_of(self.wants.volume, self._answers())
        machine = self._machine()
        site.set_seed(machine.id, volume)
        site.power(machine.id, "on")
        context.log(f"A machine with a blank disk of {iec(self.wants.disk_bytes)} boots from {self.wants.medium}.")
        self._wait(machine)
        self._keep(site.machine(machine.id))
        self.remove()

    def _answers(self) -> dict[str, bytes]:
        found, left = {}, _MOST_ANSWERS
        for name, file in self.wants.answers.items():
            left -= self.payload.files[file].bytes
            if left < 0:
                raise Damaged(
                    f"The answers have more than {iec(_MOST_ANSWERS)}.", advice="Leave out what is no answer."
                )
            source = self.payload.open(file)
            found[name] = source.read(0, source.size)
            self._compare(file, hashlib.sha256(found[name]).hexdigest())
        return found

    def _machine(self) -> SiteMachine:
        """With the blank disk, and the medium behind it."""
        base, context, site = self.base, self.base.context, self.base.site
        tags, key = context.tags(dict(base.tags)), f"{context.id}/install/{os.urandom(4).hex()}"
        source, sums = self.payload.open(self.wants.medium), hashlib.sha256()
        medium = site.create_disk(
            base.region,
            -(-source.size // _SECTOR) * _SECTOR,
            key=f"{key}/medium",
            name=f"{self._name}-medium",
            tags=tags,
        )
        with site.open_disk(medium.id, writable=True) as target:
            for at in range(0, source.size, _PIECE):
                piece = source.read(at, min(_PIECE, source.size - at))
                sums.update(piece)
                target.write(at, piece)
                context.progress(min(at + _PIECE, source.size), source.size)
            target.flush()
        self._compare(self.wants.medium, sums.hexdigest())
        blank = site.create_disk(
            base.region, self.wants.disk_bytes, key=f"{key}/blank", name=f"{self._name}-blank", tags=tags
        )
        site.seal(blank.id)
        return site.create_machine(
            key=key, name=self._name, region=base.region, zone=self.zone, machine_size=self.machine_size,
            boot_disk=blank.id, medium=medium.id, attach=self.attach, isolated=self.isolated, tags=tags,
        )  # fmt: skip

    def _compare(self, file: str, sha256: str) -> None:
        if sha256 != self.payload.files[file].sha256:
            raise Damaged(f"{file} of the payload was changed meanwhile.", advice="Lock it anew, and run again.")

    def _wait(self, machine: SiteMachine) -> None:
        context, site, seconds = self.base.context, self.base.site, self.wants.seconds
        began = time.monotonic()
        if self.wants.ready == "agent":
            wait_for_agent(site, machine.id, seconds=seconds, check=context.check, code="not-installed")
            shut_down(context, site, machine.id)
        elif not wait_until_off(site, machine.id, seconds, check=context.check):
            tail = " | ".join(console_tail(site, machine.id))
            raise Unavailable(
                f"The installer has not shut its machine down within {seconds} s. Its console ends: {tail}",
                advice="See whether it waits for an answer; or give it longer by `seconds`.",
                code="not-installed",
            )
        context.log(f"The installer has ended after {time.monotonic() - began:.0f} s.")

    def _keep(self, machine: SiteMachine) -> None:
        """The machine's boot disk as the run's base disk.  Raises `Damaged` where nothing is on it."""
        base, context, site = self.base, self.base.context, self.base.site
        boot = machine.boot_disk
        if boot is None:
            raise NotFound(f"{machine.name} has no boot disk any more.")
        key = f"{context.id}/installed/{os.urandom(4).hex()}"
        [taken] = snapshots(site, [boot.id], key, f"{self._name}-disk", context.tags(dict(base.tags)))
        with site.open_disk(taken.id) as raw:
            found = look(context.reader, raw)
            if not len(found.used):
                raise Damaged("The installer has left the disk blank.", advice="See what its console says.")
            disk = found.settled(raw)
            base.disk.digest, base.disk.bytes = chunks_of(disk, found.used).content_digest, disk.size
        roots = [v.length for v in found.layout.volumes if v.filesystem == "ext4"]
        base.disk.root_bytes, base.disk.site_disk = max(roots, default=0), taken.id
        base.save()
