"""What Bathotype asks of a site, whatever its make."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, Literal, Protocol

from bathotype.core.contents.platform import PlatformOffered
from bathotype.core.guest.agent import GuestAgent
from bathotype.core.lifecycle.networks import Attach, Networks
from bathotype.core.lifecycle.purpose import SizeOffered


@dataclass(frozen=True)
class SiteDisk:
    """A disk, snapshot or base disk at a site; ``size`` in bytes.  ``changes_known`` marks a snapshot that knows
    what changed since the checkpoint that was named when it was taken."""

    id: str
    name: str
    size: int
    kind: str = "disk"
    boot: bool = False
    changes_known: bool = False
    tags: dict[str, str] = field(default_factory=dict)


MachineState = Literal["running", "stopped"]


@dataclass(frozen=True)
class SiteMachine:
    """A virtual machine at a site.  ``created_from`` is the base disk or snapshot that its boot disk was cloned of."""

    id: str
    name: str
    region: str
    zone: str
    machine_size: str
    state: MachineState
    address: str
    tags: dict[str, str]
    disks: tuple[SiteDisk, ...]
    created_from: str | None
    created_at: datetime
    mac: str = ""
    subnet: str = ""
    firewalls: tuple[str, ...] = ()
    public_address: str | None = None

    @property
    def boot_disk(self) -> SiteDisk | None:
        """The disk that it boots from."""
        return next((d for d in self.disks if d.boot), None)


@dataclass(frozen=True)
class SiteLimits:
    """What a site allows an account: largest disk in bytes, tags that it demands, quotas as (used, most)."""

    regions: dict[str, tuple[str, ...]]
    machine_sizes: dict[str, SizeOffered]
    largest_disk: int
    demanded_tags: tuple[str, ...]
    quotas: dict[str, tuple[int, int]]
    #: What machines of each region have; nothing is known of a region that is left out.
    platforms: dict[str, PlatformOffered] = field(default_factory=dict)

    def platform(self, region: str) -> PlatformOffered:
        """What machines of a region have, as far as the site reports it."""
        return self.platforms.get(region, PlatformOffered())


class Site(Protocol):
    """One account's view of a site.

    Every creating call takes a ``key``: repeated with the same key, it returns what the first one made.
    Removing what is gone already succeeds.  Errors: `NotFound`, `Refused` (with the site's own words),
    `Unavailable` after retries.
    """

    def limits(self, region: str | None = None) -> SiteLimits:
        """Regions, sizes, rules and quotas.  With a region, `Unavailable` where that is out."""
        ...

    def networks(self, region: str) -> Networks:
        """Subnets, firewall sets and public addresses of a region."""
        ...

    def machines(self, region: str) -> Iterator[SiteMachine]:
        """All machines of a region in ascending order of their ids, a page of memory at a time."""
        ...

    def machine(self, machine: str) -> SiteMachine:
        """One machine by id."""
        ...

    def machine_named(self, region: str, name: str) -> SiteMachine | None:
        """One machine by name."""
        ...

    def console(self, machine: str) -> str:
        """The serial console's text so far."""
        ...

    def agent(self, machine: str, *, timeout: float = 10.0) -> AbstractContextManager[GuestAgent]:
        """A conversation with a machine's guest agent, synchronised.  Raises `AgentSilent`."""
        ...

    def disks(self, region: str, *, tag: tuple[str, str]) -> Iterator[SiteDisk]:
        """Disks, snapshots and base disks that carry a tag."""
        ...

    def snapshot(
        self,
        disk: str,
        *,
        key: str,
        name: str,
        tags: dict[str, str],
        checkpoint: bool = False,
        changes_since: str | None = None,
    ) -> SiteDisk:
        """A copy of a disk at this moment.  With ``checkpoint`` the site notes changes from now on, where it can;
        ``changes_since`` is the id of an earlier snapshot taken so."""
        ...

    def create_disk(
        self,
        region: str,
        size: int,
        *,
        key: str,
        name: str,
        tags: dict[str, str],
        zone: str = "",
        source: str | None = None,
    ) -> SiteDisk:
        """An empty disk, or a copy of another one; in a zone where one is named."""
        ...

    def grant_disk(self, disk: str, account: str) -> None:
        """Let another account make machines from a base disk, and nothing else."""
        ...

    def revoke_disk(self, disk: str, account: str) -> None:
        """End that."""
        ...

    def seal(self, disk: str) -> None:
        """Make a disk a base disk: never written again, cloned at will."""
        ...

    def delete_disk(self, disk: str) -> None:
        """Remove a disk, snapshot or base disk."""
        ...

    def open_disk(self, disk: str, *, writable: bool = False) -> AbstractContextManager[Any]:
        """A disk's bytes over NBD, for the time of the block: an `NbdDisk` to write to, else an `NbdPool`, which also
        reports the changes that the site knows of."""
        ...

    def create_machine(
        self,
        *,
        key: str,
        name: str,
        region: str,
        zone: str | None,
        machine_size: str,
        boot_disk: str,
        boot_bytes: int | None = None,
        data_disks: Sequence[str] = (),
        medium: str | None = None,
        attach: Attach | None = None,
        isolated: bool = False,
        tags: dict[str, str],
    ) -> SiteMachine:
        """A machine whose boot disk is a clone of a base disk or snapshot; it is off until started.

        ``boot_bytes`` makes the clone larger: it reads as zeros behind what was cloned.  ``data_disks`` are unused
        disks that become the machine's own, or base disks and snapshots, which are cloned. ``medium`` is an unused disk
        that it boots from while its boot disk is blank: it reads it as a removable medium that cannot be written.  It
        becomes the machine's own too. An isolated machine is on a network of its own: it reaches nothing, and nothing
        reaches it."""
        ...

    def set_seed(self, machine: str, volume: bytes) -> None:
        """Attach a first-boot seed volume."""
        ...

    def power(self, machine: str, action: str) -> None:
        """``on``, ``off`` or ``restart``; what is so already stays so."""
        ...

    def delete_machine(self, machine: str, *, keep: Sequence[str] = ()) -> None:
        """Remove a machine and its disks, but for those to keep, which are unused then."""
        ...
