"""Programs of a modelled guest that change it: packages, services, accounts, files, and a small shell.

They do to the real disk what such programs do, as far as somebody who prepares a machine would see it.
"""

from __future__ import annotations

import fnmatch
import hashlib
import io
import itertools
import posixpath
import random
import re
import shlex
import tarfile
import zlib
from collections.abc import Callable, Mapping
from pathlib import PurePosixPath
from typing import Protocol

from standin.guestfiles import Edits, GuestFiles
from standin.repository import ARCHIVES, LISTS, POOL, asks_for_restart, lists

_STATUS = "/var/lib/dpkg/status"
_WANTS = "/etc/systemd/system/multi-user.target.wants"
_UNITS = "/lib/systemd/system"
_PAGE = "/var/www/html/index.html"
#: Where services listen.
_PORTS = {
    "ssh.service": 22, "gauge-collector.service": 80, "tide-logger.service": 5140, "quay-monitor.service": 9100
}  # fmt: skip
Answer = tuple[int, bytes]
#: A downloaded package has so many bytes, and a few more.
_DOWNLOAD = 48 * 1024


class ProgramError(Exception):
    """A program ends with an exit code, and says why."""

    def __init__(self, text: str, code: int = 1) -> None:
        super().__init__(text)
        self.code = code


class Guest(Protocol):
    """What programs need of the guest that they run in."""

    @property
    def files(self) -> GuestFiles:
        """Its disk."""
        ...

    @property
    def online(self) -> bool:
        """Whether it reaches the repository."""
        ...

    @property
    def stopped_services(self) -> set[str]:
        """Units that were stopped since it started."""
        ...

    def read(self, path: str) -> bytes | None:
        """A file, of memory too."""
        ...

    def put(self, path: str, data: bytes) -> None:
        """Write one."""
        ...

    def change(self, edits: Edits) -> None:
        """Change the disk, once it is not frozen."""
        ...

    def names(self) -> set[str]:
        """Paths in memory."""
        ...


