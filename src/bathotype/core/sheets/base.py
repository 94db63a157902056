"""What a sheet's version is made from, where that is no version: a copy of a disk becomes the temporary machine's."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import Discriminator, Field, Tag, model_validator

from bathotype.core.sheets.steps import Section


class CopiedBase(Section):
    """A disk that is copied and generalized before a machine boots from it: that of a machine, which stays as it is, or one
    in an image file."""

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


def _kind(value: Any) -> str:
    return "copied" if isinstance(value, dict | CopiedBase) else "version"


#: A version's reference, or a disk to copy.
SheetBase = Annotated[Annotated[str, Tag("version")] | Annotated[CopiedBase, Tag("copied")], Discriminator(_kind)]


def payload_of_base(base: str | CopiedBase) -> set[str]:
    """The files of the payload that a base is made from."""
    return {base.disk} if isinstance(base, CopiedBase) and base.disk is not None else set()
