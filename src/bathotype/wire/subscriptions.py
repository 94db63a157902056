"""Subscriptions to events, and what became of their messages."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field

from bathotype.wire.common import Answer, Revised, Wire, example

SubscriptionSort = Literal["name", "-name", "made", "-made"]
DeliverySort = Literal["made", "-made", "state", "-state"]
DeliveryState = Literal["pending", "delivered", "given-up"]


class SubscriptionRequest(Wire):
    """Who is notified of which events: a webhook, or people by mail."""

    model_config = example({"url": "https://hooks.tide.example/images", "events": ["version.released"]})

    url: str | None = Field(default=None, max_length=2000, description="A webhook: CloudEvents 1.0 are sent there.")
    mail_to: list[str] | None = Field(default=None, min_length=1, max_length=20, description="Or mail addresses.")
    events: list[str] = Field(
        max_length=50,
        description="Actions of events: `version.released`, `version.*`, or `*`; with none: what build sheets name it for.",
    )
    lines: list[str] = Field(default=[], max_length=50, description="Only events about these lines, sheets or names.")


class SubscriptionPause(Wire):
    """Whether a subscription is silent."""

    model_config = example({"paused": True})

    paused: bool


class Subscription(Revised):
    """A subscription."""

    edited = ("url", "mail_to", "events", "lines", "paused")

    name: str
    url: str | None = Field(
        description="Of a webhook; for who does not manage the account without what follows the host."
    )
    mail_to: list[str] | None
    events: list[str]
    lines: list[str]
    paused: bool
    made_by: str
    made_at: datetime
    pending: int = Field(description="Messages that are still to be delivered.")
    delivered_at: datetime | None = Field(description="When one was delivered last.")
    answer: str = Field(description="What came of the last attempt that failed, if nothing was delivered since.")


class NewSubscription(Subscription):
    """A subscription with the key that its webhook's messages are signed with."""

    key: str = Field(description="Shown once; empty for mail. Signatures are those of Standard Webhooks.")


class Delivery(Answer):
    """One event on its way to a subscriber."""

    id: str
    event: int
    action: str
    subject: str
    state: DeliveryState
    attempts: int
    answer: str = Field(description="What the receiver said, or why it could not be reached.")
    made_at: datetime
    next_at: datetime | None = Field(description="When it is sent next; null once it has ended.")
    ended_at: datetime | None