class Programs:
    """All of them; a method each, by the program's name."""

    def __init__(self, guest: Guest) -> None:
        self._guest = guest

    def find(self, name: str) -> Callable[[list[str], Mapping[str, str]], Answer] | None:
        """A program by its name."""
        found: Callable[[list[str], Mapping[str, str]], Answer] | None = getattr(
            self, "run_" + re.sub(r"\W", "_", name), None
        )
        return found

    # Files

    def _there(self, path: str) -> bool:
        return path in self._guest.names() or self._guest.files.exists(path)

    def _need(self, path: str) -> bytes:
        data = self._guest.read(path)
        if data is None:
            raise ProgramError(f"{path}: No such file or directory")
        return data

    def run_test(self, argv: list[str], _: Mapping[str, str]) -> Answer:
        return int(not self._there(argv[1])), b""

    def run_mkdir(self, argv: list[str], _: Mapping[str, str]) -> Answer:
        edits = Edits()
        for path in argv:
            if not path.startswith("/") or path.startswith("/run/"):
                continue
            parents = [str(parent) for parent in reversed(PurePosixPath(path).parents)][1:] if "-p" in argv else []
            for folder in [*parents, path]:
                if not self._guest.files.exists(folder):
                    edits.make_folder(folder)
        if edits.folders:
            self._guest.change(edits)
        return 0, b""

    def run_sha256sum(self, argv: list[str], _: Mapping[str, str]) -> Answer:
        lines = [f"{hashlib.sha256(self._need(path)).hexdigest()}  {path}\n" for path in argv]
        return 0, "".join(lines).encode()

    def run_chmod(self, argv: list[str], _: Mapping[str, str]) -> Answer:
        if argv[1] not in self._guest.names():
            edits = Edits()
            edits.facts[argv[1]] = {"mode": int(argv[0], 8)}
            self._guest.change(edits)
        return 0, b""

    def run_chown(self, argv: list[str], _: Mapping[str, str]) -> Answer:
        owner, group = argv[0].split(":")
        users, groups = self._table("passwd"), self._table("group")
        if owner not in users or group not in groups:
            raise ProgramError(f"invalid user: {argv[0]!r}")
        edits = Edits()
        edits.facts[argv[1]] = {"uid": int(users[owner][2]), "gid": int(groups[group][2])}
        self._guest.change(edits)
        return 0, b""

    def run_stat(self, argv: list[str], _: Mapping[str, str]) -> Answer:
        """``stat -c "%a %U %G" PATH``."""
        mode, uid, gid = self._guest.files.facts(argv[-1])
        names = [
            next((name for name, row in self._table(base).items() if row[2] == str(number)), "UNKNOWN")
            for base, number in (("passwd", uid), ("group", gid))
        ]
        return 0, f"{mode & 0o7777:o} {' '.join(names)}\n".encode()

    def run_tar(self, argv: list[str], _: Mapping[str, str]) -> Answer:
        """``tar -x|-d|-t -f FILE [-C FOLDER]``."""
        folder = argv[argv.index("-C") + 1] if "-C" in argv else "/"
        edits, listed = Edits(), []
        try:
            archive = tarfile.TarFile.open(fileobj=io.BytesIO(self._need(argv[argv.index("-f") + 1])))
        except tarfile.TarError as error:
            raise ProgramError(f"this does not look like a tar archive: {error}", 2) from error
        with archive:
            for member in archive:
                path = posixpath.normpath(posixpath.join(folder, member.name.lstrip("/")))
                listed.append(member.name)
                data = archive.extractfile(member) if member.isfile() else None
                if data is None:
                    continue
                content = data.read()
                if "-x" in argv:
                    edits.write(path, content, mode=member.mode & 0o777)
                elif "-d" in argv and self._guest.read(path) != content:
                    raise ProgramError(f"{member.name}: Contents differ")
        if edits.written:
            self._guest.change(edits)
        return 0, "".join(f"{name}\n" for name in listed).encode() if "-t" in argv else b""

    def run_sync(self, argv: list[str], _: Mapping[str, str]) -> Answer:
        return 0, b""

    def run_find(self, argv: list[str], _: Mapping[str, str]) -> Answer:
        """``find FOLDER... -xdev -mindepth 1 TESTS -delete|-print -quit`` with the tests -type f, -name, -not -path."""
        folders = list(itertools.takewhile(lambda word: not word.startswith("-"), argv))
        names = [argv[n + 1] for n, word in enumerate(argv) if word == "-name"]
        without = [argv[n + 1] for n, word in enumerate(argv) if word == "-path"]
        found = [
            path
            for folder in folders
            for path in self._guest.files.below(folder)
            if (not names or any(fnmatch.fnmatchcase(posixpath.basename(path), name) for name in names))
            and not any(fnmatch.fnmatchcase(path, pattern) for pattern in without)
        ]
        if "-delete" in argv and found:
            edits = Edits()
            for path in found:
                edits.remove(path)
            self._guest.change(edits)
        return 0, "".join(f"{path}\n" for path in found[:1]).encode() if "-print" in argv else b""

    # Packages

    def _paragraphs(self, path: str) -> dict[str, dict[str, str]]:
        found = {}
        for paragraph in (self._guest.read(path) or b"").decode("utf-8", "replace").split("\n\n"):
            fields = dict(line.split(": ", 1) for line in paragraph.splitlines() if ": " in line)
            if "Package" in fields:
                found[fields["Package"]] = fields
        return found

    def _installed(self) -> dict[str, str]:
        return {name: fields.get("Version", "") for name, fields in self._paragraphs(_STATUS).items()}

    def _offered(self) -> dict[str, str]:
        found: dict[str, str] = {}
        for name in self._guest.files.names("/var/lib/apt/lists"):
            found |= {n: f.get("Version", "") for n, f in self._paragraphs(f"/var/lib/apt/lists/{name}").items()}
        return found

    def _save(self, edits: Edits, packages: Mapping[str, dict[str, str]]) -> None:
        text = "\n\n".join("\n".join(f"{k}: {v}" for k, v in fields.items()) for fields in packages.values())
        edits.write(_STATUS, text + "\n")
        self._guest.change(edits)

    def run_dpkg_query(self, argv: list[str], _: Mapping[str, str]) -> Answer:
        return 0, "".join(f"{name}\t{version}\tinstalled\n" for name, version in self._installed().items()).encode()

    def run_apt_get(self, argv: list[str], _: Mapping[str, str]) -> Answer:
        if "--version" in argv:
            return 0, b"apt 2.6.1 (amd64)\n"
        words = [word for n, word in enumerate(argv) if not word.startswith("-") and (not n or argv[n - 1] != "-o")]
        verb, names = words[0], words[1:]
        if verb == "update":
            if not self._guest.online:
                raise ProgramError("E: Failed to fetch pool.halvane.example: the network is unreachable", 100)
            self._guest.put(LISTS, lists(self._installed()).encode())
            return 0, b"Get:1 pool.halvane.example stable/main Packages\n"
        if verb == "upgrade":
            return self._upgrade(simulated="-s" in argv)
        if verb == "install":
            return self._install(names)
        if verb == "remove":
            return self._remove(names)
        if verb == "clean":
            return self.run_find([ARCHIVES, "-name", "*.deb", "-delete"], {})
        if verb == "autoremove":
            return self._autoremove()
        raise ProgramError(f"E: Invalid operation {verb}", 100)

    def _upgrade(self, *, simulated: bool) -> Answer:
        installed, offered = self._installed(), self._offered()
        newer = {n: offered[n] for n, v in installed.items() if offered.get(n, v) != v}
        lines = [f"Inst {n} [{installed[n]}] ({v} stable [amd64])" for n, v in newer.items()]
        if simulated:
            return 0, ("\n".join(lines) + "\n").encode()
        packages = self._paragraphs(_STATUS)
        for name, version in newer.items():
            packages[name]["Version"] = version
        edits = Edits()
        self._save(edits, packages)
        if any(asks_for_restart(name, version) for name, version in newer.items()):
            self._guest.put("/run/reboot-required", b"*** System restart required ***\n")
        return 0, "".join(f"Setting up {n} ({v}) ...\n" for n, v in newer.items()).encode()

    def _install(self, names: list[str]) -> Answer:
        packages, offered, edits, said = self._paragraphs(_STATUS), self._offered(), Edits(), []
        for word in names:
            name, _, version = word.partition("=")
            if name not in offered or (version and offered[name] != version):
                raise ProgramError(f"E: Unable to locate package {name}" if not version else f"E: Version '{version}' for '{name}' was not found", 100)  # fmt: skip
        wanted = [word.partition("=")[0] for word in names]
        wanted += [need for name in wanted if name in POOL for need in POOL[name].needs]
        for name in dict.fromkeys(wanted):
            version = offered[name]
            packages[name] = {
                "Package": name, "Status": "install ok installed", "Priority": "optional", "Architecture": "amd64",
                "Version": version, "Description": f"{name} of the tide office",
            }  # fmt: skip
            said.append(f"Setting up {name} ({version}) ...\n")
            if name in POOL:
                self._unpack(name, edits)
        self._save(edits, packages)
        return 0, "".join(said).encode()

    def _autoremove(self) -> Answer:
        """What came for others that are gone."""
        there = self._installed()
        needed = {need for name in there if name in POOL for need in POOL[name].needs}
        helpers = {need for package in POOL.values() for need in package.needs}
        return self._remove([name for name in there if name in helpers - needed])

    def _unpack(self, name: str, edits: Edits) -> None:
        package = POOL[name]
        packed = zlib.compress("".join(package.files.values()).encode()) + random.Random(name).randbytes(_DOWNLOAD)
        edits.write(f"{ARCHIVES}/{name}_{package.version}_amd64.deb", packed)
        for path, text in package.files.items():
            edits.write(path, text, mode=0o755 if "/sbin/" in path or "/bin/" in path else 0o644)
        edits.write(f"/var/lib/dpkg/info/{name}.list", "".join(f"{path}\n" for path in package.files))
        if package.service:
            unit = f"{_UNITS}/{package.service}.service"
            edits.write(unit, f"[Service]\nExecStart=/usr/sbin/{package.service}\n")

    def _remove(self, names: list[str]) -> Answer:
        packages, edits = self._paragraphs(_STATUS), Edits()
        for name in names:
            packages.pop(name, None)
            for path in POOL[name].files if name in POOL else ():
                edits.remove(path)
            edits.remove(f"/var/lib/dpkg/info/{name}.list")
        self._save(edits, packages)
        return 0, "".join(f"Removing {name} ...\n" for name in names).encode()

    # Services and accounts

    def run_systemctl(self, argv: list[str], _: Mapping[str, str]) -> Answer:
        verb, unit = argv[0], argv[-1] if argv[-1].endswith(".service") else f"{argv[-1]}.service"
        enabled = unit in self._guest.files.names(_WANTS)
        known = enabled or self._guest.files.exists(f"{_UNITS}/{unit}")
        stopped = self._guest.stopped_services
        if verb == "is-enabled":
            return (0, b"enabled\n") if enabled else (1, b"disabled\n")
        if verb == "is-active":
            active = unit in self._active()
            return (0, b"active\n") if active else (3, b"inactive\n")
        if verb == "show":
            runs = "active" if unit in self._active() else "inactive"
            state = ("enabled" if enabled else "disabled") if known else ""
            return 0, f"UnitFileState={state}\nActiveState={runs}\n".encode()
        if not known:
            raise ProgramError(f"Failed to {verb} unit: Unit file {unit} does not exist.", 5)
        if verb in ("enable", "disable"):
            edits = Edits()
            if verb == "enable":
                edits.links[f"{_WANTS}/{unit}"] = f"{_UNITS}/{unit}"
            else:
                edits.remove(f"{_WANTS}/{unit}")
            if enabled != (verb == "enable"):
                self._guest.change(edits)
        if "--now" in argv or verb not in ("enable", "disable"):
            verb = {"enable": "start", "disable": "stop"}.get(verb, verb)
            stopped.discard(unit)
            stopped.discard(f"+{unit}")
            stopped.add(unit if verb == "stop" else f"+{unit}")
        return 0, b""

    def ports(self) -> bytes:
        """``/proc/net/tcp``: what listens, by the services that run."""
        listens = [_PORTS[unit] for unit in self._active() if unit in _PORTS]
        rows = [f"{n:4}: 00000000:{port:04X} 00000000:0000 0A 00000000:00000000\n" for n, port in enumerate(listens)]
        return ("  sl  local_address rem_address   st\n" + "".join(rows)).encode()

    def _active(self) -> set[str]:
        stopped = self._guest.stopped_services
        enabled = {unit for unit in self._guest.files.names(_WANTS) if unit not in stopped}
        return enabled | {unit[1:] for unit in stopped if unit.startswith("+")}

    def run_curl(self, argv: list[str], _: Mapping[str, str]) -> Answer:
        """``curl ... URL``: the page of the guest's own web server, and its status in the last line."""
        match = re.fullmatch(r"http://(?:localhost|127\.0\.0\.1)(?::80)?(/.*)?", argv[-1])
        page = self._guest.read(_PAGE)
        if match is None or page is None or "gauge-collector.service" not in self._active():
            raise ProgramError("(7) Failed to connect: Connection refused", 7)
        found = (match[1] or "/") in ("/", "/index.html")
        return 0, (page if found else b"not found") + (b"\n200" if found else b"\n404")

    def _table(self, name: str) -> dict[str, list[str]]:
        rows = [line.split(":") for line in (self._guest.read(f"/etc/{name}") or b"").decode().splitlines() if line]
        return {row[0]: row for row in rows}

    def _write_table(self, edits: Edits, name: str, rows: Mapping[str, list[str]], mode: int = 0o644) -> None:
        edits.write(f"/etc/{name}", "".join(":".join(row) + "\n" for row in rows.values()), mode=mode)

    @staticmethod
    def _free(*tables: Mapping[str, list[str]], system: bool) -> int:
        taken = {int(row[2]) for table in tables for row in table.values()}
        return next(n for n in (range(999, 100, -1) if system else range(1000, 60000)) if n not in taken)

    def run_groupadd(self, argv: list[str], _: Mapping[str, str]) -> Answer:
        groups, edits = self._table("group"), Edits()
        if argv[-1] in groups:
            raise ProgramError(f"groupadd: group '{argv[-1]}' already exists", 9)
        groups[argv[-1]] = [argv[-1], "x", str(self._free(groups, system="--system" in argv)), ""]
        self._write_table(edits, "group", groups)
        self._guest.change(edits)
        return 0, b""

    def run_useradd(self, argv: list[str], _: Mapping[str, str]) -> Answer:
        users, groups, shadow, edits = self._table("passwd"), self._table("group"), self._table("shadow"), Edits()
        name, shell = argv[-1], argv[argv.index("--shell") + 1]
        if name in users:
            raise ProgramError(f"useradd: user '{name}' already exists", 9)
        number = self._free(users, groups, system="--system" in argv)
        users[name] = [name, "x", str(number), str(number), "", f"/home/{name}", shell]
        groups[name] = [name, "x", str(number), ""]
        shadow[name] = [name, "!", "20000", "0", "99999", "7", "", "", ""]
        self._write_table(edits, "passwd", users)
        self._write_table(edits, "group", groups)
        self._write_table(edits, "shadow", shadow, 0o640)
        if "--create-home" in argv:
            edits.write(f"/home/{name}/.profile", "# ~/.profile\n", owner=number)
        self._guest.change(edits)
        return 0, b""

    def run_usermod(self, argv: list[str], _: Mapping[str, str]) -> Answer:
        """``usermod -a -G GROUP USER``."""
        group, user = argv[argv.index("-G") + 1], argv[-1]
        groups, edits = self._table("group"), Edits()
        if group not in groups or user not in self._table("passwd"):
            raise ProgramError(f"usermod: group '{group}' or user '{user}' does not exist", 6)
        members = [name for name in (groups[group] + [""])[3].split(",") if name]
        groups[group] = [*groups[group][:3], ",".join(dict.fromkeys([*members, user]))]
        self._write_table(edits, "group", groups)
        self._guest.change(edits)
        return 0, b""

    # A small shell

    def run_sh(self, argv: list[str], environment: Mapping[str, str]) -> Answer:
        """``sh -c COMMAND`` or ``sh FILE``: simple commands, one a line, with variables and ``>`` or ``>>``."""
        text = argv[1] if argv[:1] == ["-c"] else self._need(argv[0]).decode()
        variables, out, code = dict(environment), b"", 0
        for line in text.splitlines():
            try:
                words = shlex.split(line, comments=True)
            except ValueError as error:
                raise ProgramError(f"sh: syntax error: {error}", 2) from error
            if not words or words[0] == "set":
                continue
            words = [re.sub(r"\$\{?(\w+)\}?", lambda m: variables.get(m[1], ""), word) for word in words]
            if re.fullmatch(r"\w+=.*", words[0]):
                variables[words[0].partition("=")[0]] = words[0].partition("=")[2]
                continue
            if words[0] == "exit":
                return int(words[1]) if len(words) > 1 else code, out
            code, said = self._command(words, variables)
            out += said
            if code and "set -e" in text:
                return code, out
        return code, out

    def _command(self, words: list[str], variables: Mapping[str, str]) -> Answer:
        target = words[-1] if len(words) > 2 and words[-2] in (">", ">>") else None
        argv = words[:-2] if target else words
        if argv[0] in ("echo", "printf"):
            code, said = 0, (" ".join(argv[1:]) + "\n").encode()
        else:
            program = self.find(posixpath.basename(argv[0]))
            if program is None:
                return 127, f"sh: {argv[0]}: not found\n".encode()
            try:
                code, said = program(argv[1:], variables)
            except ProgramError as error:
                return error.code, f"{error}\n".encode()
        if target is None:
            return code, said
        before = (self._guest.read(target) or b"") if words[-2] == ">>" else b""
        self._guest.put(target, before + said)
        return code, b""
