"""Snapshots of a running machine's disks while its file systems are frozen, and never frozen for long."""

from __future__ import annotations

import os
import time
from collections.abc import Sequence
from dataclasses import dataclass

from bathotype.core.errors import BathotypeError, Refused, Unavailable
from bathotype.core.guest.agent import AgentRefused
from bathotype.service.operations.context import WorkContext
from bathotype.sites.protocol import Site, SiteDisk, SiteMachine
from bathotype.sites.thawguard import ThawGuard

_QUICK = 4.0  # seconds that one agent command may take while the guest may be frozen


@dataclass(frozen=True)
class FrozenSnapshot:
    """The snapshots in the order of the disks, and for how long the guest was frozen, in seconds."""

    disks: list[SiteDisk]
    frozen_seconds: float


def thaw_if_frozen(site: Site, machine: SiteMachine) -> bool:
    """Thaw a guest that an earlier attempt may have left frozen; True where it was.  One that is off is not asked."""
    if machine.state != "running":
        return False
    try:
        with site.agent(machine.id, timeout=_QUICK) as agent:
            return agent.freeze_status() == "frozen" and agent.thaw() > 0
    except BathotypeError:
        return False


def snapshots(
    site: Site,
    disks: Sequence[str],
    key: str,
    name: str,
    tags: dict[str, str],
    *,
    checkpoint: bool = False,
    changes_since: str | None = None,
) -> list[SiteDisk]:
    """A snapshot of each disk; changes are noted of the first, which is the boot disk."""
    boot, *others = disks
    first = site.snapshot(boot, key=key, name=name, tags=tags, checkpoint=checkpoint, changes_since=changes_since)
    return [
        first,
        *(site.snapshot(disk, key=f"{key}/{n}", name=f"{name}-{n}", tags=tags) for n, disk in enumerate(others, 1)),
    ]


def snapshot_of_boot(context: WorkContext, site: Site, machine: SiteMachine, tags: dict[str, str]) -> str:
    """A snapshot of a machine's boot disk, which is frozen for it if it runs; returns its id."""
    boot, key = machine.boot_disk, f"{context.id}/boot/{os.urandom(4).hex()}"
    if boot is None:
        raise Refused(f"{machine.name} has no boot disk.", code="no-boot-disk")
    if machine.state == "running":
        thaw_if_frozen(site, machine)
        taken = snapshot_frozen(context, site, machine, [boot.id], key, tags=tags)
        context.log(f"{machine.name} was frozen for {taken.frozen_seconds:.2f} s.")
        return taken.disks[0].id
    return snapshots(site, [boot.id], key, f"{machine.name}-{context.id}", context.tags(tags))[0].id


def snapshot_frozen(
    context: WorkContext,
    site: Site,
    machine: SiteMachine,
    disks: Sequence[str],
    key: str,
    *,
    tags: dict[str, str],
    checkpoint: bool = False,
    changes_since: str | None = None,
) -> FrozenSnapshot:
    """Freeze, snapshot every disk, thaw.  Whatever happens here, a guard process thaws the guest at the deadline.

    The snapshots count only if the guest was still frozen when they were done; otherwise `Unavailable` is raised,
    they are removed and the step may be tried again.
    """
    address = context.reach.site_address(machine.region, context.account_name)
    deadline = context.settings.freeze_seconds
    name = f"{machine.name}-{context.id}"
    with ThawGuard(address, machine.id, deadline=deadline) as guard, site.agent(machine.id, timeout=_QUICK) as agent:
        guard.start()
        began = time.monotonic()
        try:
            agent.freeze(timeout=deadline)
            context.point("frozen")
            taken = snapshots(
                site, disks, key, name, context.tags(tags), checkpoint=checkpoint, changes_since=changes_since
            )
            still = agent.freeze_status() == "frozen"
        finally:
            try:
                agent.thaw()
                lasted = time.monotonic() - began
                guard.freed()
            except (Unavailable, AgentRefused):
                lasted = deadline  # the guard process keeps trying
    if not still:
        for snapshot in taken:
            site.delete_disk(snapshot.id)
        raise Unavailable(f"The guest was thawed at its deadline of {deadline:.0f} s, before its disks were copied.")
    return FrozenSnapshot(taken, lasted)
