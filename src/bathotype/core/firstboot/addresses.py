"""Addresses of many instances: lists and ranges, from which each instance takes one.

An address is written with its prefix length (RFC 4632), ``192.0.2.9/24``; a range as ``192.0.2.10-192.0.2.19/24``.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence, Set
from ipaddress import IPv4Interface, IPv6Interface, ip_interface

from bathotype.core.errors import Invalid

Interface = IPv4Interface | IPv6Interface
#: The most addresses that one range may hold.
_MOST = 65536


def interface_of(text: str) -> Interface:
    """An address with its prefix length.  Raises `Invalid` for anything else, and for one that no host can have."""
    try:
        found = ip_interface(text.strip())
    except ValueError:
        found = None
    if found is None or "/" not in text:
        raise Invalid(f"{text!r} is not an address with its prefix length.", advice="Write it as 192.0.2.9/24.")
    network = found.network
    if network.num_addresses > 2 and found.ip in (network.network_address, network.broadcast_address):
        kind = "the network itself" if found.ip == network.network_address else "the broadcast address"
        raise Invalid(f"{text} is {kind} of {network}.", advice="Give an address of a host.")
    # Asked of the address alone: with its network, 0.0.0.0/32 and ::1/64 would pass.
    if found.ip.is_loopback or found.ip.is_multicast or found.ip.is_unspecified:
        raise Invalid(f"{text} is no address that a machine can have on a network.")
    return found


def _range(text: str) -> Iterator[Interface]:
    first, dash, rest = text.partition("-")
    if not dash:
        yield interface_of(text)
        return
    last = interface_of(rest)
    begin = interface_of(f"{first.strip()}/{last.network.prefixlen}")
    if begin.network != last.network:
        raise Invalid(f"The range {text} begins in another network than it ends in.")
    count = int(last.ip) - int(begin.ip) + 1
    if count < 1:
        raise Invalid(f"The range {text} ends before it begins.")
    if count > _MOST:
        raise Invalid(f"The range {text} holds more than {_MOST} addresses.")
    for number in range(count):
        yield interface_of(f"{begin.ip + number}/{last.network.prefixlen}")


def addresses_in(pool: Sequence[str]) -> list[Interface]:
    """Every address of a pool, in its order, each once.  Raises `Invalid`."""
    found: dict[Interface, None] = {}
    for text in pool:
        for one in _range(text):
            found[one] = None
            if len(found) > _MOST:
                raise Invalid(f"The pool holds more than {_MOST} addresses.")
    return list(found)


def take(pool: Sequence[str], count: int, taken: Set[str]) -> list[str]:
    """The first ``count`` addresses of a pool that are not among ``taken`` (without prefix length).

    Fewer where there are not so many.  Raises `Invalid`.
    """
    free = (one for one in addresses_in(pool) if str(one.ip) not in taken)
    return [str(one) for _, one in zip(range(count), free, strict=False)]
