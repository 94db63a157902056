"""The one agent channel of a real guest, shared by many conversations that take turns line by line."""

from __future__ import annotations

import contextlib
import json
import secrets
import socket
import threading
import time
from pathlib import Path

_ANSWER_SECONDS = 60.0
_RESYNC_SECONDS = 3.0


class AgentLine:
    """Sends a line to the guest agent's socket and returns the line that answers it.

    QEMU's socket takes one connection; a guest that does not answer must not leave its late answer to the next.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        self._turn = threading.Lock()
        self._socket: socket.socket | None = None
        self._buffer = b""
        self._in_step = False

    def ask(self, line: bytes) -> bytes | None:
        """The answer with its line end, None where none comes in time."""
        with self._turn:
            try:
                if not self._in_step and not self._resync():
                    return None
                self._in_step = False
                self._send(line + b"\n")
                answer = self._line(time.monotonic() + _ANSWER_SECONDS)
                self._in_step = answer is not None
                return answer
            except OSError:
                self._drop()
                return None

    def _resync(self) -> bool:
        token = secrets.randbelow(1 << 31)
        request = {"execute": "guest-sync-delimited", "arguments": {"id": token}}
        self._send(b"\xff" + json.dumps(request).encode() + b"\n")
        deadline = time.monotonic() + _RESYNC_SECONDS
        while (line := self._line(deadline)) is not None:
            with contextlib.suppress(ValueError, AttributeError):
                if json.loads(line.rpartition(b"\xff")[2]).get("return") == token:
                    return True
        return False

    def _send(self, data: bytes) -> None:
        if self._socket is None:
            self._buffer = b""
            self._socket = socket.socket(socket.AF_UNIX)
            self._socket.settimeout(5)
            self._socket.connect(str(self._path))
        self._socket.sendall(data)

    def _line(self, deadline: float) -> bytes | None:
        assert self._socket is not None
        while b"\n" not in self._buffer:
            left = deadline - time.monotonic()
            if left <= 0:
                return None
            self._socket.settimeout(left)
            try:
                data = self._socket.recv(1 << 20)
            except TimeoutError:
                return None
            if not data:
                raise OSError("the agent's channel closed")
            self._buffer += data
        line, _, self._buffer = self._buffer.partition(b"\n")
        return line + b"\n"

    def _drop(self) -> None:
        self._in_step = False
        if self._socket is not None:
            self._socket.close()
            self._socket = None

    def close(self) -> None:
        """Give the channel back.  Who waits for an answer gets none: the guest may be off, as it was asked to be."""
        if (waiting := self._socket) is not None:
            with contextlib.suppress(OSError):
                waiting.shutdown(socket.SHUT_RDWR)
        with self._turn:
            self._drop()
