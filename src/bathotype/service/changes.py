"""Changes, as PostgreSQL reports them: one listening connection for a whole process, however many pages are open.

Triggers of the tables that an open page shows notify the channel ``bathotype`` with the account, what it is, and its
id.  A notification says that something is different, never how: whoever receives it asks the API.
"""

from __future__ import annotations

import asyncio
import threading
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass, field

import psycopg
import structlog

from bathotype.service.database import plain_url

log = structlog.get_logger()
_CHANNEL = "bathotype"
_AGAIN_AFTER = 1.0  # seconds
#: Of a listener that does not keep up, more changes than this are replaced by one that says to look at everything.
_MOST_WAITING = 500


@dataclass(frozen=True)
class Change:
    """Something of an account that is different now; ``what`` is ``everything`` where changes may have been missed."""

    what: str
    id: str = ""


EVERYTHING = Change("everything")


@dataclass(eq=False)
class Listener:
    """Changes of one account for one open page; the same change waits once."""

    account_id: str
    loop: asyncio.AbstractEventLoop
    _waiting: dict[Change, None] = field(default_factory=dict)
    _some: asyncio.Event = field(default_factory=asyncio.Event)

    def add(self, change: Change) -> None:
        """Called in the listener's event loop."""
        if len(self._waiting) >= _MOST_WAITING or change == EVERYTHING:
            self._waiting = {EVERYTHING: None}
        elif EVERYTHING not in self._waiting:
            self._waiting[change] = None
        self._some.set()

    async def next(self, seconds: float) -> list[Change]:
        """What has changed since the last call; waits for at most so long, and returns nothing then."""
        try:
            await asyncio.wait_for(self._some.wait(), seconds)
        except TimeoutError:
            return []
        self._some.clear()
        found, self._waiting = list(self._waiting), {}
        return found


class Changes:
    """Hands notifications to the listeners of their account.  Its connection is opened for the first listener."""

    def __init__(self, url: str) -> None:
        self._url = url
        self._listeners: set[Listener] = set()
        self._lock = threading.Lock()
        self._thread: threading.Thread | None = None
        self._ready = threading.Event()
        self._closed = False

    @asynccontextmanager
    async def listener(self, account_id: str) -> AsyncIterator[Listener]:
        """Changes of an account, from now on."""
        one = Listener(account_id, asyncio.get_running_loop())
        with self._lock:
            self._listeners.add(one)
            if self._thread is None:
                self._thread = threading.Thread(target=self._listen, name="changes", daemon=True)
                self._thread.start()
        try:
            await asyncio.to_thread(self._ready.wait, 5.0)
            yield one
        finally:
            with self._lock:
                self._listeners.discard(one)

    def close(self) -> None:
        """Stop listening."""
        self._closed = True
        if self._thread is not None:
            self._thread.join(2.0)

    def _listen(self) -> None:
        while not self._closed:
            try:
                with psycopg.connect(plain_url(self._url), autocommit=True) as connection:
                    connection.execute(f"listen {_CHANNEL}")
                    self._hand_over("", EVERYTHING)  # what happened while nobody listened
                    self._ready.set()
                    while not self._closed:
                        for notification in connection.notifies(timeout=0.5):
                            account, _, rest = notification.payload.partition(" ")
                            what, _, key = rest.partition(" ")
                            self._hand_over(account, Change(what, key))
            except psycopg.Error as error:
                log.warning("the connection that listens for changes was lost", error=str(error)[:200])
                time.sleep(_AGAIN_AFTER)

    def _hand_over(self, account_id: str, change: Change) -> None:
        with self._lock:
            concerned = [one for one in self._listeners if not account_id or one.account_id == account_id]
        for one in concerned:
            try:
                one.loop.call_soon_threadsafe(one.add, change)
            except RuntimeError:  # its event loop has ended
                log.debug("a listener is gone")
