"""A client of the NBD protocol, newstyle negotiation with structured replies.

Follows the protocol document of the Network Block Device project (``doc/proto.md``): fixed newstyle
negotiation, ``NBD_OPT_GO``, structured replies, the ``base:allocation`` metadata context, and QEMU's
``qemu:dirty-bitmap:NAME`` (QEMU's ``docs/interop/nbd``).
"""

from __future__ import annotations

import contextlib
import socket
import struct
import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from urllib.parse import unquote, urlsplit

import numpy as np
import numpy.typing as npt

from bathotype.core.disk.ranges import Ranges
from bathotype.core.errors import Damaged, Invalid, Unavailable

_MAGIC = 0x4E42444D41474943
_OPTION_MAGIC = 0x49484156454F5054
_OPTION_REPLY_MAGIC = 0x3E889045565A9
_REQUEST_MAGIC = 0x25609513
_SIMPLE_REPLY_MAGIC = 0x67446698
_STRUCTURED_REPLY_MAGIC = 0x668E33EF

_OPT_ABORT, _OPT_GO, _OPT_STRUCTURED_REPLY, _OPT_SET_META_CONTEXT = 2, 7, 8, 10
_REP_ACK, _REP_INFO, _REP_META_CONTEXT = 1, 3, 4
_INFO_EXPORT = 0
_CMD_READ, _CMD_WRITE, _CMD_DISC, _CMD_FLUSH, _CMD_WRITE_ZEROES, _CMD_BLOCK_STATUS = 0, 1, 2, 3, 6, 7
_CHUNK_NONE, _CHUNK_OFFSET_DATA, _CHUNK_OFFSET_HOLE, _CHUNK_BLOCK_STATUS = 0, 1, 2, 5
_FLAG_READ_ONLY, _FLAG_FLUSH, _FLAG_WRITE_ZEROES = 1 << 1, 1 << 2, 1 << 6
_STATE_ZERO = 2
_STATE_DIRTY = 1
_ERRORS = {
    1: "not permitted",
    5: "input/output error",
    12: "out of memory",
    22: "invalid request",
    28: "no space left on the server",
    75: "value too large",
    95: "not supported",
    108: "server is shutting down",
}
_CHUNK_ERROR = 1 << 15
_NO_REPLY = "The NBD server sent something that is no reply."
_ENDLESS = "The NBD server sent an answer without end."
_HOW = "Give nbd://HOST:PORT/EXPORT."
_MOST = 4 * 1024 * 1024
_MOST_REPLY = 64 * 1024 * 1024
_MOST_PARTS, _MOST_OPTION_REPLIES, _MOST_EXTENTS = 1 << 16, 1000, 1 << 24


@dataclass(frozen=True)
class NbdAddress:
    """A place from an NBD URI: ``nbd://host:port/export`` or ``nbd+unix:///export?socket=path``."""

    export: str
    host: str = ""
    port: int = 10809
    socket_path: str = ""

    @classmethod
    def parse(cls, uri: str) -> NbdAddress:
        """Raises `Invalid` for anything but an NBD URI."""
        try:
            parts = urlsplit(uri)
            host, port = parts.hostname, parts.port
        except ValueError as error:
            raise Invalid(f"{uri[:200]!r} is not an NBD address.", advice=_HOW) from error
        export = unquote(parts.path.lstrip("/"))
        if parts.scheme == "nbd" and host:
            return cls(export, host, port or 10809)
        if parts.scheme == "nbd+unix" and parts.query.startswith("socket="):
            return cls(export, socket_path=unquote(parts.query.removeprefix("socket=")))
        raise Invalid(f"{uri[:200]!r} is not an NBD address.", advice=_HOW)


