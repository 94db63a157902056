"""Agent channels over WebSocket (RFC 6455): binary messages carry the byte stream both ways."""

from __future__ import annotations

from contextlib import ExitStack

from websockets.exceptions import WebSocketException
from websockets.sync.client import connect

from bathotype.core.errors import Unavailable


class WebSocketStream:
    """A `ByteStream` to one machine's guest agent.  Raises `Unavailable` where the site gives no channel."""

    def __init__(self, url: str, token: str, *, timeout: float) -> None:
        self._open = ExitStack()
        try:
            self._socket = self._open.enter_context(
                connect(
                    url,
                    additional_headers={"Authorization": f"Bearer {token}"},
                    open_timeout=timeout,
                    close_timeout=1,
                    max_size=128 * 1024 * 1024,
                    proxy=None,
                )
            )
        except (OSError, WebSocketException) as error:
            raise Unavailable(f"The site gives no channel to the machine's agent: {error}.") from error

    def send(self, data: bytes) -> None:
        """Send all of it."""
        try:
            self._socket.send(data)
        except (OSError, WebSocketException) as error:
            raise Unavailable("The channel to the machine's agent broke.") from error

    def receive(self, timeout: float) -> bytes:
        """One message's bytes, empty when none came within ``timeout`` seconds."""
        try:
            data = self._socket.recv(timeout)
        except TimeoutError:
            return b""
        except (OSError, WebSocketException) as error:
            raise Unavailable("The channel to the machine's agent broke.") from error
        return data if isinstance(data, bytes) else data.encode()

    def close(self) -> None:
        """Give the channel back."""
        self._open.close()
