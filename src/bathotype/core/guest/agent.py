"""A client of the QEMU guest agent protocol over any byte stream.

Follows QEMU's documentation of the guest agent protocol (``docs/interop/qemu-ga-ref``): JSON objects over a
byte channel, resynchronised by ``guest-sync-delimited`` and the 0xFF sentinel.
"""

from __future__ import annotations

import base64
import json
import secrets
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any, Protocol

from bathotype.core.errors import BathotypeError, Unavailable

_SENTINEL = b"\xff"
_MOST_LINE = 64 * 1024 * 1024
_READ_PIECE = 1024 * 1024


class ByteStream(Protocol):
    """A channel to a guest agent, as a site provides it."""

    def send(self, data: bytes) -> None:
        """Send all of it.  Raises `Unavailable` when the channel is broken."""
        ...

    def receive(self, timeout: float) -> bytes:
        """Some bytes; empty when none came within ``timeout`` seconds.  Raises `Unavailable`."""
        ...

    def close(self) -> None:
        """Give the channel back."""
        ...


class AgentSilent(Unavailable):
    """The guest agent did not answer in time."""

    code = "agent-silent"


class AgentRefused(BathotypeError):
    """The guest agent answered with an error: ``error_class`` and text are the guest's."""

    code = "agent-refused"

    def __init__(self, message: str, error_class: str) -> None:
        super().__init__(message)
        self.error_class = error_class


@dataclass(frozen=True)
class ExecResult:
    """What a command run in the guest left behind."""

    exit_code: int
    out: bytes
    err: bytes


class GuestAgent:
    """One conversation with a guest's agent.  ``timeout`` in seconds holds for each command."""

    def __init__(self, stream: ByteStream, *, timeout: float = 10.0) -> None:
        self._stream, self._timeout = stream, timeout
        self._buffer = b""

    def sync(self, timeout: float | None = None) -> None:
        """Throw away what an earlier conversation left in the channel.  Call first."""
        token = secrets.randbelow(1 << 31)
        request = {"execute": "guest-sync-delimited", "arguments": {"id": token}}
        self._buffer = b""
        self._stream.send(_SENTINEL + json.dumps(request).encode() + b"\n")
        deadline = time.monotonic() + (timeout or self._timeout)
        while True:
            line = self._line(deadline)
            answer = line.rpartition(_SENTINEL)[2]
            try:
                if json.loads(answer).get("return") == token:
                    return
            except (ValueError, AttributeError):
                continue

    def call(self, command: str, timeout: float | None = None, **arguments: Any) -> Any:
        """Run one agent command and return its result.  Raises `AgentSilent` or `AgentRefused`."""
        request: dict[str, Any] = {"execute": command}
        if arguments:
            request["arguments"] = {name.replace("_", "-"): value for name, value in arguments.items()}
        self._stream.send(json.dumps(request).encode() + b"\n")
        deadline = time.monotonic() + (timeout or self._timeout)
        while True:
            try:
                answer = json.loads(self._line(deadline).replace(_SENTINEL, b""))
            except ValueError:
                continue
            if "error" in answer:
                error = answer["error"]
                raise AgentRefused(f"The guest agent refused {command}: {error.get('desc')}.", error.get("class", ""))
            if "return" in answer:
                return answer["return"]

    def _line(self, deadline: float) -> bytes:
        while b"\n" not in self._buffer:
            left = deadline - time.monotonic()
            if left <= 0:
                raise AgentSilent(
                    "The guest agent does not answer.",
                    advice="Check that the agent runs in the machine and that its channel is connected.",
                )
            self._buffer += self._stream.receive(min(left, 1.0))
            if len(self._buffer) > _MOST_LINE:
                raise AgentSilent("The guest agent sent an answer without end.")
        line, _, self._buffer = self._buffer.partition(b"\n")
        return line

    # Commands

    def ping(self) -> None:
        """Does it answer?"""
        self.call("guest-ping")

    def os_info(self) -> dict[str, str]:
        """``id``, ``version-id``, ``pretty-name`` and more, as os-release has them."""
        return {str(k): str(v) for k, v in self.call("guest-get-osinfo").items()}

    def host_name(self) -> str:
        """The guest's host name."""
        return str(self.call("guest-get-host-name")["host-name"])

    def addresses(self) -> list[str]:
        """Every IP address but loopback's."""
        found = []
        for interface in self.call("guest-network-get-interfaces"):
            for address in interface.get("ip-addresses", []):
                if interface.get("name") != "lo":
                    found.append(str(address["ip-address"]))
        return found

    def commands(self) -> set[str]:
        """The commands that this agent offers and allows."""
        supported = self.call("guest-info")["supported_commands"]
        return {str(c["name"]) for c in supported if c.get("enabled", True)}

    def read_file(self, path: str, *, most: int = 16 * 1024 * 1024) -> bytes:
        """A file in the guest.  Raises `AgentRefused` where it cannot be opened."""
        with self._open(path, "r") as handle:
            data = b""
            while len(data) < most:
                piece = self.call("guest-file-read", handle=handle, count=_READ_PIECE)
                data += base64.b64decode(piece["buf-b64"])
                if piece["eof"] or not piece["count"]:
                    break
            return data

    def write_file(self, path: str, data: bytes) -> None:
        """Replace a file in the guest and flush it to its disk."""
        with self._open(path, "w") as handle:
            for at in range(0, len(data), _READ_PIECE):
                piece = base64.b64encode(data[at : at + _READ_PIECE]).decode()
                self.call("guest-file-write", handle=handle, buf_b64=piece)
            self.call("guest-file-flush", handle=handle)

    @contextmanager
    def _open(self, path: str, mode: str) -> Iterator[int]:
        handle = self.call("guest-file-open", path=path, mode=mode)
        try:
            yield handle
        finally:
            self.call("guest-file-close", handle=handle)

    def run(self, argv: list[str], *, timeout: float = 60.0) -> ExecResult:
        """Run a program in the guest and wait for its end.  Raises `AgentSilent` past ``timeout`` seconds."""
        process = self.call("guest-exec", path=argv[0], arg=argv[1:], capture_output=True)["pid"]
        deadline = time.monotonic() + timeout
        pause = 0.02
        while time.monotonic() < deadline:
            status = self.call("guest-exec-status", pid=process)
            if status["exited"]:
                return ExecResult(
                    int(status.get("exitcode", -1)),
                    base64.b64decode(status.get("out-data", "")),
                    base64.b64decode(status.get("err-data", "")),
                )
            time.sleep(pause)
            pause = min(pause * 1.5, 1.0)
        raise AgentSilent(f"{argv[0]} did not end within {timeout:.0f} s in the guest.")

    # Freezing

    def freeze_status(self) -> str:
        """``frozen`` or ``thawed``."""
        return str(self.call("guest-fsfreeze-status"))

    def freeze(self, *, timeout: float) -> int:
        """Freeze every file system; returns how many.  Writers in the guest wait until `thaw`."""
        return int(self.call("guest-fsfreeze-freeze", timeout=timeout))

    def thaw(self) -> int:
        """Thaw; returns how many file systems were frozen.  Harmless when none was."""
        return int(self.call("guest-fsfreeze-thaw"))