class NbdDisk:
    """One connection to one export; a `BlockSource` that can also be written.

    Errors of the connection are `Unavailable` (try again with a new connection); an error that the server
    reports for a request is `Damaged`.  Safe to use from several threads: requests take turns.

    ``changes`` names a metadata context in which the server reports changed ranges, for `changed`.
    """

    def __init__(self, uri: str, *, timeout: float = 30.0, changes: str | None = None) -> None:
        self.address = NbdAddress.parse(uri)
        self._changes_name = changes
        self._changes: int | None = None
        self._lock = threading.Lock()
        self._cookie = 0
        self._context: int | None = None
        self._size = 0
        self._flags = 0
        self._negotiating = True
        try:
            self._socket = self._connect(timeout)
        except OSError as error:
            raise Unavailable(f"The NBD server does not answer: {error}.") from error
        try:
            self._negotiate()
        except BaseException:
            self._socket.close()
            raise
        self._negotiating = False

    def _connect(self, timeout: float) -> socket.socket:
        if self.address.socket_path:
            connection = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
            connection.settimeout(timeout)
            connection.connect(self.address.socket_path)
        else:
            connection = socket.create_connection((self.address.host, self.address.port), timeout)
            connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        # The kernel keeps the time limit, not Python: then one call can wait for all of an answer.
        connection.settimeout(None)
        limit = struct.pack("ll", int(timeout), int(timeout % 1 * 1_000_000))
        connection.setsockopt(socket.SOL_SOCKET, socket.SO_RCVTIMEO, limit)
        connection.setsockopt(socket.SOL_SOCKET, socket.SO_SNDTIMEO, limit)
        return connection

    # Negotiation

    def _negotiate(self) -> None:
        magic, option_magic, flags = struct.unpack(">QQH", self._receive(18))
        if magic != _MAGIC or option_magic != _OPTION_MAGIC or not flags & 1:
            raise Damaged("The server does not speak NBD with fixed newstyle negotiation.")
        self._send(struct.pack(">I", flags & 3))
        structured = self._option(_OPT_STRUCTURED_REPLY, b"") is not None
        name = self.address.export.encode()
        if structured:
            queries = [b"base:allocation", *([self._changes_name.encode()] if self._changes_name else [])]
            data = struct.pack(">I", len(name)) + name + struct.pack(">I", len(queries))
            data += b"".join(struct.pack(">I", len(query)) + query for query in queries)
            for kind, body in self._option(_OPT_SET_META_CONTEXT, data) or ():
                if kind == _REP_META_CONTEXT and body[4:] == queries[0]:
                    self._context = _number(body[:4])
                elif kind == _REP_META_CONTEXT and body[4:] == queries[-1]:
                    self._changes = _number(body[:4])
        answers = self._option(_OPT_GO, struct.pack(">I", len(name)) + name + struct.pack(">H", 0))
        if answers is None:
            raise Unavailable(f"The NBD server has no export {self.address.export!r}.")
        for kind, body in answers:
            if kind == _REP_INFO and len(body) == 12 and struct.unpack(">H", body[:2])[0] == _INFO_EXPORT:
                self._size, self._flags = struct.unpack(">QH", body[2:12])

    def _option(self, option: int, data: bytes) -> list[tuple[int, bytes]] | None:
        """The replies before the acknowledgement, or None where the server refuses the option."""
        self._send(struct.pack(">QII", _OPTION_MAGIC, option, len(data)) + data)
        replies: list[tuple[int, bytes]] = []
        for _ in range(_MOST_OPTION_REPLIES):
            magic, echoed, kind, length = struct.unpack(">QIII", self._receive(20))
            if magic != _OPTION_REPLY_MAGIC or echoed != option or length > _MOST:
                raise Damaged("The NBD server answered an option with something else.")
            body = self._receive(length)
            if kind == _REP_ACK:
                return replies
            if kind & 0x80000000:
                return None
            replies.append((kind, body))
        raise Damaged(_ENDLESS)

    # Requests

    @property
    def size(self) -> int:
        return self._size

    @property
    def writable(self) -> bool:
        """Whether the server accepts writes."""
        return not self._flags & _FLAG_READ_ONLY

    def read(self, offset: int, length: int) -> bytes:
        out = bytearray(length)
        self.read_into(offset, memoryview(out))
        return bytes(out)

    def read_into(self, offset: int, view: memoryview) -> None:
        """Fill ``view`` from ``offset``, received straight into it."""
        if offset < 0 or offset + len(view) > self._size:
            raise Damaged(f"Read of {len(view)} bytes at {offset} is beyond the disk.")
        for at in range(0, len(view), _MOST):
            piece = view[at : at + _MOST]
            with self._lock:
                self._answer(self._request(_CMD_READ, offset + at, len(piece)), _Answer(piece, offset + at))

    def write(self, offset: int, data: bytes) -> None:
        """Write all of ``data`` at ``offset``; durable only after `flush`."""
        view = memoryview(data)
        for at in range(0, len(view), _MOST):
            piece = view[at : at + _MOST]
            with self._lock:
                cookie = self._request(_CMD_WRITE, offset + at, len(piece), piece)
                self._answer(cookie)

    def write_pieces(self, offset: int, pieces: Sequence[bytes]) -> None:
        """The same for pieces that follow one another."""
        self.write(offset, b"".join(pieces))

    def write_zeros(self, offset: int, length: int) -> None:
        """Make a range read as zeros, as a hole where the server can."""
        if not self._flags & _FLAG_WRITE_ZEROES:
            for at in range(offset, offset + length, _MOST):
                self.write(at, bytes(min(_MOST, offset + length - at)))
            return
        step = 1 << 30
        for at in range(offset, offset + length, step):
            with self._lock:
                self._answer(self._request(_CMD_WRITE_ZEROES, at, min(step, offset + length - at)))

    def flush(self) -> None:
        """Make everything written so far durable on the server."""
        if self._flags & _FLAG_FLUSH:
            with self._lock:
                self._answer(self._request(_CMD_FLUSH, 0, 0))

    def allocated(self) -> Ranges:
        """What ``base:allocation`` does not report as reading zeros; everything where it is not offered."""
        if self._context is None:
            return Ranges.of([(0, self._size)])
        return self._ranges(self._context, lambda states: states & _STATE_ZERO == 0)

    def changed(self) -> Ranges | None:
        """What the server's bitmap reports as changed; None where it does not offer the bitmap that was asked for."""
        if self._changes is None:
            return None
        return self._ranges(self._changes, lambda states: states & _STATE_DIRTY != 0)

    def _ranges(self, context: int, wanted: Callable[[npt.NDArray[np.uint32]], npt.NDArray[np.bool_]]) -> Ranges:
        """The extents of one metadata context whose state is wanted."""
        found = []
        at = count = 0
        while at < self._size:
            with self._lock:
                parts = self._answer(self._request(_CMD_BLOCK_STATUS, at, min(self._size - at, 1 << 31)))
            before = at
            for kind, body in parts:
                if kind != _CHUNK_BLOCK_STATUS or len(body) % 8 != 4 or _number(body[:4]) != context:
                    continue
                extents = np.frombuffer(body, ">u4", offset=4).reshape(-1, 2)
                ends = at + np.cumsum(extents[:, 0], dtype=np.int64)
                starts = ends - extents[:, 0]
                at = int(ends[-1]) if len(ends) else at
                count += len(extents)
                hits = wanted(extents[:, 1]) & (starts < self._size)
                found.append(np.stack([starts[hits], np.minimum(ends[hits], self._size)]))
            if at == before:
                raise Damaged("The NBD server reports no block status.")
            if count > _MOST_EXTENTS:
                raise Damaged(_ENDLESS)
        starts, ends = np.concatenate([np.empty((2, 0), np.int64), *found], axis=1)
        return Ranges.of_arrays(starts, ends)

    def close(self) -> None:
        """Say goodbye and close the connection."""
        with contextlib.suppress(OSError, Unavailable):
            self._request(_CMD_DISC, 0, 0)
        self._socket.close()

    def __enter__(self) -> NbdDisk:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    # The wire

    def _request(self, command: int, offset: int, length: int, data: bytes | memoryview = b"") -> int:
        self._cookie += 1
        self._send(struct.pack(">IHHQQI", _REQUEST_MAGIC, 0, command, self._cookie, offset, length))
        if data:
            self._send(data)
        return self._cookie

    def _answer(self, cookie: int, answer: _Answer | None = None) -> list[tuple[int, bytes]]:
        """Receive the whole answer of a request; returns its parts that are not data.

        Raises `Damaged` for an error that the server reports.
        """
        answer = answer or _Answer()
        for _ in range(_MOST_PARTS):
            if self._receive_part(cookie, answer):
                answer.check()
                return answer.parts
        raise Damaged(_ENDLESS)

    def _receive_part(self, cookie: int, answer: _Answer) -> bool:
        """Receive the next part of an answer; returns whether it was the last."""
        (magic,) = struct.unpack(">I", self._receive(4))
        if magic == _SIMPLE_REPLY_MAGIC:
            error, echoed = struct.unpack(">IQ", self._receive(12))
            flags, kind, size = 1, _CHUNK_NONE, 0
        elif magic == _STRUCTURED_REPLY_MAGIC:
            error = 0
            flags, kind, echoed, size = struct.unpack(">HHQI", self._receive(16))
        else:
            raise Damaged(_NO_REPLY)
        if echoed != cookie:
            raise Damaged("The NBD server answered another request.")
        if size > _MOST_REPLY:
            raise Damaged("The NBD server sent an answer that is too long.")
        if error:
            answer.failure = _error_name(error)
        elif magic == _SIMPLE_REPLY_MAGIC and answer.into is not None:
            self._receive_into(answer.place(answer.offset, len(answer.into)))
        elif kind == _CHUNK_OFFSET_DATA and answer.into is not None and size >= 8:
            (at,) = struct.unpack(">Q", self._receive(8))
            self._receive_into(answer.place(at, size - 8))
        elif kind == _CHUNK_OFFSET_HOLE and answer.into is not None and size == 12:
            at, length = struct.unpack(">QI", self._receive(12))
            answer.place(at, length)[:] = bytes(length)
        else:
            answer.take(kind, self._receive(size))
        return bool(flags & 1)

    def _send(self, data: bytes | memoryview) -> None:
        try:
            self._socket.sendall(data)
        except OSError as error:
            raise Unavailable(f"The connection to the NBD server broke: {error}.") from error

    def _receive(self, length: int) -> bytes:
        # A server that answers an option in several small pieces holds the next one back until the last is acknowledged,
        # which Linux leaves for 40 ms: a tenth of a second for each connection.
        if self._negotiating and not self.address.socket_path:
            self._socket.setsockopt(socket.IPPROTO_TCP, socket.TCP_QUICKACK, 1)
        out = bytearray(length)
        self._receive_into(memoryview(out))
        return bytes(out)

    def _receive_into(self, view: memoryview) -> None:
        try:
            while view:
                got = self._socket.recv_into(view, 0, socket.MSG_WAITALL)
                if not got:
                    raise Unavailable("The NBD server closed the connection.")
                view = view[got:]
        except OSError as error:
            raise Unavailable(f"The connection to the NBD server broke: {error}.") from error


