"""How each package manager is asked: apt, dnf and apk.  Commands are lists of arguments; what they print is read here."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from itertools import islice

from bathotype.core.expressions import for_text

#: What programs of a build are given; a guest agent passes nothing of its own.
ENVIRONMENT = {
    "PATH": "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin",
    "HOME": "/root",
    "LANG": "C.UTF-8",
    "DEBIAN_FRONTEND": "noninteractive",
}

Argv = tuple[str, ...]
#: The most packages that are read of what a guest prints.
_MOST = 100_000


@dataclass(frozen=True)
class Wanted:
    """A package by its name, and the version that it must have; empty for any."""

    name: str
    version: str = ""

    @classmethod
    def of(cls, text: str) -> Wanted:
        """From ``NAME`` or ``NAME=VERSION``."""
        name, _, version = text.partition("=")
        return cls(name, version)


@dataclass(frozen=True)
class Manager:
    """``probe`` ends well where it is the machine's own; ``joint`` is written between a name and its version."""

    name: str
    probe: Argv
    refresh: Argv
    install: Argv
    install_files: Argv
    remove: Argv
    update: Argv
    installed: Argv
    outstanding: Argv
    #: The exit codes of ``outstanding`` that are none of a failure.
    outstanding_codes: tuple[int, ...] = (0,)
    joint: str = "="
    #: Asks a package file for its name and version; empty where the manager cannot.
    about_file: Argv = ()
    #: Clean up: commands for what was downloaded, where that and the lists lie, and what a package's file is called.
    clean: tuple[Argv, ...] = ()
    downloads: tuple[str, ...] = ()
    package_files: str = ""
    lists: tuple[str, ...] = ()
    #: Remove packages that came for others which are gone; empty where the manager does that by itself.
    remove_unneeded: tuple[Argv, ...] = ()
    _line: str = ""
    _update: str = ""
    environment: Mapping[str, str] = field(default_factory=lambda: ENVIRONMENT)

    def named(self, packages: Sequence[Wanted]) -> list[str]:
        """How packages are written on its command line."""
        return [f"{p.name}{self.joint}{p.version}" if p.version else p.name for p in packages]

    def read_installed(self, output: str) -> dict[str, str]:
        """Names and versions of all packages."""
        found = islice(for_text(f"(?m){self._line}").finditer(output), _MOST)
        return {match[1]: match[2] for match in found}

    def read_outstanding(self, output: str) -> list[str]:
        """Names of packages for which an update is there."""
        found = islice(for_text(f"(?m){self._update}").finditer(output), _MOST)
        return sorted({match[1] for match in found})


_KEEP = ("-o", "Dpkg::Options::=--force-confdef", "-o", "Dpkg::Options::=--force-confold")
_APT = ("apt-get", "-y", "-q", *_KEEP)
MANAGERS = (
    Manager(
        "apt",
        probe=("apt-get", "--version"),
        refresh=("apt-get", "-q", "update"),
        install=(*_APT, "--no-install-recommends", "--allow-downgrades", "install", "--"),
        install_files=(*_APT, "--no-install-recommends", "--allow-downgrades", "install", "--"),
        remove=(*_APT, "remove", "--"),
        update=(*_APT, "--with-new-pkgs", "upgrade"),
        installed=("dpkg-query", "-W", "-f", "${Package}\t${Version}\t${db:Status-Status}\n"),
        outstanding=("apt-get", "-s", "-q", "--with-new-pkgs", "upgrade"),
        clean=(("apt-get", "clean"),),
        downloads=("/var/cache/apt/archives",),
        package_files="*.deb",
        lists=("/var/lib/apt/lists",),
        remove_unneeded=((*_APT, "autoremove"),),
        about_file=("dpkg-deb", "-W", "--showformat=${Package}\t${Version}\tinstalled\n"),
        _line=r"^([^\t\n]+)\t([^\t\n]*)\tinstalled$",
        _update=r"^Inst (\S+)",
    ),
    Manager(
        "dnf",
        probe=("dnf", "--version"),
        refresh=("dnf", "-q", "makecache"),
        install=("dnf", "-y", "-q", "install", "--"),
        install_files=("dnf", "-y", "-q", "install", "--"),
        remove=("dnf", "-y", "-q", "remove", "--"),
        update=("dnf", "-y", "-q", "upgrade"),
        installed=("rpm", "-qa", "--qf", "%{NAME}\t%{VERSION}-%{RELEASE}\n"),
        outstanding=("dnf", "-q", "check-update"),
        outstanding_codes=(0, 100),
        joint="-",
        clean=(("dnf", "-q", "clean", "packages"),),
        downloads=("/var/cache/dnf", "/var/cache/yum"),
        package_files="*.rpm",
        lists=("/var/cache/dnf", "/var/cache/yum"),
        remove_unneeded=(("dnf", "-y", "-q", "autoremove"),),
        about_file=("rpm", "-qp", "--qf", "%{NAME}\t%{VERSION}-%{RELEASE}\n"),
        _line=r"^([^\t\n]+)\t([^\t\n]*)$",
        _update=r"^(\S+)\.[a-z0-9_]+\s+\S+\s+\S+$",
    ),
    Manager(
        "apk",
        probe=("apk", "--version"),
        refresh=("apk", "update", "-q"),
        install=("apk", "add", "-q"),
        install_files=("apk", "add", "-q", "--allow-untrusted"),
        remove=("apk", "del", "-q"),
        update=("apk", "upgrade", "-q"),
        installed=("apk", "info", "-v"),
        outstanding=("apk", "version", "-l", "<"),
        downloads=("/var/cache/apk", "/etc/apk/cache"),
        package_files="*.apk",
        lists=("/var/cache/apk", "/etc/apk/cache"),
        _line=r"^(\S+)-(\d\S*-r\d+)$",
        _update=r"^(\S+)-\d\S*-r\d+\s+<",
    ),
)


def changed_packages(before: Mapping[str, str], after: Mapping[str, str]) -> list[str]:
    """What is different, a line each: ``curl 7.1 -> 7.2``, ``curl 7.2 (new)``, ``curl (removed)``."""
    told = []
    for name in sorted({*before, *after}):
        old, new = before.get(name), after.get(name)
        if old != new:
            told.append(
                f"{name} (removed)"
                if new is None
                else f"{name} {new} (new)"
                if old is None
                else f"{name} {old} -> {new}"
            )
    return told


def unmet_packages(wanted: Sequence[Wanted], installed: Mapping[str, str]) -> list[str]:
    """Why what was to be installed is not, a sentence each."""
    told = []
    for package in wanted:
        has = installed.get(package.name)
        if has is None:
            told.append(f"{package.name} is not installed.")
        elif package.version and has != package.version:
            told.append(f"{package.name} is installed as {has}, not as {package.version}.")
    return told
