"""A site in memory that keeps the promises of `bathotype.sites.protocol.Site`: for tests of what lies above it.

Disks are byte arrays, guests speak the guest agent protocol over a stream that ends in this process.  A guest that is
switched on with a seed takes its host name and instance id from it, as a real one would.
"""

from __future__ import annotations

import base64
import itertools
import json
import re
import secrets
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from typing import Any

from bathotype.core.contents.platform import PlatformOffered
from bathotype.core.disk.ranges import Ranges
from bathotype.core.errors import NotFound, Refused, Unavailable
from bathotype.core.guest.agent import AgentSilent, GuestAgent
from bathotype.core.lifecycle.networks import Attach, FirewallSet, Networks, Opening, PublicAddress, Subnet
from bathotype.core.lifecycle.purpose import SizeOffered
from bathotype.sites.protocol import SiteDisk, SiteLimits, SiteMachine

REGIONS: dict[str, tuple[str, ...]] = {
    "skerry-1": ("skerry-1a", "skerry-1b"),
    "fjord-2": ("fjord-2a", "fjord-2b", "fjord-2c"),
    "lagoon-3": ("lagoon-3a", "lagoon-3b"),
}
MACHINE_SIZES = {"small": SizeOffered(1, 512), "medium": SizeOffered(2, 2048), "large": SizeOffered(8, 16384)}
PLATFORMS = {
    name: PlatformOffered(
        ("bios",) if name == "lagoon-3" else ("bios", "uefi"), ("x86_64",), True, ("virtio-blk",), ("virtio-net",)
    )
    for name in REGIONS
}
TAGS = ("owner", "purpose")


class MemoryDisk:
    """The bytes of a disk, as NBD would show them."""

    def __init__(self, data: bytearray) -> None:
        self._data = data

    @property
    def size(self) -> int:
        return len(self._data)

    def read(self, offset: int, length: int) -> bytes:
        assert offset >= 0 and offset + length <= len(self._data), "a read outside the disk"
        return bytes(self._data[offset : offset + length])

    def write(self, offset: int, data: bytes) -> None:
        self._data[offset : offset + len(data)] = data

    def write_pieces(self, offset: int, pieces: Sequence[bytes]) -> None:
        self.write(offset, b"".join(pieces))

    def flush(self) -> None:
        pass

    def allocated(self) -> Ranges:
        return Ranges.of([(0, len(self._data))])

    def changed(self) -> None:
        return None


@dataclass
class Guest:
    """A modelled guest: what its agent tells."""

    host_name: str
    address: str
    files: dict[str, bytes] = field(default_factory=dict)
    frozen: bool = False
    boots: bool = True
    root_bytes: int = 300_000

    def boot(self, seed: bytes | None) -> None:
        """First boot reads the seed; each guest makes keys and a machine id of its own."""
        if seed is None:
            return
        text = seed.decode("utf-8", "replace")
        instance, name = re.search(r'instance-id: "?([\w-]+)', text), re.search(r'local-hostname: "?([\w.-]+)', text)
        assert instance and name, "a seed without an identity"
        self.host_name = name[1]
        key = base64.b64encode(secrets.token_bytes(51)).decode()
        self.files |= {
            "/etc/machine-id": secrets.token_hex(16).encode() + b"\n",
            "/etc/ssh/ssh_host_ed25519_key.pub": f"ssh-ed25519 {key} root@{name[1]}\n".encode(),
            "/var/lib/cloud/data/instance-id": instance[1].encode() + b"\n",
            "/var/lib/cloud/data/result.json": b'{"v1": {"errors": []}}',
        }

    def handle(self, request: dict[str, Any]) -> Any:
        """One command of the guest agent protocol."""
        arguments = request.get("arguments", {})
        match request["execute"]:
            case "guest-sync-delimited":
                return arguments["id"]
            case "guest-ping":
                return {}
            case "guest-info":
                names = ("guest-file-open", "guest-file-read", "guest-fsfreeze-freeze", "guest-fsfreeze-thaw",
                         "guest-fsfreeze-status")  # fmt: skip
                return {"supported_commands": [{"name": n, "enabled": True} for n in names]}
            case "guest-get-host-name":
                return {"host-name": self.host_name}
            case "guest-get-osinfo":
                return {"id": "halvane", "pretty-name": "Halvane Linux 12 (in memory)"}
            case "guest-network-get-interfaces":
                return [{"name": "eth0", "ip-addresses": [{"ip-address": self.address}]}]
            case "guest-fsfreeze-status":
                return "frozen" if self.frozen else "thawed"
            case "guest-get-fsinfo":
                return [{"name": "vda1", "mountpoint": "/", "type": "ext4", "total-bytes": self.root_bytes, "disk": []}]
            case "guest-file-open" if arguments["path"] in self.files:
                return sorted(self.files).index(arguments["path"])
            case "guest-file-read":
                data = self.files[sorted(self.files)[arguments["handle"]]]
                return {"buf-b64": base64.b64encode(data).decode(), "count": len(data), "eof": True}
            case "guest-file-close":
                return {}
        raise LookupError(request["execute"])


