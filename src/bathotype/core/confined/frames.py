"""What goes between a reader and its confined child: frames over a socket, each a kind and its body.

The child asks for bytes of the sources that it may read, reports how far it is, and gives its answer.  Bodies are JSON or
plain bytes, never pickles: nothing that the child says is more than data.  Files that it may use come as descriptors.
"""

from __future__ import annotations

import json
import math
import select
import socket
import struct
import time
from dataclasses import dataclass
from typing import Any

import numpy as np

from bathotype.core import errors
from bathotype.core.disk.ranges import Ranges
from bathotype.core.errors import BathotypeError, Damaged

#: No frame is larger, in bytes.
MOST = 256 * 1024 * 1024
#: No read is larger: what is longer is read in several.
MOST_READ = 16 * 1024 * 1024

# Kinds of frames.  From the child:
READ, ALLOCATED, TOOL, PROGRESS, PIECE, ANSWER, FAILED = b"r", b"a", b"t", b"p", b"d", b"=", b"!"
# To it:
REQUEST, BYTES, REFUSED = b"?", b"+", b"-"

_READ, _PROGRESS = struct.Struct("<BQI"), struct.Struct("<QQ")
_LENGTH, _AT_ONCE = struct.Struct("<I"), 1024 * 1024
_CLASSES = {
    kind.__name__: kind for kind in vars(errors).values() if isinstance(kind, type) and issubclass(kind, BathotypeError)
}


@dataclass(frozen=True)
class Frame:
    """One frame."""

    kind: bytes
    body: bytes

    def json(self) -> Any:
        """The body as JSON.  Raises `Damaged`."""
        try:
            return json.loads(self.body)
        except (ValueError, RecursionError) as error:
            raise Damaged("A frame holds no JSON.") from error

    def numbers(self) -> tuple[int, ...]:
        """The numbers of a `READ`, an `ALLOCATED` or a `PROGRESS`.  Raises `Damaged`."""
        form = {READ: _READ, PROGRESS: _PROGRESS, ALLOCATED: struct.Struct("<B")}[self.kind]
        if len(self.body) != form.size:
            raise Damaged("A frame has another length than its kind.")
        return tuple(int(n) for n in form.unpack(self.body))


class Wire:
    """One end of the socket.  ``deadline``, of `time.monotonic`, bounds every frame that is sent or taken, begun or whole:
    past it they raise `TimeoutError`."""

    def __init__(self, end: socket.socket) -> None:
        self._socket, self.deadline = end, math.inf

    def close(self) -> None:
        """End it."""
        self._socket.close()

    def waits(self, seconds: float) -> bool:
        """Whether a frame, or the end, comes within so many seconds."""
        return bool(select.select([self._socket], [], [], seconds)[0])

    def send(self, kind: bytes, body: bytes = b"") -> None:
        """Send a frame."""
        self._bound()
        self._socket.sendall(_LENGTH.pack(len(body)) + kind)
        if body:
            self._socket.sendall(body)

    def take(self) -> Frame:
        """The next frame.  Raises `EOFError` at the end, and `OSError` where it is too large."""
        (length,) = _LENGTH.unpack(self._exactly(_LENGTH.size))
        kind = self._exactly(1)
        if length > MOST:
            raise OSError("a frame is too large")
        return Frame(kind, self._exactly(length))

    def _exactly(self, length: int) -> bytes:
        data = bytearray()  # grows with what comes, not with what is announced
        while len(data) < length:
            self._bound()
            piece = self._socket.recv(min(length - len(data), _AT_ONCE))
            if not piece:
                raise EOFError
            data += piece
        return bytes(data)

    def _bound(self) -> None:
        if self.deadline != math.inf:
            left = self.deadline - time.monotonic()
            if left <= 0:
                raise TimeoutError
            self._socket.settimeout(left)

    def send_json(self, kind: bytes, body: Any) -> None:
        """Send a frame whose body is JSON."""
        self.send(kind, json.dumps(body).encode())

    def send_files(self, descriptors: list[int]) -> None:
        """Give the other end open files (SCM_RIGHTS of unix(7))."""
        if descriptors:
            socket.send_fds(self._socket, [b"f"], descriptors)

    def take_files(self, count: int) -> list[int]:
        """As many open files as the other end gives."""
        return list(socket.recv_fds(self._socket, 1, count)[1]) if count else []


def read_request(source: int, offset: int, length: int) -> bytes:
    """The body of a `READ`."""
    return _READ.pack(source, offset, length)


def progress_report(done: int, total: int) -> bytes:
    """The body of a `PROGRESS`."""
    return _PROGRESS.pack(done, total)


def ranges_out(ranges: Ranges) -> bytes:
    """Ranges as little-endian numbers of eight bytes, a start and an end in turn."""
    return np.stack((ranges.starts, ranges.ends), axis=1).astype("<i8").tobytes()


def ranges_in(data: bytes) -> Ranges:
    """The same back.  Raises `ValueError` unless they ascend from 0 on."""
    if len(data) % 16:
        raise ValueError("ranges are cut short")
    table = np.frombuffer(data, "<i8").astype(np.int64)
    if len(table) and (table[0] < 0 or not bool((np.diff(table) > 0).all())):
        raise ValueError("ranges are not in order")
    return Ranges(table[0::2].copy(), table[1::2].copy())


def error_out(error: BathotypeError) -> dict[str, str]:
    """An error as data."""
    return {"class": type(error).__name__, "message": error.message, "advice": error.advice, "code": error.code}


def error_in(data: Any) -> BathotypeError:
    """The same back; `Damaged` for what is none of ours."""
    if not isinstance(data, dict):
        return Damaged("The process that reads it answers with what is no error.")
    told = {key: str(data.get(key, ""))[:2000] for key in ("class", "message", "advice", "code")}
    return _CLASSES.get(told["class"], Damaged)(told["message"], advice=told["advice"], code=told["code"] or None)
