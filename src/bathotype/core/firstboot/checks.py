"""What is wrong with first-boot settings, beyond their form; and what a guest made of them."""

from __future__ import annotations

import base64
import binascii
import struct
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cache
from ipaddress import ip_address
from zoneinfo import available_timezones

import yaml

from bathotype.core.errors import Invalid
from bathotype.core.firstboot.addresses import Interface, addresses_in, interface_of
from bathotype.core.firstboot.settings import FirstBoot, Network, User
from bathotype.core.units import iec

_MOST_USER_DATA = 65536


def faults(settings: FirstBoot, *, count: int = 1) -> list[str]:
    """Everything that is wrong with settings for so many instances, as sentences that say what to do."""
    return [
        *_network(settings.network, count), *_zone(settings), *_users(settings), *_secrets(settings),
        *_user_data(settings.user_data),
    ]  # fmt: skip


def _secrets(settings: FirstBoot) -> Iterator[str]:
    places = [one.place for one in settings.secrets]
    for place in sorted({one for one in places if places.count(one) > 1}):
        yield f"Two secrets go to {place}. Give each a path of its own."


def _zone(settings: FirstBoot) -> Iterator[str]:
    known = _zones()
    if settings.time_zone and known and settings.time_zone not in known:
        near = sorted(z for z in known if z.partition("/")[0] == settings.time_zone.partition("/")[0])
        some = f" Zones begin like {', '.join(near[:3])}." if near else ""
        yield f"There is no time zone {settings.time_zone!r}.{some} Give a name of the tz database, such as Etc/UTC."


@cache
def _zones() -> frozenset[str]:
    return frozenset(available_timezones())


def _network(network: Network, count: int) -> Iterator[str]:
    yield from _resolvers(network)
    if network.mode == "dhcp":
        if network.addresses or network.pool or network.gateway:
            yield "Addresses and a gateway were given, but the network's mode is dhcp. Give mode: static."
        return
    if not network.addresses and not network.pool:
        yield "The network is static, and no address is given. Give `addresses`, or a `pool` for many instances."
        return
    if network.addresses and network.pool:
        yield "Both `addresses` and a `pool` are given. Give one of them."
        return
    if network.addresses and count > 1:
        yield f"{count} instances cannot all have {network.addresses[0]}. Give a `pool`: one address for each instance."
    try:
        own = addresses_in(network.pool) if network.pool else [interface_of(text) for text in network.addresses]
    except Invalid as error:
        yield str(error)
        return
    if len(own) < count and network.pool:
        yield f"The pool holds {len(own)} addresses, for {count} instances. Give a larger one."
    if network.gateway:
        yield from _gateway(network.gateway, own)


def _gateway(text: str, own: list[Interface]) -> Iterator[str]:
    try:
        gateway = ip_address(text)
    except ValueError:
        yield f"The gateway {text!r} is not an address. Write it as 192.0.2.1."
        return
    networks = sorted({str(one.network) for one in own})
    if not any(gateway in one.network for one in own if one.version == gateway.version):
        yield f"The gateway {text} is outside of {', '.join(networks)}. Give one that the instances can reach."
    elif any(gateway == one.ip for one in own):
        yield f"The gateway {text} is one of the instances' own addresses. Leave it out of the pool."


def _resolvers(network: Network) -> Iterator[str]:
    for text in network.name_servers:
        try:
            ip_address(text)
        except ValueError:
            yield f"The name server {text!r} is not an address. Write it as 192.0.2.53."


def _users(settings: FirstBoot) -> Iterator[str]:
    names = [user.name for user in settings.users]
    for name in sorted({name for name in names if names.count(name) > 1}):
        yield f"The user {name} is given twice. Give each user once."
    for key, whose in _keys(settings):
        if why := _key_fault(key):
            yield f"A key of {whose} is not an SSH public key: {why}. Copy the whole line of the file that ends in .pub."


def _keys(settings: FirstBoot) -> Iterator[tuple[str, str]]:
    yield from ((key, "the default user") for key in settings.ssh_public_keys)
    for user in settings.users:
        yield from ((key, user.name) for key in user.ssh_public_keys)


def _key_fault(key: str) -> str:
    """Why a line of authorized_keys(5) is no key: its blob (RFC 4253, section 6.6) names the same type."""
    kind, _, rest = key.strip().partition(" ")
    try:
        blob = base64.b64decode(rest.split()[0], validate=True)
        length = struct.unpack_from(">I", blob)[0]
    except (binascii.Error, struct.error, IndexError, ValueError):
        return "it is cut short"
    if blob[4 : 4 + length] != kind.encode() or (kind == "ssh-ed25519" and len(blob) != 51):
        return "it is damaged, or cut short"
    return ""


def _user_data(text: str | None) -> Iterator[str]:
    if text is None:
        return
    if len(text.encode()) > _MOST_USER_DATA:
        yield f"The user data has {len(text.encode())} bytes; {_MOST_USER_DATA} at most can be passed on."
    if text.startswith("#cloud-config"):
        try:
            data = yaml.safe_load(text)
        except (yaml.YAMLError, RecursionError, ValueError) as error:
            mark = getattr(error, "problem_mark", None)
            where = f" (line {mark.line + 1})" if mark else ""
            yield f"The user data says that it is #cloud-config, but it is not YAML{where}. Correct it."
            return
        if data is not None and not isinstance(data, dict):
            yield "The user data says that it is #cloud-config, but it holds no settings. Write it as KEY: VALUE."


@dataclass(frozen=True)
class Seen:
    """What a guest reports of itself after its first boot; None where it cannot."""

    host_name: str
    addresses: tuple[str, ...]
    time_zone: str | None = None
    users: frozenset[str] | None = None
    #: Keys that may log in, by user, each as its type and blob.
    keys: dict[str, frozenset[str]] = field(default_factory=dict)
    #: Size of the file system that is mounted at ``/``, in bytes.
    root_bytes: int | None = None


def key_of(line: str) -> str:
    """A public key without its comment: what two lines for one key have in common."""
    return " ".join(line.split()[:2])


def differences(settings: FirstBoot, host_name: str, seen: Seen, *, least_root: int = 0) -> list[str]:
    """What was asked for and is not there, as sentences; ``least_root`` is how large its file system should be at
    least."""
    found = []
    if seen.root_bytes is not None and seen.root_bytes < least_root:
        about = f"Its file system has {iec(seen.root_bytes)}; it should have about {iec(least_root)} or more"
        found.append(f"{about}: it did not grow with the boot disk.")
    if seen.host_name.partition(".")[0] != host_name:
        found.append(f"Its host name is {seen.host_name}, not {host_name}.")
    if settings.network.mode == "static":
        wanted = [str(interface_of(text).ip) for text in settings.network.addresses]
        if missing := [one for one in wanted if one not in seen.addresses]:
            found.append(f"It does not have the address {', '.join(missing)}; it has {', '.join(seen.addresses)}.")
    if settings.time_zone and seen.time_zone is not None and seen.time_zone != settings.time_zone:
        found.append(f"Its time zone is {seen.time_zone or 'not set'}, not {settings.time_zone}.")
    if seen.users is not None:
        found += [f"It has no user {user.name}." for user in settings.users if user.name not in seen.users]
    for user in settings.users:
        found += _missing_keys(user, seen)
    return found


def _missing_keys(user: User, seen: Seen) -> list[str]:
    held = seen.keys.get(user.name)
    if held is None:
        return []
    missing = sum(key_of(key) not in held for key in user.ssh_public_keys)
    return [f"{missing} of the keys of {user.name} may not log in."] if missing else []
