"""Durable pieces of work."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import Field

from bathotype.wire.common import Answer

OperationState = Literal["queued", "running", "succeeded", "failed", "cancelled"]
ENDED = ("succeeded", "failed", "cancelled")


class Step(Answer):
    """One step; bytes where it moves any."""

    name: str
    title: str
    state: Literal["pending", "running", "done", "skipped", "failed", "cancelled"]
    bytes_done: int = 0
    bytes_total: int = 0
    started_at: datetime | None = None
    ended_at: datetime | None = None


class Failure(Answer):
    """Why an operation failed, and what to do."""

    code: str
    message: str
    advice: str = ""


class Way(Answer):
    """A step that would make something possible: the name of an offer, on the same thing unless there is a subject."""

    title: str
    name: str
    subject: str = ""


class Offer(Answer):
    """One thing that can be done.  ``says`` is what it would do, or each reason why it is not possible now."""

    name: str
    title: str
    possible: bool
    says: list[str]
    way: Way | None = None
    loses: bool = Field(default=False, description="Bytes or machines are lost by it: a person confirms it by name.")


OperationSort = Literal[
    "started", "-started", "kind", "-kind", "subject", "-subject", "state", "-state", "by", "-by", "ended", "-ended"
]


class Operation(Answer):
    """One operation; ``rate`` in bytes per second and ``eta`` in seconds of the running step, where known."""

    id: str
    kind: str
    subject: str
    state: OperationState
    percent: float
    attempts: int
    steps: list[Step]
    rate: float | None = None
    eta: float | None = None
    result: dict[str, Any] | None = None
    error: Failure | None = None
    created_by: str
    created_at: datetime
    start_at: datetime | None = Field(default=None, description="It waits for this moment.")
    started_at: datetime | None = None
    ended_at: datetime | None = None
    offers: list[Offer] = Field(default=[], description="What can be done with it now.")


class LogLine(Answer):
    """One line of an operation's log."""

    at: datetime
    level: str
    text: str