class _Stream:
    """A channel whose other end is a `Guest`."""

    def __init__(self, guest: Guest) -> None:
        self._guest, self._out = guest, b""

    def send(self, data: bytes) -> None:
        request = json.loads(data.rpartition(b"\xff")[2])
        try:
            answer: dict[str, Any] = {"return": self._guest.handle(request)}
        except LookupError as error:
            answer = {"error": {"class": "GenericError", "desc": str(error)}}
        self._out += b"\xff" + json.dumps(answer).encode() + b"\n"

    def receive(self, timeout: float) -> bytes:
        out, self._out = self._out, b""
        return out

    def close(self) -> None:
        pass


@dataclass
class _Disk:
    facts: SiteDisk
    account: str
    region: str
    zone: str
    data: bytearray
    granted: set[str] = field(default_factory=set)


@dataclass
class _Machine:
    facts: SiteMachine
    account: str
    guest: Guest
    seed: bytes | None = None
    console: str = ""


class MemoryCloud:
    """Everything that all accounts have; ``out`` names regions that do not answer."""

    def __init__(self) -> None:
        self.disks: dict[str, _Disk] = {}
        self.machines: dict[str, _Machine] = {}
        self.made: dict[tuple[str, str], str] = {}
        self.out: set[str] = set()
        self.most_machines = 400
        self.boots = True
        self.on_create: Callable[[str], None] = lambda name: None
        self.lock = threading.RLock()
        self._numbers = itertools.count(1)

    def number(self, prefix: str) -> str:
        """The next id; ids sort in the order in which they are made."""
        return f"{prefix}-{next(self._numbers):06d}"

    def add_machine(
        self, account: str, name: str, data: bytearray, *, region: str = "skerry-1", state: str = "stopped"
    ) -> SiteMachine:
        """A machine that somebody has made at the site; it is off unless told otherwise."""
        disk = self.add_disk(account, region, data, name=f"{name}-boot", tags={"owner": account})
        site = MemorySite(self, account)
        return site.place(name, region, REGIONS[region][0], "small", replace(disk, boot=True), {}, None, state)

    def add_disk(
        self,
        account: str,
        region: str,
        data: bytearray,
        *,
        name: str,
        tags: dict[str, str],
        kind: str = "disk",
        zone: str = "",
    ) -> SiteDisk:
        facts = SiteDisk(self.number("d"), name, len(data), kind, tags=tags)
        self.disks[facts.id] = _Disk(facts, account, region, zone or REGIONS[region][0], data)
        return facts


