"""Where an instance attaches: what a region's site offers, what a launch asks for, and whether the two fit."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from ipaddress import ip_address, ip_network
from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field, StringConstraints

from bathotype.core.errors import Invalid
from bathotype.core.firstboot.addresses import interface_of
from bathotype.core.units import agree, plural

_Name = Annotated[str, StringConstraints(min_length=1, max_length=100)]


class Attach(BaseModel):
    """Where instances attach; what is left out is the site's default."""

    model_config = ConfigDict(extra="forbid", frozen=True, defer_build=True)

    subnet: _Name | None = Field(default=None, description="A subnet of the region; the site's default if left out.")
    address: _Name | None = Field(default=None, description="A fixed address of the subnet, for one instance.")
    firewalls: list[_Name] = Field(
        default=[], max_length=16, description="Firewall sets, which open ports; without one nothing is open."
    )
    public_address: bool | _Name = Field(
        default=False, description="Whether each instance gets a public address; or which one, for one instance."
    )


@dataclass(frozen=True)
class Subnet:
    """A subnet: its network, its addresses as a prefix (CIDR), and how many of them are free."""

    name: str
    network: str
    cidr: str
    free: int


@dataclass(frozen=True)
class Opening:
    """Ports that a firewall set opens, from one to another, to a source as a prefix."""

    protocol: str
    first: int
    last: int
    source: str

    @property
    def text(self) -> str:
        """``tcp 80 from 0.0.0.0/0``."""
        ports = str(self.first) if self.first == self.last else f"{self.first}-{self.last}"
        return f"{self.protocol} {ports} from {self.source}"


@dataclass(frozen=True)
class FirewallSet:
    """Openings under a name."""

    name: str
    openings: tuple[Opening, ...]


@dataclass(frozen=True)
class PublicAddress:
    """An address that is reached from outside, and the machine that has it."""

    address: str
    machine: str | None


@dataclass(frozen=True)
class Networks:
    """What a region's site offers an account to attach to."""

    subnets: tuple[Subnet, ...]
    firewalls: tuple[FirewallSet, ...]
    public_addresses: tuple[PublicAddress, ...]

    def subnet(self, name: str | None) -> Subnet | None:
        """A subnet by name, the default without one; None where there is none."""
        return next((one for one in self.subnets if name is None or one.name == name), None)


def attach_faults(attach: Attach, offered: Networks, count: int, region: str) -> list[str]:
    """What is wrong with what so many instances ask for, as sentences that say what to do."""
    return [
        *_subnet(attach, offered, count, region),
        *_firewalls(attach, offered, region),
        *_public(attach, offered, count),
    ]


def _subnet(attach: Attach, offered: Networks, count: int, region: str) -> Iterator[str]:
    subnet = offered.subnet(attach.subnet)
    if subnet is None:
        if attach.subnet is not None:
            names = ", ".join(one.name for one in offered.subnets) or "none"
            yield f"Region {region} has no subnet {attach.subnet!r}. Its subnets are {names}."
        return
    if attach.subnet is not None and subnet.free < count:
        yield f"Subnet {subnet.name} has {plural(subnet.free, 'free address')}, for {plural(count, 'instance')}. Take another."
    if attach.address is None:
        return
    if count > 1:
        yield f"{count} instances cannot all have {attach.address}. Leave the address out."
    try:
        address, network = ip_address(attach.address), ip_network(subnet.cidr)
    except ValueError:
        yield f"{attach.address!r} is not an address. Write it as 192.0.2.20."
        return
    if address not in network:
        yield f"{attach.address} is outside of subnet {subnet.name}, which is {subnet.cidr}. Give one of its addresses."
        return
    try:
        interface_of(f"{address}/{network.prefixlen}")
    except Invalid as error:
        yield f"{error.message} {error.advice}"


def _firewalls(attach: Attach, offered: Networks, region: str) -> Iterator[str]:
    known = [one.name for one in offered.firewalls]
    if unknown := [name for name in attach.firewalls if name not in known]:
        yield f"Region {region} has no firewall set {', '.join(unknown)}. Its sets are {', '.join(known) or 'none'}."


def _public(attach: Attach, offered: Networks, count: int) -> Iterator[str]:
    if not attach.public_address:
        return
    free = [one.address for one in offered.public_addresses if one.machine is None]
    if isinstance(attach.public_address, str):
        if count > 1:
            yield f"{count} instances cannot all have {attach.public_address}. Ask for any public address."
        elif attach.public_address not in free:
            yield f"The public address {attach.public_address} is not free. Free are {', '.join(free) or 'none'}."
    elif len(free) < count:
        yield f"{plural(count, 'public address')} would be needed; {len(free)} of them are free. Launch fewer."


def open_to(attach: Attach, offered: Networks) -> list[str]:
    """What will be open, and to whom: ``tcp 80 from 0.0.0.0/0 (web)``."""
    return [
        f"{opening.text} ({one.name})"
        for one in offered.firewalls
        if one.name in attach.firewalls
        for opening in one.openings
    ]


def attach_remarks(attach: Attach, offered: Networks) -> list[str]:
    """What somebody should know of it."""
    if attach.public_address and not open_to(attach, offered):
        return ["It gets a public address, and no firewall set opens a port: nobody reaches it there."]
    return []


def address_remarks(addresses: Sequence[str], subnet: Subnet) -> list[str]:
    """What somebody should know of addresses that first boot sets, with their prefix lengths, on a subnet."""
    there = ip_network(subnet.cidr)
    own = [interface_of(text) for text in addresses]
    if not (strange := [str(one.ip) for one in own if one.version == there.version and one.ip not in there]):
        return []
    shown = ", ".join(strange[:5]) + (f" and {len(strange) - 5} more" if len(strange) > 5 else "")
    verb = agree(len(strange), "is", "are")
    return [
        f"{shown} {verb} set at first boot, outside of subnet {subnet.name} ({subnet.cidr}): nothing is reached by that."
    ]
