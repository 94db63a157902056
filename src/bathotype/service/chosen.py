"""Which of a machine's disks a capture takes: the boot disk, all of them, or those that are named."""

from __future__ import annotations

from collections.abc import Sequence

from bathotype.core.disk.several import MOST_DISKS
from bathotype.core.errors import Refused
from bathotype.core.units import plural
from bathotype.sites.protocol import SiteDisk, SiteMachine


def chosen_disks(machine: SiteMachine, wanted: Sequence[str]) -> tuple[SiteDisk, ...]:
    """The disks to capture, the boot disk first.  Each word is ``boot``, ``all``, or a disk's name or id.

    Raises `Refused` where a machine has no boot disk, no disk of that name, or too many.
    """
    boot = machine.boot_disk
    if boot is None:
        raise Refused(f"{machine.name} has no disk to boot from.", advice="Attach one, or capture another machine.")
    others = [disk for disk in machine.disks if not disk.boot]
    for word in wanted:
        if word not in ("boot", "all") and not any(word in (disk.name, disk.id) for disk in machine.disks):
            names = ", ".join(disk.name for disk in machine.disks)
            raise Refused(
                f"{machine.name} has no disk {word!r}.", advice=f"Its disks are {names}; or name boot, or all."
            )
    taken = [disk for disk in others if "all" in wanted or disk.name in wanted or disk.id in wanted]
    if len(taken) + 1 > MOST_DISKS:
        raise Refused(
            f"{machine.name}: {plural(len(taken) + 1, 'disk')} are more than the {MOST_DISKS} that a version can have.",
            advice="Name those that matter.",
        )
    return boot, *taken
