"""Secrets of the account."""

from __future__ import annotations

from bathotype.client.calls import Calls
from bathotype.wire import secrets as wire


class SecretCalls(Calls):
    """Setting, listing and removing secrets; none is ever shown."""

    def secrets(self) -> list[wire.SecretFacts]:
        """What may be known of each secret."""
        return list(self._transport.pages(wire.SecretFacts, "/secrets", limit=500))

    def set_secret(self, name: str, value: str, *, about: str = "") -> wire.SecretFacts:
        """Keep a secret."""
        body = {"value": value, "about": about}
        return self._transport.one(wire.SecretFacts, "PUT", f"/secrets/{name}", json=body)

    def drop_secret(self, name: str) -> None:
        """Remove one."""
        self._transport.call("DELETE", f"/secrets/{name}")
