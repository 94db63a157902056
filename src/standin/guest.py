"""Modelled guests: what answers on a machine's agent channel, with its real disk behind it.

A modelled Linux guest reads and writes the ext4 file system of its boot disk.  Guests whose disk cannot be
read from outside (encrypted, or with another system's file system) are *opaque*: their few facts lie on the
disk as well, so that a copy of the disk is a copy of the machine.
"""

from __future__ import annotations

import base64
import itertools
import json
import posixpath
import re
import secrets
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import yaml

from standin.counters import Counters
from standin.desktop import Desktop
from standin.disks import Part, partitions
from standin.firstboot import read_seed, start_linux
from standin.guestfiles import Edits, GuestFiles
from standin.programs import ProgramError, Programs

#: Where an opaque guest's facts lie: behind the first MiB of its system partition.
OPAQUE_MARK = b"standin opaque guest\n"
OPAQUE_OFFSET = 1024 * 1024

_WHILE_FROZEN = {
    "guest-sync",
    "guest-sync-delimited",
    "guest-ping",
    "guest-info",
    "guest-fsfreeze-status",
    "guest-fsfreeze-thaw",
}


class AgentError(Exception):
    """An answer that the agent gives as an error."""

    def __init__(self, text: str, error_class: str = "GenericError") -> None:
        super().__init__(text)
        self.error_class = error_class


@dataclass
class _Process:
    """A program running in the guest."""

    done: threading.Event = field(default_factory=threading.Event)
    code: int = 0
    out: bytes = b""
    err: bytes = b""


@dataclass(frozen=True)
class GuestFacts:
    """What the site knows about the machine around the guest."""

    machine: str
    image: Path
    address: str
    mac: str
    online: bool = True
    processors: int = 1
    memory_mib: int = 512


