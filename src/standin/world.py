"""What the stand-in offers: regions, zones, machine sizes, limits, and the accounts that may use it."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass, field
from pathlib import Path

REGIONS: dict[str, tuple[str, ...]] = {
    "skerry-1": ("skerry-1a", "skerry-1b"),
    "fjord-2": ("fjord-2a", "fjord-2b", "fjord-2c"),
    "lagoon-3": ("lagoon-3a", "lagoon-3b"),
}


#: What machines of each region have: the oldest region boots by BIOS alone.
MACHINES: dict[str, dict[str, object]] = {
    region: {
        "boot": ["bios"] if region == "lagoon-3" else ["bios", "uefi"],
        "architectures": ["x86_64"],
        "trusted_module": region == "fjord-2",
        "disk_buses": ["virtio-blk"],
        "network_cards": ["virtio-net"],
    }
    for region in REGIONS
}


@dataclass(frozen=True)
class Size:
    """A machine size: virtual processors, memory in MiB, and what plays machines of it: ``modelled`` or ``qemu``."""

    processors: int
    memory_mib: int
    body: str = "modelled"


SIZES: dict[str, Size] = {
    "small": Size(1, 512),
    "medium": Size(2, 2048),
    "large": Size(8, 16384),
    "lab-small": Size(1, 512, "qemu"),
    "lab-medium": Size(2, 1024, "qemu"),
}

LARGEST_DISK = 2 * 1024**4
CALLS_PER_SECOND = 400


@dataclass(frozen=True)
class Account:
    """A customer of the stand-in: its quotas and the tags that it demands on everything created."""

    name: str
    token_digest: str
    machines: int = 400
    disk_bytes: int = 512 * 1024**3
    snapshots: int = 40
    demanded_tags: tuple[str, ...] = ()


@dataclass(frozen=True)
class Tenancy:
    """All accounts, and the operator's token for faults."""

    operator_digest: str
    accounts: dict[str, Account] = field(default_factory=dict)

    @classmethod
    def load(cls, path: Path) -> Tenancy:
        """Read a JSON file: ``{"operator_token", "accounts": {name: {"token", ...}}}``."""
        data = json.loads(path.read_text())
        accounts = {}
        for name, settings in data["accounts"].items():
            given = dict(settings)
            token = token_digest(given.pop("token"))
            given["demanded_tags"] = tuple(given.get("demanded_tags", ()))
            accounts[name] = Account(name, token, **given)
        return cls(token_digest(data["operator_token"]), accounts)

    def account_of(self, token: str) -> Account | None:
        """Whose token this is."""
        wanted = token_digest(token)
        return next((a for a in self.accounts.values() if a.token_digest == wanted), None)


def token_digest(token: str) -> str:
    """How tokens are kept."""
    return hashlib.sha256(token.encode()).hexdigest()
