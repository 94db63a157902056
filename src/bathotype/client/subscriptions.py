"""Calls about subscriptions to events."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from bathotype.client.calls import Calls
from bathotype.wire import subscriptions as wire


class SubscriptionCalls(Calls):
    """Who is notified of events."""

    def subscriptions(self) -> list[wire.Subscription]:
        """The account's subscriptions, by name."""
        return list(self._transport.pages(wire.Subscription, "/subscriptions", limit=500))

    def subscription(self, name: str) -> wire.Subscription:
        """One of them."""
        return self._transport.one(wire.Subscription, "GET", f"/subscriptions/{name}")

    def subscribe(
        self,
        name: str,
        *,
        events: Sequence[str],
        url: str | None = None,
        mail_to: Sequence[str] | None = None,
        lines: Sequence[str] = (),
    ) -> wire.NewSubscription:
        """Notify a webhook, or people by mail, of events from now on.  The webhook's key is in the answer, this once."""
        body = wire.SubscriptionRequest(
            url=url, mail_to=None if mail_to is None else list(mail_to), events=list(events), lines=list(lines)
        )
        return self._transport.one(
            wire.NewSubscription, "PUT", f"/subscriptions/{name}", json=body.model_dump(mode="json")
        )

    def pause_subscription(self, name: str, paused: bool = True) -> wire.Subscription:
        """Pause it, or resume it."""
        return self._transport.one(wire.Subscription, "PUT", f"/subscriptions/{name}/pause", json={"paused": paused})

    def test_subscription(self, name: str) -> wire.Delivery:
        """Send it a message that is a test."""
        return self._transport.one(wire.Delivery, "POST", f"/subscriptions/{name}/test")

    def deliveries(self, name: str, *, state: wire.DeliveryState | None = None) -> Iterator[wire.Delivery]:
        """Its messages, the newest first."""
        return self._transport.pages(wire.Delivery, f"/subscriptions/{name}/deliveries", state=state, limit=100)

    def unsubscribe(self, name: str) -> None:
        """Remove it."""
        self._transport.call("DELETE", f"/subscriptions/{name}")
