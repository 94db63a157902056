"""When a saved sheet runs by itself: on days at a time, by cron's five fields, after a release of its base, after a push.

A date is a clock time in a zone of the tz database, and it stays that over changes between summer and winter time: a time
that the clock skips is at the end of the skipped hour, one that the clock shows twice is the first of the two.
"""

from __future__ import annotations

import heapq
from collections.abc import Iterator
from datetime import UTC, datetime
from functools import cache
from itertools import groupby, islice
from typing import Literal
from zoneinfo import ZoneInfo, available_timezones

from cronsim import CronSim, CronSimError
from pydantic import Field, field_validator, model_validator

from bathotype.core.forms import form
from bathotype.core.sheets.steps import Section

Day = Literal["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"]


class Time(Section):
    """Days with a time, or cron's five fields (minute, hour, day of the month, month, day of the week)."""

    days: list[Day] = Field(default=[], max_length=7, description="Left out: every day.")
    at: str | None = Field(
        default=None,
        pattern=form(r"^([01][0-9]|2[0-3]):[0-5][0-9]$", "a time of day, such as 02:00"),
        examples=["02:00"],
    )
    cron: str | None = Field(default=None, max_length=200, examples=["0 2 1 * *"])

    @model_validator(mode="after")
    def _one_way(self) -> Time:
        if (self.at is None) == (self.cron is None) or (self.days and self.at is None):
            raise ValueError("give at, with days if it is not every day; or cron")
        if len(self.expression.split()) != 5:
            raise ValueError(f"{self.cron!r} are not the five fields of cron")
        try:
            next(CronSim(self.expression, datetime(2024, 1, 1)))
        except CronSimError as error:
            raise ValueError(f"{self.cron!r} are not five fields of cron: {str(error).lower()}") from error
        except StopIteration:
            raise ValueError(f"{self.cron!r} never comes") from None
        return self

    @property
    def expression(self) -> str:
        """It as cron's five fields."""
        if self.cron is not None:
            return self.cron
        assert self.at is not None
        hour, minute = map(int, self.at.split(":"))
        return f"{minute} {hour} * * {','.join(day[:3] for day in self.days) or '*'}"


class When(Section):
    """When a saved sheet runs by itself."""

    schedule: list[Time] = Field(default=[], max_length=20)
    zone: str = Field(default="Etc/UTC", max_length=64, description="The time zone of the schedule.")
    after_base: bool = Field(default=False, description="Run it when a newer version of its base is released.")
    after_push: bool = Field(
        default=False, description="Run it when a push has changed it, its values or its payload in its repository."
    )
    unless_same: bool = Field(
        default=True,
        description="End without a new version where one was already built from the same sheet, values, payload and base.",
    )
    missed: Literal["run", "skip"] = Field(
        default="run",
        description="What happens to a run that was due while the service was down: one run later, or none.",
    )

    @field_validator("zone")
    @classmethod
    def _zone(cls, value: str) -> str:
        if value not in _zones():
            raise ValueError(f"there is no time zone {value!r}; give a name of the tz database, such as Etc/UTC")
        return value

    @model_validator(mode="after")
    def _something(self) -> When:
        if not self.schedule and not self.after_base and not self.after_push:
            raise ValueError("it does not say when: give a schedule, after_base or after_push")
        return self

    def dates(self, after: datetime) -> Iterator[datetime]:
        """Every date of the schedule after a moment, in UTC, each once.  Nothing where there is no schedule."""
        begin = after.astimezone(ZoneInfo(self.zone))
        each = [map(_utc, CronSim(time.expression, begin)) for time in self.schedule]
        return (date for date, _ in groupby(heapq.merge(*each)))

    def next_dates(self, after: datetime, count: int) -> list[datetime]:
        """The next of them."""
        return list(islice(self.dates(after), count))


def _utc(moment: datetime) -> datetime:
    return moment.astimezone(UTC)


@cache
def _zones() -> frozenset[str]:
    return frozenset(available_timezones())
