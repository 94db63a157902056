"""A monitor of one QEMU process, from ordinary threads: ``qemu.qmp`` on an event loop of its own."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Callable
from functools import lru_cache
from pathlib import Path
from typing import Any

from qemu.qmp import ExecuteError, Message, QMPClient
from qemu.qmp.error import QMPError

_CALL_SECONDS = 30.0


class MonitorError(Exception):
    """QEMU refused a command, or is gone."""


@lru_cache
def _loop() -> asyncio.AbstractEventLoop:
    loop = asyncio.new_event_loop()
    threading.Thread(target=loop.run_forever, name="qmp", daemon=True).start()
    return loop


def _wait(work: Any, seconds: float = _CALL_SECONDS) -> Any:
    future = asyncio.run_coroutine_threadsafe(work, _loop())
    try:
        return future.result(seconds)
    except (QMPError, OSError, EOFError, TimeoutError) as error:
        future.cancel()
        raise MonitorError(str(error) or type(error).__name__) from error


class Monitor:
    """One connection.  ``on_event`` hears of events by name, on another thread."""

    def __init__(self, socket: Path, on_event: Callable[[str, dict[str, Any]], None]) -> None:
        self._client, self._on_event = QMPClient("standin"), on_event
        _wait(self._connect(str(socket)))

    async def _connect(self, socket: str) -> None:
        await self._client.connect(socket)
        asyncio.get_running_loop().create_task(self._listen())

    async def _listen(self) -> None:
        try:
            async for event in self._client.events:
                threading.Thread(target=self._tell, args=(event,), daemon=True).start()
        except (asyncio.CancelledError, QMPError):
            return

    def _tell(self, event: Message) -> None:
        self._on_event(str(event["event"]), dict(event.get("data") or {}))  # type: ignore[call-overload]

    def run(self, command: str, **arguments: Any) -> Any:
        """Run a command; underscores in argument names become hyphens.  Raises `MonitorError`."""
        given = {name.replace("_", "-"): value for name, value in arguments.items()}
        try:
            return _wait(self._client.execute(command, given or None))
        except ExecuteError as error:
            raise MonitorError(str(error)) from error

    def transaction(self, *actions: tuple[str, dict[str, Any]]) -> None:
        """Several block commands at one moment: all, or none."""
        self.run("transaction", actions=[{"type": kind, "data": data} for kind, data in actions])

    def close(self) -> None:
        """Let go of the connection; QEMU goes on."""
        try:
            _wait(self._client.disconnect(), 5)
        except MonitorError:
            pass