class _Answer:
    """What one request is answered with; the data of a read from ``offset`` goes straight ``into`` its place."""

    def __init__(self, into: memoryview | None = None, offset: int = 0) -> None:
        self.into, self.offset = into, offset
        self.parts: list[tuple[int, bytes]] = []
        self.failure: str | None = None
        self._filled: list[tuple[int, int]] = []
        self._bytes = 0

    def place(self, at: int, length: int) -> memoryview:
        """The place for data that the server sends for ``at`` on the disk."""
        assert self.into is not None
        start, end = at - self.offset, at - self.offset + length
        if start < 0 or end > len(self.into):
            raise Damaged("The NBD server sent data that was not asked for.")
        self._filled.append((start, end))
        return self.into[start:end]

    def take(self, kind: int, body: bytes) -> None:
        """A part that is not data."""
        self._bytes += len(body)
        if self._bytes > _MOST_REPLY:
            raise Damaged(_ENDLESS)
        if kind & _CHUNK_ERROR:
            self.failure = _error_name(_number(body[:4]))
        elif kind != _CHUNK_NONE:
            self.parts.append((kind, body))

    def check(self) -> None:
        """Raises `Damaged` for an error that the server reported, and for bytes that it sent twice or not at all."""
        if self.failure:
            raise Damaged(f"The NBD server refused a request: {self.failure}.")
        places = sorted(self._filled)
        begins, ends = [0, *(end for _, end in places)], [*(start for start, _ in places), len(self.into or b"")]
        if self.into is not None and begins != ends:
            raise Damaged("The NBD server sent other data than it was asked for.")


def _number(data: bytes) -> int:
    if len(data) != 4:
        raise Damaged(_NO_REPLY)
    return int.from_bytes(data, "big")


def _error_name(number: int) -> str:
    return _ERRORS.get(number, f"error {number}")
