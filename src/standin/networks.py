"""The networks of each region: subnets, firewall sets, public addresses, and whether a packet gets through.

All addresses are from documentation ranges (RFC 5737, RFC 3849); isolated machines have some of the benchmark range
(RFC 2544), which nothing reaches.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from ipaddress import ip_address, ip_network

_PREFIX = {"skerry-1": "192.0.2", "fjord-2": "198.51.100", "lagoon-3": "203.0.113"}
_PUBLIC = {"skerry-1": "2001:db8:5::", "fjord-2": "2001:db8:f::", "lagoon-3": "2001:db8:1a::"}
_MOST_PUBLIC = 4
#: The first addresses of a subnet are its gateway's and the site's own.
_KEPT_BACK = 10


@dataclass(frozen=True)
class Subnet:
    """A part of a network: machines get their addresses from it."""

    name: str
    network: str
    cidr: str

    def addresses(self) -> list[str]:
        """Those that machines may have."""
        first, *_ = network = ip_network(self.cidr)
        return [str(first + n) for n in range(_KEPT_BACK, network.num_addresses - 6)]

    def holds(self, address: str) -> bool:
        """Whether an address is in it."""
        return ip_address(address) in ip_network(self.cidr)


@dataclass(frozen=True)
class Opening:
    """Ports that a firewall set opens to a source."""

    ports: tuple[int, int]
    source: str
    protocol: str = "tcp"


def subnets_of(region: str) -> dict[str, Subnet]:
    """The subnets of a region; machines are in the first one unless they are put into another."""
    prefix = _PREFIX[region]
    found = (Subnet("quays", "tide", f"{prefix}.0/25"), Subnet("office", "tide", f"{prefix}.128/25"))
    return {subnet.name: subnet for subnet in found}


def isolated_addresses() -> Iterable[str]:
    """What isolated machines get; the first of each network are its gateway's and the like."""
    return (f"198.18.{n // 200}.{n % 200 + _KEPT_BACK}" for n in range(50_000))


def firewall_sets(region: str) -> dict[str, tuple[Opening, ...]]:
    """The firewall sets of a region.  A machine without one is reached by nobody."""
    office = subnets_of(region)["office"].cidr
    return {
        "closed": (),
        "web": (Opening((80, 80), "0.0.0.0/0"), Opening((80, 80), "::/0"), Opening((443, 443), "0.0.0.0/0")),
        "office-ssh": (Opening((22, 22), office),),
    }


def public_addresses(region: str) -> list[str]:
    """What an account may have reach its machines by from outside."""
    return [f"{_PUBLIC[region]}{n:x}" for n in range(0x10, 0x10 + _MOST_PUBLIC)]


def admits(region: str, sets: Iterable[str], port: int, source: str) -> bool:
    """Whether any of the firewall sets lets a packet through."""
    known, sender = firewall_sets(region), ip_address(source)
    openings = (opening for name in sets for opening in known.get(name, ()))
    return any(o.ports[0] <= port <= o.ports[1] and sender in ip_network(o.source) for o in openings)
