"""Shares, adoption, consumers and the calendar."""

from __future__ import annotations

from datetime import date, datetime
from typing import Literal

from pydantic import Field

from bathotype.wire.common import Answer, Wire, example

ShareState = Literal["proposed", "active", "declined", "ended"]


class ShareRequest(Wire):
    """A share of a line, or of one version of it, with one account; or, confirmed, with every account."""

    model_config = example({"subject": "gauge-collector", "consumer": "harbour-watch", "note": "for the quays"})

    subject: str = Field(max_length=200, description="A line, or line@number for one version.")
    consumer: str | None = Field(default=None, max_length=63, description="The account; null for every one.")
    regions: list[str] | None = Field(default=None, min_length=1, max_length=50)
    until: date | None = None
    note: str = Field(default="", max_length=2000)
    confirm_public: bool = Field(default=False, description="Must be true for a share with every account.")


ShareSort = Literal["proposed", "-proposed", "line", "-line", "state", "-state"]
SharedVersionSort = Literal["made", "-made", "line", "-line", "state", "-state"]


class Share(Answer):
    """One account's grant to another.  ``expired`` says that its last day is over."""

    id: str
    owner: str
    consumer: str | None
    subject: str
    regions: list[str] | None
    until: date | None
    expired: bool
    note: str
    state: ShareState
    proposed_by: str | None = Field(description="Shown to the account that proposed it.")
    proposed_at: datetime
    decided_by: str | None = Field(description="Shown to the account that decided.")
    decided_at: datetime | None
    ended_at: datetime | None
    running: int = Field(description="Instances of the consumer that run from what is shared.")
    warnings: list[str] = Field(
        default=[], description="What to know about it, such as that nothing can be launched yet."
    )


class SharedVersion(Answer):
    """A version of another account that this one may use."""

    reference: str
    state: str
    regions: list[str]
    released_at: datetime | None
    retire_on: date | None
    running: int


class ConsumerCount(Answer):
    """How many instances an account runs of a version, by region: numbers, no names."""

    account: str
    version: str
    region: str
    running: int


class AdoptRequest(Wire):
    """Where another account's version is taken over to."""

    model_config = example({"line": "quay-gauge", "number": "1.0.0"})

    line: str
    number: str | None = None
    bump: Literal["patch", "minor", "major"] | None = None
    notes: str = Field(default="", max_length=10000)


class Due(Answer):
    """A version that is coming to its end while instances run it, of this account or, if it is its own, of others."""

    reference: str
    state: str
    sunset_on: date | None
    retire_on: date | None
    running: int
    elsewhere: dict[str, int] = Field(
        default={}, description="Of the account's own version: what others run, by account."
    )
    newest: str | None
    purge_from: datetime | None = Field(default=None, description="Of the account's own retired version.")
    in_the_way: list[str] = Field(default=[], description="What else forbids its purge.")
    notice: str | None
