"""Launch rules and allowances."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field

from bathotype.core.lifecycle.rules import LaunchRule
from bathotype.wire.common import Answer, Revised, Wire, example

AllowanceKind = Literal["line", "version", "account", "pool"]


RuleSort = Literal["name", "-name", "set", "-set"]
AllowanceSort = Literal["name", "-name", "kind", "-kind", "most", "-most"]


class SetRule(Revised):
    """A rule that is set; ``holds_for`` is the account, or null for all."""

    edited = ("rule",)

    holds_for: str | None
    rule: LaunchRule
    set_by: str
    set_at: datetime


class Verdict(Answer):
    """What one rule says of a launch, and what would satisfy it."""

    rule: str
    holds_for: str | None
    outcome: Literal["pass", "excepted", "not-concerned", "warn", "refuse"]
    reasons: list[str]
    need: list[str]


class Explanation(Answer):
    """All that decides whether an account may launch a version in a region."""

    reference: str
    account: str
    region: str
    admitted: bool
    verdicts: list[Verdict]
    blockers: list[str]


class AllowanceRequest(Wire):
    """How many instances may run.  Exactly one of line, version, pool lines, or the account itself is counted."""

    model_config = example({"kind": "pool", "lines": ["surge-model", "surge-model-lite"], "most": 40})

    kind: AllowanceKind
    line: str | None = None
    version: str | None = Field(default=None, description="line@number")
    lines: list[str] | None = Field(default=None, min_length=1, max_length=100)
    consumer: str | None = Field(default=None, description="Counts this account's instances only.")
    most: int = Field(ge=0, le=10_000_000)


class Allowance(Revised):
    """An allowance and what is used of it."""

    edited = ("kind", "subject", "consumer", "most")

    name: str
    account: str
    kind: AllowanceKind
    subject: str
    consumer: str | None
    most: int
    used: int
