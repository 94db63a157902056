"""Durable pieces of work."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from bathotype.wire.common import Answer

OperationState = Literal["queued", "running", "succeeded", "failed", "cancelled"]
ENDED = ("succeeded", "failed", "cancelled")


class Step(Answer):
    """One step; bytes where it moves any."""

    name: str
    title: str
    state: Literal["pending", "running", "done", "skipped", "failed"]
    bytes_done: int = 0
    bytes_total: int = 0
    started_at: datetime | None = None
    ended_at: datetime | None = None


class Failure(Answer):
    """Why an operation failed, and what to do."""

    code: str
    message: str
    advice: str = ""


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
    started_at: datetime | None = None
    ended_at: datetime | None = None


class LogLine(Answer):
    """One line of an operation's log."""

    at: datetime
    level: str
    text: str