class ModelledGuest:
    """One running guest.  ``write_lock`` is held while it writes: whoever copies its disk takes it too."""

    def __init__(
        self, facts: GuestFacts, *, frozen: bool, on_frozen: Callable[[bool], None], on_off: Callable[[], None]
    ) -> None:
        self.facts = facts
        self.write_lock = threading.RLock()
        self._thawed = threading.Event()
        if not frozen:
            self._thawed.set()
        self._on_frozen, self._on_off = on_frozen, on_off
        self._handles: dict[int, tuple[str, str, bytearray, int]] = {}
        self._processes: dict[int, _Process] = {}
        # Of processes and open files, which several conversations ask for at once.
        self._serials = itertools.count(1001)
        self._stopped = threading.Event()
        parts = partitions(facts.image)
        self._desktop = _read_desktop(facts.image, parts)
        self._opaque = self._desktop.facts if self._desktop is not None else _read_opaque(facts.image, parts)
        self._files = None if self._opaque is not None else GuestFiles(facts.image, parts)
        self._memory: dict[str, bytes] = {}  # what lies below /run
        self.stopped_services: set[str] = set()
        self._programs = Programs(self)
        self._counters = Counters(facts.processors, facts.memory_mib)
        self._commands: dict[str, Callable[..., Any]] = {
            "guest-sync": lambda id: id,
            "guest-sync-delimited": lambda id: id,
            "guest-ping": dict,
            "guest-info": self._info,
            "guest-get-osinfo": self._osinfo,
            "guest-get-host-name": lambda: {"host-name": self.host_name()},
            "guest-get-time": time.time_ns,
            "guest-get-timezone": lambda: {"zone": "UTC", "offset": 0},
            "guest-network-get-interfaces": self._interfaces,
            "guest-get-fsinfo": self._file_systems,
            "guest-fsfreeze-status": lambda: "thawed" if self._thawed.is_set() else "frozen",
            "guest-fsfreeze-freeze": self._freeze,
            "guest-fsfreeze-thaw": self._thaw,
            "guest-file-open": self._open,
            "guest-file-read": self._read,
            "guest-file-write": self._write,
            "guest-file-seek": self._seek,
            "guest-file-flush": self._flush,
            "guest-file-close": self._close,
            "guest-exec": self._exec,
            "guest-exec-status": self._exec_status,
            "guest-shutdown": self._shutdown,
        }

    # Life

    def start(self, seed: bytes | None) -> list[str]:
        """Boot; returns console lines."""
        if self._desktop is not None:
            with self.write_lock:
                return self._desktop.start(seed)
        if self._files is None:
            return [f"boot: {self._opaque_value('host_name', 'guest')} is up"]
        with self.write_lock:
            return start_linux(self._files, read_seed(seed) if seed else None, self._memory)

    def stop(self) -> None:
        """The power is gone."""
        self._stopped.set()
        self._thawed.set()

    def handle(self, request: dict[str, Any]) -> Any:
        """Answer one agent command.  Raises `AgentError`."""
        name = request.get("execute", "")
        handler = self._commands.get(name)
        if handler is None:
            raise AgentError(f"The command {name} has not been found", "CommandNotFound")
        if not self._thawed.is_set() and name not in _WHILE_FROZEN:
            raise AgentError(f"Command {name} has been disabled: the agent is in frozen state", "CommandNotFound")
        arguments = {key.replace("-", "_"): value for key, value in (request.get("arguments") or {}).items()}
        try:
            return handler(**arguments)
        except TypeError as error:
            raise AgentError(f"Invalid parameters for {name}") from error

    # Facts

    def _opaque_value(self, key: str, default: Any = "") -> Any:
        return (self._opaque or {}).get(key, default)

    def page(self, path: str) -> str | None:
        """What its web server shows; None where it has none."""
        data = self._files.read(path) if self._files is not None else None
        return data.decode("utf-8", "replace") if data else None

    def host_name(self) -> str:
        """The guest's host name."""
        if self._files is None:
            return str(self._opaque_value("host_name"))
        return (self._files.read("/etc/hostname") or b"localhost").decode().strip()

    def _file_systems(self) -> list[dict[str, Any]]:
        if self._files is None:
            return []
        total, used = self._files.room()
        facts = {"total-bytes": total, "used-bytes": used}
        return [{"name": "root", "mountpoint": "/", "type": "ext4", **facts, "disk": []}]

    def _info(self) -> dict[str, Any]:
        able = ("guest-file", "guest-exec") if self._desktop is None else ("guest-file",)
        hidden = set() if self._files else {n for n in self._commands if n.startswith(able)}
        return {
            "version": "7.2.0",
            "supported_commands": [
                {"name": n, "enabled": n not in hidden, "success-response": True} for n in self._commands
            ],
        }

    def _osinfo(self) -> dict[str, str]:
        if self._files is None:
            return dict(self._opaque_value("os", {}))
        fields = {}
        for line in (self._files.read("/etc/os-release") or b"").decode().splitlines():
            key, _, value = line.partition("=")
            fields[key] = value.strip('"')
        return {
            "id": fields.get("ID", "linux"),
            "name": fields.get("NAME", "Linux"),
            "pretty-name": fields.get("PRETTY_NAME", "Linux"),
            "version-id": fields.get("VERSION_ID", ""),
            "machine": "x86_64",
        }

    def _interfaces(self) -> list[dict[str, Any]]:
        loopback = {"name": "lo", "ip-addresses": [{"ip-address": "127.0.0.1", "ip-address-type": "ipv4", "prefix": 8}]}
        addresses = self._static_addresses() or [f"{self.facts.address}/24"]
        first = {
            "name": "enp1s0",
            "hardware-address": self.facts.mac,
            "ip-addresses": [
                {
                    "ip-address": text.partition("/")[0],
                    "ip-address-type": "ipv6" if ":" in text else "ipv4",
                    "prefix": int(text.partition("/")[2]),
                }
                for text in addresses
            ],
        }
        return [loopback, first]

    def _static_addresses(self) -> list[str]:
        """The addresses that first boot set; none where the network gives one."""
        written = (self._files.read("/etc/netplan/50-cloud-init.yaml") if self._files else None) or b""
        cards = ((yaml.safe_load(written) or {}).get("network") or {}).get("ethernets") or {}
        return [address for card in cards.values() for address in card.get("addresses", [])]

    # Freezing

    def _freeze(self) -> int:
        with self.write_lock:  # a write under way is finished first
            self._thawed.clear()
            self._on_frozen(True)
        return 1

    def _thaw(self) -> int:
        frozen = not self._thawed.is_set()
        self._on_frozen(False)
        self._thawed.set()
        return int(frozen)

    # Files

    @property
    def files(self) -> GuestFiles:
        """Its disk."""
        return self._need_files()

    @property
    def online(self) -> bool:
        """Whether it reaches the repository of packages."""
        return self.facts.online

    def names(self) -> set[str]:
        """Paths in memory."""
        return set(self._memory)

    def read(self, path: str) -> bytes | None:
        """A file, of memory too."""
        if path == "/proc/net/tcp":
            return self._programs.ports()
        if path in self._counters.files:
            return self._counters.files[path]()
        return self._memory[path] if path in self._memory else self._need_files().read(path)

    def put(self, path: str, data: bytes) -> None:
        """Write one, once the disk is not frozen."""
        self._put(path, data)

    def change(self, edits: Edits) -> None:
        """Change the disk, once it is not frozen."""
        while True:
            self._thawed.wait()
            with self.write_lock:
                if self._thawed.is_set():
                    self._need_files().change(edits)
                    self._counters.written += sum(len(data) for data, _, _ in edits.written.values())
                    return

    def _need_files(self) -> GuestFiles:
        if self._files is None:
            raise AgentError("this guest's files are not modelled")
        return self._files

    def _open(self, path: str, mode: str = "r") -> int:
        current = self.read(path)
        if current is None and mode.startswith("r"):
            raise AgentError(f"failed to open file '{path}' (mode: '{mode}'): No such file or directory")
        data = bytearray() if mode.startswith("w") else bytearray(current or b"")
        handle = next(self._serials)
        self._handles[handle] = (path, mode, data, len(data) if mode.startswith("a") else 0)
        return handle

    def _handle(self, handle: int) -> tuple[str, str, bytearray, int]:
        if handle not in self._handles:
            raise AgentError(f"handle '{handle}' has not been found")
        return self._handles[handle]

    def _read(self, handle: int, count: int = 4096) -> dict[str, Any]:
        path, mode, data, at = self._handle(handle)
        piece = bytes(data[at : at + count])
        self._handles[handle] = (path, mode, data, at + len(piece))
        return {"count": len(piece), "buf-b64": base64.b64encode(piece).decode(), "eof": at + len(piece) >= len(data)}

    def _write(self, handle: int, buf_b64: str, count: int | None = None) -> dict[str, Any]:
        path, mode, data, at = self._handle(handle)
        piece = base64.b64decode(buf_b64)[:count]
        data[at : at + len(piece)] = piece
        self._handles[handle] = (path, mode, data, at + len(piece))
        return {"count": len(piece), "eof": False}

    def _seek(self, handle: int, offset: int, whence: int | str = 0) -> dict[str, Any]:
        path, mode, data, at = self._handle(handle)
        base = {0: 0, "set": 0, 1: at, "cur": at, 2: len(data), "end": len(data)}[whence]
        self._handles[handle] = (path, mode, data, base + offset)
        return {"position": base + offset, "eof": False}

    def _flush(self, handle: int) -> dict[str, Any]:
        path, mode, data, _ = self._handle(handle)
        if not mode.startswith("r") or "+" in mode:
            self._put(path, bytes(data))
        return {}

    def _close(self, handle: int) -> dict[str, Any]:
        self._flush(handle)
        del self._handles[handle]
        return {}

    def _put(self, path: str, data: bytes) -> None:
        """Write a file, waiting while the file systems are frozen."""
        if path.startswith("/run/"):
            self._memory[path] = data
            return
        edits = Edits()
        edits.write(path, data)
        self.change(edits)

    # Programs

    def _exec(
        self,
        path: str,
        arg: list[str] | None = None,
        capture_output: bool = False,
        env: list[str] | None = None,
        **_: Any,
    ) -> dict[str, int]:
        argv = [re.split(r"[/\\]", path)[-1], *(arg or [])]
        program = self._program(argv[0], dict(item.split("=", 1) for item in env or ()))
        if program is None:
            raise AgentError(
                f"Guest agent command failed, error was 'Failed to execute child process “{path}” (No such file or directory)'"
            )
        pid = next(self._serials)
        process = self._processes[pid] = _Process()

        def run() -> None:
            try:
                with self._counters.working(posixpath.basename(argv[0])):
                    code, out = program(argv[1:])
            except ProgramError as error:
                code, out = error.code, b""
                process.err = f"{argv[0]}: {error}\n".encode()
            except (OSError, ValueError, IndexError, AgentError) as error:
                code, out = 1, b""
                process.err = f"{argv[0]}: {error}\n".encode()
            process.code, process.out = code, out if capture_output else b""
            process.done.set()

        threading.Thread(target=run, daemon=True).start()
        return {"pid": pid}

    def _program(self, name: str, environment: dict[str, str]) -> Callable[[list[str]], tuple[int, bytes]] | None:
        own: Callable[[list[str]], tuple[int, bytes]] | None = getattr(self, "_run_" + re.sub(r"\W", "_", name), None)
        if own is not None or self._files is None:
            return own
        found = self._programs.find(name)
        return None if found is None else lambda argv: found(argv, environment)

    def _exec_status(self, pid: int) -> dict[str, Any]:
        process = self._processes.get(pid)
        if process is None:
            raise AgentError(f"PID {pid} does not exist")
        if not process.done.is_set():
            return {"exited": False}
        return {
            "exited": True,
            "exitcode": process.code,
            "out-data": base64.b64encode(process.out).decode(),
            "err-data": base64.b64encode(process.err).decode(),
        }

    def _run_true(self, argv: list[str]) -> tuple[int, bytes]:
        return 0, b""

    def _run_cat(self, argv: list[str]) -> tuple[int, bytes]:
        out = b""
        for path in argv:
            data = self.read(path)
            if data is None:
                raise OSError(f"{path}: No such file or directory")
            out += data
        return 0, out

    def _run_hostname(self, argv: list[str]) -> tuple[int, bytes]:
        return 0, f"{self.host_name()}\n".encode()

    def _run_rm(self, argv: list[str]) -> tuple[int, bytes]:
        edits = Edits()
        for path in argv:
            if path in self._memory:
                del self._memory[path]
            elif not path.startswith("-"):
                edits.remove(path)
        if edits.removed:
            self.change(edits)
        return 0, b""

    def _run_gauge_logger(self, argv: list[str]) -> tuple[int, bytes]:
        """The demo's own workload: appends lines to a file, one every few milliseconds, as a busy writer does."""
        path, count, pause = argv[0], int(argv[1]), float(argv[2]) / 1000
        slowest, written = 0.0, self._need_files().read(path) or b""
        for number in range(count):
            if self._stopped.is_set():
                break
            began = time.monotonic()
            written += f"{time.time():.3f} reading {number}\n".encode()
            self._put(path, written)
            slowest = max(slowest, time.monotonic() - began)
            time.sleep(pause)
        return 0, json.dumps({"lines": count, "slowest_write_seconds": round(slowest, 3)}).encode()

    def _run_setup_exe(self, argv: list[str]) -> tuple[int, bytes]:
        """A desktop's installer."""
        if self._desktop is None:
            raise OSError("setup.exe: not found")
        self._thawed.wait()
        with self.write_lock:
            return self._desktop.install(argv)

    def _run_prepare_exe(self, argv: list[str]) -> tuple[int, bytes]:
        """A desktop's own preparation tool, which shuts it down when it has ended well."""
        if self._desktop is None:
            raise OSError("prepare.exe: not found")
        self._thawed.wait()
        with self.write_lock:
            code, out = self._desktop.prepare(argv)
        if not code:
            self._shutdown()
        return code, out

    def _shutdown(self, mode: str = "powerdown") -> dict[str, Any]:
        threading.Thread(target=self._on_off, daemon=True).start()
        return {}


def _read_desktop(image: Path, parts: list[Part]) -> Desktop | None:
    try:
        return Desktop(image, parts)
    except LookupError:
        return None


def _read_opaque(image: Path, parts: list[Part]) -> dict[str, Any] | None:
    for part in parts:
        with image.open("rb") as file:
            file.seek(part.start + OPAQUE_OFFSET)
            block = file.read(4096)
        if block.startswith(OPAQUE_MARK):
            return dict(json.loads(block[len(OPAQUE_MARK) :].split(b"\0")[0]))
    return None


def opaque_block(facts: dict[str, Any]) -> bytes:
    """The block in which an opaque guest's facts lie."""
    return (OPAQUE_MARK + json.dumps(facts).encode()).ljust(4096, b"\0")


def new_mac() -> str:
    """A locally administered address with QEMU's usual prefix."""
    return "52:54:00:" + ":".join(f"{b:02x}" for b in secrets.token_bytes(3))
