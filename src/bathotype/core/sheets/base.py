"""What a sheet's version is made from, where that is no version: a copy of a disk, or a system that is installed."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Discriminator, Field, Tag, field_validator, model_validator

from bathotype.core.forms import form
from bathotype.core.sheets.steps import Section
from bathotype.core.units import bytes_of


class CopiedBase(Section):
    """A disk that is copied and generalized before a machine boots from it: that of a machine, which stays as it is, or
    one in an image file."""

    machine: str | None = Field(
        default=None, min_length=1, max_length=100, description="A machine of the account, by its name or id."
    )
    disk: str | None = Field(
        default=None, description="A file of the payload with a disk in it, of any format that can be imported."
    )

    @model_validator(mode="after")
    def _one(self) -> CopiedBase:
        if (self.machine is None) == (self.disk is None):
            raise ValueError("it needs either machine or disk")
        return self

    def __str__(self) -> str:
        return f"machine {self.machine}" if self.machine else f"disk {self.disk}"


class InstalledBase(Section):
    """A system that an installer lays down: a machine with a blank disk boots from the medium, and reads the answers."""

    medium: str = Field(description="A file of the payload: an ISO 9660 image that a machine boots from.")
    disk_size: str = Field(max_length=40, examples=["4GiB"], description="Size of the blank disk.")
    answers: dict[
        Annotated[str, Field(pattern=form(r"^[A-Za-z0-9][A-Za-z0-9._-]{0,60}$", "a plain file name"))], str
    ] = Field(
        default={},
        max_length=20,
        description="Files of the answer volume by their names, and their names in the payload.",
    )
    volume: str = Field(
        default="CIDATA",
        pattern=form("^[A-Za-z0-9_-]{1,16}$", "letters, digits, _ and -, 16 at most"),
        description="The label by which the installer finds the answers.",
    )
    ready: Literal["off", "agent"] = Field(
        default="off", description="What shows that the installer has ended: it shuts down, or its agent answers."
    )
    seconds: int = Field(default=3600, ge=10, le=14_400, description="How long that may take.")

    @field_validator("disk_size")
    @classmethod
    def _size(cls, value: str) -> str:
        if bytes_of(value) < 1 << 20 or bytes_of(value) % 512:
            raise ValueError("give 1 MiB or more, in whole sectors of 512 bytes, such as 4GiB")
        return value

    @property
    def disk_bytes(self) -> int:
        """Size of the blank disk."""
        return bytes_of(self.disk_size)

    def __str__(self) -> str:
        return f"medium {self.medium}"


def _kind(value: Any) -> str:
    if isinstance(value, dict):
        return "installed" if "medium" in value else "copied"
    return "installed" if isinstance(value, InstalledBase) else "copied" if isinstance(value, CopiedBase) else "version"


#: A version's reference, a disk to copy, or a system to install.
SheetBase = Annotated[
    Annotated[str, Tag("version")] | Annotated[CopiedBase, Tag("copied")] | Annotated[InstalledBase, Tag("installed")],
    Discriminator(_kind),
]


def payload_of_base(base: str | CopiedBase | InstalledBase) -> set[str]:
    """The files of the payload that a base is made from."""
    if isinstance(base, InstalledBase):
        return {base.medium, *base.answers.values()}
    return {base.disk} if isinstance(base, CopiedBase) and base.disk is not None else set()
