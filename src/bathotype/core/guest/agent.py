"""A client of the QEMU guest agent protocol over any byte stream.

Follows QEMU's documentation of the guest agent protocol (``docs/interop/qemu-ga-ref``): JSON objects over a
byte channel, resynchronised by ``guest-sync-delimited`` and the 0xFF sentinel.
"""

from __future__ import annotations

import base64
import json
import secrets
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from functools import lru_cache
from typing import Any, Protocol, TypeVar

from pydantic import TypeAdapter, ValidationError

from bathotype.core.errors import BathotypeError, Unavailable
from bathotype.core.guest import answers

_SENTINEL = b"\xff"
_MOST_LINE = 64 * 1024 * 1024
_READ_PIECE = 1024 * 1024
_MOST_TEXT, _MOST_ADDRESSES, _MOST_SMALL = 1000, 256, 1024 * 1024
#: Between two looks whether a program has ended, in seconds.
_FIRST_PAUSE, _LONGEST_PAUSE = 0.02, 1.0
#: For a whole file, in seconds.
_FILE_SECONDS = 120.0

_T = TypeVar("_T")


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


#: To make an adapter takes a hundred times as long as to use it.
_adapter: Callable[[Any], TypeAdapter[Any]] = lru_cache(TypeAdapter)


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
        self._buffer = bytearray()

    def sync(self, timeout: float | None = None) -> None:
        """Throw away what an earlier conversation left in the channel.  Call first."""
        token = secrets.randbelow(1 << 31)
        request = {"execute": "guest-sync-delimited", "arguments": {"id": token}}
        self._buffer = bytearray()
        self._stream.send(_SENTINEL + json.dumps(request).encode() + b"\n")
        deadline = time.monotonic() + (timeout or self._timeout)
        while True:
            answer = _read(self._line(deadline).rpartition(_SENTINEL)[2])
            if answer is not None and answer.get("return") == token:
                return

    def call(self, command: str, timeout: float | None = None, **arguments: Any) -> Any:
        """Run one agent command and return its result as it came.  Raises `AgentSilent` or `AgentRefused`."""
        request: dict[str, Any] = {"execute": command}
        if arguments:
            request["arguments"] = {name.replace("_", "-"): value for name, value in arguments.items()}
        self._stream.send(json.dumps(request).encode() + b"\n")
        deadline = time.monotonic() + (timeout or self._timeout)
        while True:
            answer = _read(self._line(deadline).replace(_SENTINEL, b"")) or {}
            if "error" in answer:
                error = self._checked(command, answer["error"], answers.Failure)
                raise AgentRefused(f"The guest agent refused {command}: {error.description}.", error.error_class)
            if "return" in answer:
                return answer["return"]

    def _ask(self, command: str, kind: type[_T], timeout: float | None = None, **arguments: Any) -> _T:
        """Run a command whose answer is of a kind."""
        return self._checked(command, self.call(command, timeout, **arguments), kind)

    @staticmethod
    def _checked(command: str, answer: Any, kind: type[_T]) -> _T:
        try:
            checked: _T = _adapter(kind).validate_python(answer)
        except ValidationError as error:
            raise _nonsense(command) from error
        return checked

    def _line(self, deadline: float) -> bytes:
        looked = 0
        while (end := self._buffer.find(b"\n", looked)) < 0:
            looked = len(self._buffer)
            left = deadline - time.monotonic()
            if left <= 0:
                raise AgentSilent(
                    "The guest agent does not answer.",
                    advice="Check that the agent runs in the machine and that its channel is connected.",
                )
            self._buffer += self._stream.receive(min(left, 1.0))
            if len(self._buffer) > _MOST_LINE:
                raise AgentSilent("The guest agent sent an answer without end.")
        line = bytes(self._buffer[:end])
        del self._buffer[: end + 1]
        return line

    # Commands

    def ping(self) -> None:
        """Does it answer?"""
        self.call("guest-ping")

    def os_info(self) -> dict[str, str]:
        """``id``, ``version-id``, ``pretty-name`` and more, as os-release has them."""
        told = self._ask("guest-get-osinfo", answers.OsInfo)
        return {name: answers.plain(str(value)[:_MOST_TEXT]) for name, value in told.items()}

    def host_name(self) -> str:
        """The guest's host name."""
        return self._ask("guest-get-host-name", answers.HostName).host_name

    def addresses(self) -> list[str]:
        """Every IP address but loopback's."""
        interfaces = self._ask("guest-network-get-interfaces", answers.Interfaces)
        return [a.address for one in interfaces if one.name != "lo" for a in one.addresses if a.is_one][
            :_MOST_ADDRESSES
        ]

    def mounted_bytes(self, point: str) -> int | None:
        """The size of the file system that is mounted there; None where the agent does not report it."""
        found = self._ask("guest-get-fsinfo", answers.FileSystems)
        return next((one.total_bytes for one in found if one.mountpoint == point), None)

    def mounted_use(self, point: str) -> tuple[int, int] | None:
        """Bytes that are used of the file system that is mounted there, and its size; None where the agent does not
        report them."""
        for one in self._ask("guest-get-fsinfo", answers.FileSystems):
            if one.mountpoint == point and one.total_bytes is not None and one.used_bytes is not None:
                return one.used_bytes, one.total_bytes
        return None

    def commands(self) -> set[str]:
        """The commands that this agent offers and allows."""
        return {c.name for c in self._ask("guest-info", answers.Info).supported_commands if c.enabled}

    def read_file(self, path: str, *, most: int = 16 * 1024 * 1024) -> bytes:
        """A file in the guest.  Raises `AgentRefused` where it cannot be opened."""
        deadline = time.monotonic() + _FILE_SECONDS
        with self._open(path, "r") as handle:
            data = b""
            while len(data) < most:
                piece = self._ask("guest-file-read", answers.Piece, handle=handle, count=_READ_PIECE)
                got = _decoded("guest-file-read", piece.data)
                data += got
                if piece.eof:
                    break
                if not got or time.monotonic() > deadline:
                    raise AgentSilent(f"The guest agent does not reach the end of {path}.")
            return data[:most]

    def read_text(self, path: str) -> str:
        """A small text file in the guest; what is not UTF-8 is replaced, and so are NUL characters."""
        text = self.read_file(path, most=_MOST_SMALL).decode("utf-8", "replace")
        return text.replace("\0", "\N{REPLACEMENT CHARACTER}")

    def write_file(self, path: str, data: bytes) -> None:
        """Replace a file in the guest and flush it to its disk."""
        self.write_pieces(path, [data])

    def write_pieces(self, path: str, pieces: Iterable[bytes]) -> None:
        """The same with the bytes one piece after another."""
        with self._open(path, "w") as handle:
            for data in pieces:
                for at in range(0, len(data), _READ_PIECE):
                    piece = base64.b64encode(data[at : at + _READ_PIECE]).decode()
                    self.call("guest-file-write", handle=handle, buf_b64=piece)
            self.call("guest-file-flush", handle=handle)

    @contextmanager
    def _open(self, path: str, mode: str) -> Iterator[int]:
        handle = self._ask("guest-file-open", answers.Handle, path=path, mode=mode)
        try:
            yield handle
        finally:
            self.call("guest-file-close", handle=handle)

    def run(
        self,
        argv: Sequence[str],
        *,
        timeout: float = 60.0,
        environment: Mapping[str, str] | None = None,
        check: Callable[[], None] = lambda: None,
    ) -> ExecResult:
        """Run a program in the guest and wait for its end.  Raises `AgentSilent` past ``timeout`` seconds.

        ``environment`` is all that it is given, where it is given; ``check`` is called in each round and may raise.
        """
        given: dict[str, Any] = (
            {} if environment is None else {"env": [f"{name}={value}" for name, value in environment.items()]}
        )
        process = self._ask(
            "guest-exec", answers.Started, path=argv[0], arg=list(argv[1:]), capture_output=True, **given
        ).pid
        began = time.monotonic()
        while (spent := time.monotonic() - began) < timeout:
            status = self._ask("guest-exec-status", answers.Status, pid=process)
            if status.exited:
                out, err = (_decoded("guest-exec-status", text) for text in (status.out, status.err))
                return ExecResult(status.exit_code, out, err)
            check()
            time.sleep(min(_FIRST_PAUSE + spent / 20, _LONGEST_PAUSE))  # its end is seen soon, as it goes
        raise AgentSilent(f"{argv[0]} did not end within {timeout:.0f} s in the guest.")

    def shutdown(self) -> None:
        """Ask the guest to shut down.  The protocol gives no answer to this; whether it does is seen at the site."""
        self._stream.send(json.dumps({"execute": "guest-shutdown"}).encode() + b"\n")

    # Freezing

    def freeze_status(self) -> str:
        """``frozen`` or ``thawed``."""
        return self._ask("guest-fsfreeze-status", answers.Line)

    def freeze(self, *, timeout: float) -> int:
        """Freeze every file system; returns how many.  Writers in the guest wait until `thaw`."""
        return self._ask("guest-fsfreeze-freeze", answers.Count, timeout)

    def thaw(self) -> int:
        """Thaw; returns how many file systems were frozen.  Harmless when none was."""
        return self._ask("guest-fsfreeze-thaw", answers.Count)


def _read(line: bytes) -> dict[str, Any] | None:
    """A line's JSON object, None where it is none."""
    try:
        answer = json.loads(line)
    except (ValueError, RecursionError):
        return None
    return answer if isinstance(answer, dict) else None


def _decoded(command: str, text: str) -> bytes:
    try:
        return base64.b64decode(text)
    except ValueError as error:
        raise _nonsense(command) from error


def _nonsense(command: str) -> AgentSilent:
    return AgentSilent(
        f"The guest agent's answer to {command} is not what its protocol says.",
        advice="Look at the agent in the machine: it may be broken, or something else answers in its place.",
    )
