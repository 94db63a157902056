"""Reading what is installed from the files of a disk.

Sources: os-release(5), the dpkg status file, the databases of apk and RPM, systemd unit links, passwd(5).
"""

from __future__ import annotations

import re
from dataclasses import asdict, dataclass, field
from typing import Any

from bathotype.core.contents import rpmdb
from bathotype.core.guest.tree import FileTree

_WANTS = re.compile(r"/etc/systemd/system/[^/]+\.(?:wants|requires)/([^/]+)")


@dataclass(frozen=True, order=True)
class Package:
    """One installed package, as its manager names it."""

    name: str
    version: str
    architecture: str = ""
    manager: str = "dpkg"


@dataclass(frozen=True)
class Contents:
    """The record of what a version holds."""

    os: dict[str, str] = field(default_factory=dict)
    packages: tuple[Package, ...] = ()
    services: tuple[str, ...] = ()
    users: tuple[str, ...] = ()
    files: int = 0
    #: The size of the partition with the system, and whether nothing lies behind it; 0 and None where it is not seen.
    root_bytes: int = 0
    root_last: bool | None = None

    def as_data(self) -> dict[str, Any]:
        """Plain data for a record or an answer."""
        return asdict(self)


def read_contents(disk: FileTree) -> Contents:
    """Take stock of a disk."""
    packages = [*_dpkg(disk), *_apk(disk), *_rpm(disk)]
    services = {match[1] for path in disk.entries if (match := _WANTS.fullmatch(path))}
    return Contents(
        os_release(disk), tuple(sorted(packages)), tuple(sorted(services)), tuple(_users(disk)), len(disk.entries)
    )


def os_release(disk: FileTree) -> dict[str, str]:
    """The keys of os-release by which systems are distinguished."""
    text = disk.text("/etc/os-release") or disk.text("/usr/lib/os-release")
    found = {}
    for line in text.splitlines():
        key, equals, value = line.partition("=")
        if equals and key in ("ID", "ID_LIKE", "VERSION_ID", "VERSION_CODENAME", "PRETTY_NAME"):
            found[key.lower()] = value.strip().strip("\"'")
    return found


def _dpkg(disk: FileTree) -> list[Package]:
    found = []
    raw = disk.read("/var/lib/dpkg/status", most=64 * 1024 * 1024) or b""
    for paragraph in raw.decode("utf-8", "replace").split("\n\n"):
        fields = dict(
            line.split(": ", 1) for line in paragraph.splitlines() if ": " in line and not line.startswith(" ")
        )
        if fields.get("Status", "").endswith(" installed") and "Package" in fields:
            found.append(Package(fields["Package"], fields.get("Version", ""), fields.get("Architecture", "")))
    return found


def _apk(disk: FileTree) -> list[Package]:
    found = []
    for paragraph in disk.text("/lib/apk/db/installed").split("\n\n"):
        fields = {line[0]: line[2:] for line in paragraph.splitlines() if line[1:2] == ":"}
        if "P" in fields:
            found.append(Package(fields["P"], fields.get("V", ""), fields.get("A", ""), "apk"))
    return found


def _rpm(disk: FileTree) -> list[Package]:
    return [Package(p.name, p.version, p.architecture, "rpm") for p in rpmdb.installed(disk)]


def _users(disk: FileTree) -> list[str]:
    """Accounts that can log in."""
    found = []
    for line in disk.text("/etc/passwd").splitlines():
        parts = line.split(":")
        if len(parts) == 7 and not parts[6].endswith(("nologin", "false", "sync")):
            found.append(parts[0])
    return found
