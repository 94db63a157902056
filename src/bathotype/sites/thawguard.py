"""The thaw guard: a separate process that thaws a guest when the process that froze it does not.

A guard is started *before* a freeze, in a session of its own, so that neither the death nor a hang of the worker can
leave a guest frozen.  The deadline starts with ``freezing``; ``thawed`` ends the guard; the deadline, or the end of the
connection (the worker died), makes it thaw the guest.

Starting a Python process and importing a site adapter takes longer than a snapshot.  So a *guard post* is kept ready:
one process that has loaded every adapter and forks a guard for each freeze.  Guards outlive their post.  Messages pass
over a pair of Unix sockets (``SOCK_SEQPACKET``, one message each); tokens never appear in argv.
"""

from __future__ import annotations

import contextlib
import json
import os
import select
import signal
import socket
import subprocess
import sys
import threading
import time
from dataclasses import asdict
from importlib import import_module

from bathotype.sites.factory import SiteAddress, kinds_of_site

_KEEP_TRYING = 120.0
_POST_READY_WITHIN = 60.0
_MOST = 64 * 1024


class GuardPost:
    """The worker's side of the process that forks guards; started when it is first needed, and again if it died."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._socket: socket.socket | None = None
        self._ready = False

    def start(self) -> None:
        """Start the process; what it loads is loaded in the background."""
        with self._lock:
            if self._socket is None:
                self._start()

    def _start(self) -> None:
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with theirs:
            subprocess.Popen(
                [sys.executable, "-m", "bathotype.sites.thawguard"], stdin=theirs.fileno(), start_new_session=True
            )
        ours.settimeout(_POST_READY_WITHIN)
        self._socket, self._ready = ours, False

    def guard(self, order: bytes) -> socket.socket:
        """A guard for one freeze; returns the connection to it.  Raises `RuntimeError` where none can be started."""
        with self._lock:
            for _ in range(2):
                if self._socket is None:
                    self._start()
                ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
                try:
                    with theirs:
                        self._order(order, theirs)
                    ours.settimeout(_POST_READY_WITHIN)
                    if ours.recv(_MOST) == b"ready":
                        return ours
                except OSError:
                    pass  # the post has died: another one is started
                ours.close()
                self._drop()
        raise RuntimeError("the thaw guard did not start")

    def _order(self, order: bytes, connection: socket.socket) -> None:
        assert self._socket is not None
        if not self._ready:
            self._ready = self._socket.recv(_MOST) == b"ready"
        socket.send_fds(self._socket, [order], [connection.fileno()])

    def _drop(self) -> None:
        if self._socket is not None:
            self._socket.close()
        self._socket = None


#: The guard post of this process.
post = GuardPost()


class ThawGuard:
    """The worker's side of one guard: hold it around a freeze.

    ``deadline`` is counted from `start`, in seconds.  Use as a context manager; call `freed` once the guest
    has been thawed in the ordinary way.
    """

    def __init__(self, address: SiteAddress, machine: str, *, deadline: float) -> None:
        order = {"address": asdict(address), "machine": machine, "deadline": deadline}
        self._connection = post.guard(json.dumps(order).encode())

    def start(self) -> None:
        """The deadline begins to run: call right before freezing."""
        self._tell(b"freezing")

    def freed(self) -> None:
        """The guest is thawed: nothing is left to guard."""
        self._tell(b"thawed")

    def _tell(self, message: bytes) -> None:
        with contextlib.suppress(OSError):  # a guard that has done its work is gone
            self._connection.send(message)

    def __enter__(self) -> ThawGuard:
        return self

    def __exit__(self, *_: object) -> None:
        with self._connection, contextlib.suppress(OSError):
            self._connection.shutdown(socket.SHUT_WR)  # the guard thaws now, unless it has received `thawed`
            self._connection.settimeout(_KEEP_TRYING)
            self._connection.recv(_MOST)  # returns when the guard has ended


# The post's and the guards' side


def _serve(orders: socket.socket) -> None:
    """Fork a guard for each order, until the worker's side of the connection is closed."""
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # ended guards leave no zombies
    for kind in kinds_of_site():
        import_module(f"bathotype.sites.{kind}")
    with contextlib.suppress(BrokenPipeError):  # who started it has ended at once: there is nothing to read either
        orders.send(b"ready")
    while True:
        try:
            order, handles, _, _ = socket.recv_fds(orders, _MOST, 1)
        except ConnectionError:
            return  # the worker ended before it had read that we are ready
        if not order:
            return
        if os.fork() == 0:
            orders.close()
            signal.signal(signal.SIGCHLD, signal.SIG_DFL)
            os.setsid()
            try:
                with socket.socket(fileno=handles[0]) as connection:
                    _guard(json.loads(order), connection)
            finally:
                os._exit(0)
        os.close(handles[0])


def _guard(order: dict[str, object], connection: socket.socket) -> None:
    connection.send(b"ready")
    deadline: float | None = None
    while True:
        left = None if deadline is None else max(0.0, deadline - time.monotonic())
        readable, _, _ = select.select([connection], [], [], left)
        message = connection.recv(_MOST) if readable else b""
        if message == b"freezing":
            deadline = time.monotonic() + float(str(order["deadline"]))
            continue
        if message == b"thawed" or deadline is None:
            return  # thawed in time, or the worker died before it froze anything
        break
    _thaw(order)


def _thaw(order: dict[str, object]) -> None:
    from bathotype.core.errors import BathotypeError
    from bathotype.sites.factory import open_site

    site = open_site(SiteAddress(**order["address"]), timeout=3, patience=3)  # type: ignore[arg-type]
    give_up = time.monotonic() + _KEEP_TRYING
    while time.monotonic() < give_up:
        try:
            with site.agent(str(order["machine"]), timeout=2) as agent:
                agent.thaw()
                return
        except BathotypeError:
            time.sleep(0.3)


if __name__ == "__main__":
    _serve(socket.socket(fileno=0))
