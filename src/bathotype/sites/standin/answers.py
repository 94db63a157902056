"""What a stand-in may answer: shape, types, lengths and names, checked before anything is done with it.

A site is foreign: whoever runs it may have written the answers.
"""

from __future__ import annotations

from ipaddress import ip_network
from typing import Annotated, TypeVar

from pydantic import AfterValidator, AwareDatetime, BaseModel, ConfigDict, Field, StringConstraints

from bathotype.core.contents.platform import PlatformOffered
from bathotype.core.forms import form
from bathotype.core.guest.answers import plain
from bathotype.core.lifecycle.networks import FirewallSet, Networks, Opening, PublicAddress, Subnet
from bathotype.core.lifecycle.purpose import SizeOffered
from bathotype.sites.protocol import SiteDisk, SiteLimits, SiteMachine

#: What an id must look like: it becomes part of an address.
ID = form(r"^[A-Za-z0-9_-]{1,100}$", "an id of letters, digits, _ and -")

_T = TypeVar("_T")
Id = Annotated[str, StringConstraints(pattern=ID)]
Line = Annotated[str, StringConstraints(max_length=1000), AfterValidator(plain)]
Number = Annotated[int, Field(ge=0, lt=1 << 63)]
Port = Annotated[int, Field(ge=0, lt=1 << 16)]
Few = Annotated[list[_T], Field(max_length=1000)]
Named = Annotated[dict[Line, _T], Field(max_length=1000)]


def _prefix(text: str) -> str:
    ip_network(text)
    return text


Prefix = Annotated[Line, AfterValidator(_prefix)]


class _Answer(BaseModel):
    model_config = ConfigDict(frozen=True)


class Disk(_Answer):
    """A disk, a snapshot or a base disk."""

    id: Id
    name: Line
    size: Number
    kind: Line = "disk"
    boot: bool = False
    changes_known: bool = False
    tags: Named[Line] = {}

    def disk(self) -> SiteDisk:
        """The same in the words of every site."""
        return SiteDisk(self.id, self.name, self.size, self.kind, self.boot, self.changes_known, self.tags)


class Machine(_Answer):
    """A machine with its disks."""

    id: Id
    name: Line
    region: Line
    zone: Line
    size: Line
    state: Line
    address: Line
    tags: Named[Line]
    disks: Few[Disk]
    created_from: Id | None
    created_at: AwareDatetime
    mac: Line
    subnet: Line = ""
    firewalls: Few[Line] = []
    public_address: Line | None = None

    def machine(self) -> SiteMachine:
        """The same in the words of every site."""
        return SiteMachine(
            self.id,
            self.name,
            self.region,
            self.zone,
            self.size,
            "running" if self.state == "running" else "stopped",
            self.address,
            self.tags,
            tuple(d.disk() for d in self.disks),
            self.created_from,
            self.created_at,
            self.mac,
            self.subnet,
            tuple(self.firewalls),
            self.public_address,
        )


class MachinePage(_Answer):
    """A page of machines, and after which id the next one begins."""

    items: Few[Machine]
    after: Id | None


class DiskPage(_Answer):
    """A page of disks, and after which id the next one begins."""

    items: Few[Disk]
    after: Id | None


class Export(_Answer):
    """A disk that is offered over NBD.  The address names a host: a path would be one of this machine's own sockets."""

    id: Id
    address: Annotated[
        str, StringConstraints(pattern=form(r"^nbd://", "an address that begins with nbd://"), max_length=1000)
    ]
    changes_context: Line | None = None


class _Platform(_Answer):
    boot: Few[Line] = []
    architectures: Few[Line] = []
    trusted_module: bool = True
    disk_buses: Few[Line] = []
    network_cards: Few[Line] = []


class _Region(_Answer):
    zones: Few[Line]
    machines: _Platform = _Platform()


class _Size(_Answer):
    processors: Number
    memory_mib: Number


class About(_Answer):
    """What there is at the site."""

    regions: Named[_Region]
    sizes: Named[_Size]
    largest_disk: Number
    demanded_tags: Few[Line]


class _Used(_Answer):
    used: Number
    most: Number


Quota = Named[_Used]


def limits(about: About, quota: dict[str, _Used]) -> SiteLimits:
    """What there is and how much of it, in the words of every site."""
    return SiteLimits(
        {name: tuple(region.zones) for name, region in about.regions.items()},
        {name: SizeOffered(size.processors, size.memory_mib) for name, size in about.sizes.items()},
        about.largest_disk,
        tuple(about.demanded_tags),
        {name: (one.used, one.most) for name, one in quota.items()},
        {
            name: PlatformOffered(
                tuple(region.machines.boot),
                tuple(region.machines.architectures),
                region.machines.trusted_module,
                tuple(region.machines.disk_buses),
                tuple(region.machines.network_cards),
            )
            for name, region in about.regions.items()
        },
    )


class _Subnet(_Answer):
    name: Line
    network: Line
    cidr: Prefix
    free: Number


class _Opening(_Answer):
    protocol: Line
    first: Port
    last: Port
    source: Prefix


class _Firewall(_Answer):
    name: Line
    openings: Few[_Opening]


class _PublicAddress(_Answer):
    address: Line
    machine: Line | None


class NetworksOfRegion(_Answer):
    """What machines of a region can be attached to."""

    subnets: Few[_Subnet]
    firewalls: Few[_Firewall]
    public_addresses: Annotated[list[_PublicAddress], Field(max_length=100_000)]

    def networks(self) -> Networks:
        """The same in the words of every site."""
        return Networks(
            tuple(Subnet(s.name, s.network, s.cidr, s.free) for s in self.subnets),
            tuple(
                FirewallSet(f.name, tuple(Opening(o.protocol, o.first, o.last, o.source) for o in f.openings))
                for f in self.firewalls
            ),
            tuple(PublicAddress(a.address, a.machine) for a in self.public_addresses),
        )


class Refusal(_Answer):
    """Why a request was not done (RFC 9457)."""

    detail: Line = ""
    code: Annotated[
        str, StringConstraints(pattern=form(r"^[a-z0-9-]{0,60}$", "a code of lower-case letters, digits and hyphens"))
    ] = ""
