"""Checks of versions and instances."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field, model_validator

from bathotype.core.checks.check import Check, distinct
from bathotype.wire.common import Answer, Wire, example
from bathotype.wire.operations import OperationState


class CheckRequest(Wire):
    """A run of checks: exactly one of ``reference`` and ``instance`` says what is judged."""

    model_config = example(
        {"reference": "gauge-collector@1.1.0", "checks": [{"id": "web", "is": "page", "url": "http://localhost/"}]}
    )

    reference: str | None = Field(default=None, description="A version; a throwaway instance of it is started.")
    instance: str | None = Field(default=None, description="Name or id of an instance that runs.")
    checks: list[Check] | None = Field(
        default=None, max_length=200, description="Left out: those of the version's last run."
    )
    region: str | None = Field(default=None, description="Where the throwaway instance runs; where the version is.")
    machine_size: str | None = None
    ready_seconds: int = Field(default=900, ge=10, le=7200, description="How long its first boot may take.")
    tags: dict[str, str] = {}

    @model_validator(mode="after")
    def _one(self) -> CheckRequest:
        if (self.reference is None) == (self.instance is None):
            raise ValueError("give either reference or instance")
        distinct(self.checks or [])
        return self


class JudgementAnswer(Answer):
    """One check: whether it passed, after how many seconds, and what was seen."""

    id: str
    demands: str
    passed: bool
    seconds: float
    evidence: str


CheckRunSort = Literal["started", "-started", "region", "-region", "size", "-size"]


class CheckRun(Answer):
    """A run of checks; ``passed`` is null until it has ended."""

    operation: str
    state: OperationState
    reference: str
    instance: str | None = Field(description="Name of the instance that was judged; null for a throwaway one.")
    region: str
    machine_size: str
    passed: bool | None
    boot_seconds: float | None
    at: datetime
    judgements: list[JudgementAnswer]