class MemorySite:
    """One account's view of a `MemoryCloud`."""

    def __init__(self, cloud: MemoryCloud, account: str) -> None:
        self._cloud, self._account = cloud, account

    def _region(self, region: str) -> None:
        if region in self._cloud.out:
            raise Unavailable(f"Region {region} is out of service.")

    def _disk(self, disk: str, *, granted: bool = False) -> _Disk:
        found = self._cloud.disks.get(disk)
        if found is None or not (found.account == self._account or (granted and self._account in found.granted)):
            raise NotFound(f"The site says: There is no disk {disk}.")
        self._region(found.region)
        return found

    def _machine(self, machine: str) -> _Machine:
        found = self._cloud.machines.get(machine)
        if found is None or found.account != self._account:
            raise NotFound(f"The site says: There is no machine {machine}.")
        self._region(found.facts.region)
        return found

    def _once(self, key: str, make: Callable[[], str]) -> str:
        with self._cloud.lock:
            made = self._cloud.made.get((self._account, key), "")
            if made not in self._cloud.disks and made not in self._cloud.machines:
                made = self._cloud.made[self._account, key] = make()
            return made

    @staticmethod
    def _check_tags(tags: dict[str, str]) -> None:
        if missing := [t for t in TAGS if not tags.get(t)]:
            raise Refused(f"The site refuses: The account demands the tags {', '.join(missing)}.", code="site-tags")

    # Looking

    def limits(self, region: str | None = None) -> SiteLimits:
        if region:
            self._region(region)
        held = [m for m in self._cloud.machines.values() if m.account == self._account]
        quotas = {"machines": (len(held), self._cloud.most_machines), "snapshots": (0, 40)}
        return SiteLimits(REGIONS, MACHINE_SIZES, 2 * 1024**4, TAGS, quotas, PLATFORMS)

    def networks(self, region: str) -> Networks:
        self._region(region)
        used = {m.facts.public_address: m.facts.name for m in self._cloud.machines.values()}
        public = ("2001:db8:5::10", "2001:db8:5::11")
        return Networks(
            (Subnet("quays", "tide", "192.0.2.0/25", 100), Subnet("office", "tide", "192.0.2.128/25", 3)),
            (FirewallSet("closed", ()), FirewallSet("web", (Opening("tcp", 80, 80, "0.0.0.0/0"),))),
            tuple(PublicAddress(one, used.get(one)) for one in public),
        )

    def machines(self, region: str) -> Iterator[SiteMachine]:
        # Looked up when it is asked for, not before: callers rely on that.
        self._region(region)
        mine = [m.facts for m in list(self._cloud.machines.values()) if m.account == self._account]
        yield from sorted((m for m in mine if m.region == region), key=lambda m: m.id)

    def machine(self, machine: str) -> SiteMachine:
        return self._machine(machine).facts

    def machine_named(self, region: str, name: str) -> SiteMachine | None:
        return next((m for m in self.machines(region) if m.name == name), None)

    def console(self, machine: str) -> str:
        return self._machine(machine).console

    @contextmanager
    def agent(self, machine: str, *, timeout: float = 10.0) -> Iterator[GuestAgent]:
        found = self._machine(machine)
        if found.facts.state != "running" or not found.guest.boots:
            raise AgentSilent("The guest agent does not answer.")
        agent = GuestAgent(_Stream(found.guest), timeout=timeout)
        agent.sync()
        yield agent

    def disks(self, region: str, *, tag: tuple[str, str]) -> Iterator[SiteDisk]:
        self._region(region)
        found = [d for d in list(self._cloud.disks.values()) if d.account == self._account and d.region == region]
        return iter([d.facts for d in found if d.facts.tags.get(tag[0]) == tag[1]])

    # Disks

    def snapshot(
        self, disk: str, *, key: str, name: str, tags: dict[str, str], checkpoint: bool = False,
        changes_since: str | None = None,
    ) -> SiteDisk:  # fmt: skip
        source = self._disk(disk)
        self._check_tags(tags)

        def make() -> str:
            data = bytearray(source.data)
            return self._cloud.add_disk(self._account, source.region, data, name=name, tags=tags, kind="snapshot").id

        return self._cloud.disks[self._once(key, make)].facts

    def create_disk(
        self, region: str, size: int, *, key: str, name: str, tags: dict[str, str], zone: str = "",
        source: str | None = None,
    ) -> SiteDisk:  # fmt: skip
        self._region(region)
        self._check_tags(tags)

        def make() -> str:
            data = bytearray(self._disk(source).data) if source else bytearray(size)
            return self._cloud.add_disk(self._account, region, data, name=name, tags=tags, zone=zone).id

        return self._cloud.disks[self._once(key, make)].facts

    def grant_disk(self, disk: str, account: str) -> None:
        self._disk(disk).granted.add(account)

    def revoke_disk(self, disk: str, account: str) -> None:
        self._disk(disk).granted.discard(account)

    def seal(self, disk: str) -> None:
        found = self._disk(disk)
        found.facts = replace(found.facts, kind="base")

    def delete_disk(self, disk: str) -> None:
        try:
            self._disk(disk)
        except NotFound:
            return
        del self._cloud.disks[disk]

    @contextmanager
    def open_disk(self, disk: str, *, writable: bool = False) -> Iterator[Any]:
        found = self._disk(disk)
        if writable and found.facts.kind != "disk":
            raise Refused("The site refuses: Only disks can be written.")
        yield MemoryDisk(found.data)

    # Machines

    def place(
        self, name: str, region: str, zone: str, size: str, disk: SiteDisk, tags: dict[str, str],
        created_from: str | None, state: Any = "stopped",
    ) -> SiteMachine:  # fmt: skip
        """Record a machine."""
        number = self._cloud.number("m")
        address = f"192.0.2.{10 + len(self._cloud.machines) % 200}"
        facts = SiteMachine(number, name, region, zone, size, state, address, tags, (disk,), created_from, datetime.now(UTC), "52:54:00:00:00:01")  # fmt: skip
        guest = Guest(name, address)
        source = next((m for m in self._cloud.machines.values() if m.facts.disks[0].id == created_from), None)
        if source is not None:
            guest.files |= source.guest.files
        self._cloud.machines[number] = _Machine(facts, self._account, guest)
        return facts

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
        self._region(region)
        self._check_tags(tags)
        self._cloud.on_create(name)
        with self._cloud.lock:
            base = self._disk(boot_disk, granted=True)
            held = sum(m.account == self._account for m in self._cloud.machines.values())
            if (self._account, key) not in self._cloud.made and held >= self._cloud.most_machines:
                raise Refused(f"The site refuses: The account has {held} machines already.", code="site-quota")

            def make() -> str:
                data = bytearray(base.data).ljust(boot_bytes or 0, b"\0")
                disk = self._cloud.add_disk(self._account, region, data, name=f"{name}-boot", tags=tags)
                place = zone or base.zone
                made = self.place(name, region, place, machine_size, replace(disk, boot=True), tags, boot_disk)
                own = [self._own(other, f"{name}-data-{n}", tags) for n, other in enumerate(data_disks, 1)]
                given = attach or Attach()
                public = next((a.address for a in self.networks(region).public_addresses if a.machine is None), None)
                self._machine(made.id).facts = replace(
                    made,
                    disks=(*made.disks, *own),
                    address=given.address or made.address,
                    subnet="" if isolated else given.subnet or "quays",
                    firewalls=tuple(given.firewalls),
                    public_address=public if given.public_address else None,
                )
                return made.id

            return self._machine(self._once(key, make)).facts

    def _own(self, disk: str, name: str, tags: dict[str, str]) -> SiteDisk:
        """An unused disk as it is; a clone of a base disk or a snapshot."""
        found = self._disk(disk, granted=True)
        if found.facts.kind == "disk":
            return found.facts
        return self._cloud.add_disk(self._account, found.region, bytearray(found.data), name=name, tags=tags)

    def set_seed(self, machine: str, volume: bytes) -> None:
        self._machine(machine).seed = volume

    def power(self, machine: str, action: str) -> None:
        found = self._machine(machine)
        if action in ("on", "restart") and found.facts.state != "running":
            found.guest.boots = self._cloud.boots
            if self._cloud.boots:
                found.guest.boot(found.seed)
            else:
                found.console = "boot: no bootable system found\n(initramfs) _\n"
        found.facts = replace(found.facts, state="stopped" if action == "off" else "running")

    def delete_machine(self, machine: str, *, keep: Sequence[str] = ()) -> None:
        try:
            found = self._machine(machine)
        except NotFound:
            return
        for disk in found.facts.disks:
            if disk.id not in keep:
                self._cloud.disks.pop(disk.id, None)
        del self._cloud.machines[machine]

    def rename(self, machine: str, name: str) -> None:
        """Somebody renames it at the site."""
        found = self._machine(machine)
        found.facts = replace(found.facts, name=name)
