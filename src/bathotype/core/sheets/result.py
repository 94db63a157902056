"""What a sheet says of the version that it makes: its number and marks, the regions where it is kept, and who is
notified."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from typing import Literal

from pydantic import Field, field_validator, model_validator

from bathotype.core.bucketaddress import check_folder
from bathotype.core.errors import Invalid
from bathotype.core.formats.names import ExportFormat
from bathotype.core.generalize.profile import builtin_names
from bathotype.core.lifecycle.purpose import Purpose
from bathotype.core.lifecycle.references import check_name
from bathotype.core.sheets.steps import Section

#: What can become of a run, or of a date at which none started.
Outcome = Literal["failed", "staged", "released", "nothing-new", "not-started"]
_OUTCOMES: list[Outcome] = ["failed", "staged", "released", "nothing-new", "not-started"]


def checked(check: Callable[..., object], *given: str) -> str:
    """A text that a check takes.  Raises `ValueError` with the check's words."""
    try:
        return str(check(*given))
    except Invalid as error:
        raise ValueError(str(error)) from error


class Place(Section):
    """A region, and how many launch-ready base disks are kept there."""

    region: str = Field(min_length=1, max_length=63)
    copies: int = Field(default=1, ge=0, le=64, description="Base disks; with 0 the first launch makes one.")
    multi_zone: bool = Field(default=False, description="Whether they are spread over the region's zones.")


class Tell(Section):
    """A subscription that is notified of the outcome of the sheet's runs."""

    to: str = Field(description="The subscription's name; a steward sets its webhook or addresses.")
    about: list[Outcome] = Field(default=_OUTCOMES, min_length=1, max_length=10, description="Left out: all of it.")

    @field_validator("to")
    @classmethod
    def _name(cls, value: str) -> str:
        return checked(check_name, value, "subscription")


class ExportTo(Section):
    """A file of the version in a bucket, as `bathotype export --to s3://BUCKET/KEY` writes it."""

    to: str = Field(max_length=1200, description="s3://BUCKET/FOLDER/; the file is called LINE-NUMBER with its suffix.")
    format: ExportFormat = "qcow2-zstd"
    disk: str | None = Field(default=None, max_length=16, description="Role of the disk, where the base has several.")

    _folder = field_validator("to")(check_folder)


class Result(Section):
    """The version that a run makes."""

    line: str
    number: str | None = None
    bump: Literal["patch", "minor", "major"] | None = None
    notes: str = Field(default="", max_length=4000)
    retire_on: date | None = None
    purpose: Purpose | None = Field(default=None, description="What it is for, as `versions purpose` has it.")
    generalize: str = Field(default="linux", description="The profile that removes what makes it that machine.")
    marks: list[str] = Field(default=[], max_length=20, description="Marks to move to it; it is released then.")
    pools: list[str] = Field(
        default=[], max_length=20,
        description="Licence pools that must count its line; a run starts where they have room for its machines.",
    )  # fmt: skip
    placement: list[Place] = Field(
        default=[],
        max_length=16,
        description="Regions that it is copied to once it is released, besides the line's placement.",
    )
    release: bool = Field(default=False, description="Release it unless a finding forbids that.")
    exports: list[ExportTo] = Field(default=[], max_length=10, description="Files to make of it once it is released.")

    @field_validator("line")
    @classmethod
    def _line(cls, value: str) -> str:
        return checked(check_name, value, "line")

    @field_validator("marks")
    @classmethod
    def _marks(cls, values: list[str]) -> list[str]:
        return [checked(check_name, value, "mark") for value in values]

    @field_validator("generalize")
    @classmethod
    def _profile(cls, value: str) -> str:
        if value not in builtin_names():
            raise ValueError(f"there is no profile {value!r}; there are {', '.join(builtin_names())}")
        return value

    @model_validator(mode="after")
    def _one_number(self) -> Result:
        if self.number is not None and self.bump is not None:
            raise ValueError("give either number or bump")
        if self.marks and not self.release:
            raise ValueError("marks move to released versions: set release as well")
        if self.exports and not self.release:
            raise ValueError("files are made of released versions: set release as well")
        if self.placement and not self.release:
            raise ValueError("a placement is for released versions: set release as well")
        if len({place.region for place in self.placement}) < len(self.placement):
            raise ValueError("each region of the placement is named once")
        return self
