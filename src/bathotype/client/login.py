"""Log in with a password and get a token for the command line; choose a password with an invitation."""

from __future__ import annotations

import socket

from bathotype.client.credentials import Credentials
from bathotype.client.transport import Transport
from bathotype.wire import access as wire


def log_in(url: str, user: str, password: str, *, account: str = "", days: float = 30) -> Credentials:
    """A token of the user's for this machine.  The session that it is made in ends at once."""
    transport = Transport(url, "")
    try:
        who = transport.one(wire.WhoAmI, "POST", "/session", json={"user": user, "password": password})
        headers = {"X-CSRF-Token": who.csrf or ""}
        body = wire.TokenRequest(name=f"command line on {socket.gethostname()}"[:100], days=days)
        made = transport.one(wire.NewToken, "POST", "/tokens", json=body.model_dump(mode="json"), headers=headers)
        transport.call("DELETE", "/session", headers=headers)
    finally:
        transport.http.close()
    return Credentials(url, made.token, account, made.id)


def accept_invitation(url: str, code: str, password: str) -> wire.WhoAmI:
    """Choose a password with the code of an invitation."""
    transport = Transport(url, "")
    try:
        body = {"code": code, "password": password}
        return transport.one(wire.WhoAmI, "POST", "/invitations/acceptance", json=body)
    finally:
        transport.http.close()
