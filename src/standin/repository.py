"""The package repository of modelled guests: what ``apt-get update`` brings, and what a package puts on a disk."""

from __future__ import annotations

import zlib
from collections.abc import Mapping
from dataclasses import dataclass, field

#: Where packages lie in a guest that were downloaded, and the package lists of the repository.
ARCHIVES = "/var/cache/apt/archives"
LISTS = "/var/lib/apt/lists/pool.halvane.example_stable_main_Packages"


@dataclass(frozen=True)
class Package:
    """One that nobody has installed yet; ``needs`` are installed with it, ``service`` is its unit."""

    version: str
    needs: tuple[str, ...] = ()
    service: str = ""
    files: Mapping[str, str] = field(default_factory=dict)


POOL: dict[str, Package] = {
    "libtide-wire2": Package("2.4-1", files={"/usr/lib/libtide-wire.so.2": "wire protocol 2\n" * 400}),
    "tide-logger": Package(
        "2.1.0-1", ("libtide-wire2",), "tide-logger",
        {"/usr/sbin/tide-logger": "#!/bin/sh\n# sends readings to the office\n" * 300, "/etc/tide/logger.conf": "interval = 60\n"},
    ),
    "chart-tools": Package("1.4.2-1", files={"/usr/bin/chart-plot": "#!/bin/sh\n# draws a chart\n" * 200}),
    "quay-monitor": Package("0.9-3", service="quay-monitor", files={"/usr/sbin/quay-monitor": "#!/bin/sh\n# counts\n" * 200}),
}  # fmt: skip


def newest(name: str, version: str) -> str:
    """The version that the repository has of a package that is installed.

    Of a few there is an update, of one of them a second once the first is installed.
    """
    if name in POOL:
        return POOL[name].version
    base, _, update = version.partition("+u")
    if zlib.crc32(name.encode()) % 19 != 3:
        return version
    return f"{base}+u2" if update and zlib.crc32(name.encode()) % 2 else f"{base}+u1"


def asks_for_restart(name: str, version: str) -> bool:
    """Whether the system asks to be restarted once a package has this version."""
    return version.endswith("+u1") and zlib.crc32(name.encode()) % 2 == 1


def lists(installed: Mapping[str, str]) -> str:
    """The package lists, for a guest with these packages."""
    offered = {name: newest(name, version) for name, version in installed.items()}
    offered |= {name: package.version for name, package in POOL.items()}
    return "\n".join(f"Package: {name}\nVersion: {v}\nArchitecture: amd64\n" for name, v in sorted(offered.items()))
