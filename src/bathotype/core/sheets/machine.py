"""What a sheet says of the temporary machine in which its steps are done."""

from __future__ import annotations

from typing import Annotated

from pydantic import Discriminator, Field, Tag, ValidationError, field_validator, model_validator

from bathotype.core.firstboot.settings import FirstBoot
from bathotype.core.lifecycle.networks import Attach
from bathotype.core.lifecycle.room import Room
from bathotype.core.sheets.steps import Section
from bathotype.core.units import bytes_of

#: First-boot settings, or the name of saved ones.
MachineSettings = Annotated[
    Annotated[FirstBoot, Tag("settings")] | Annotated[str, Tag("saved")],
    Discriminator(lambda value: "saved" if isinstance(value, str) else "settings"),
]


class Machine(Section):
    """The temporary machine in which the steps run."""

    region: str | None = Field(default=None, description="Left out: where the base is.")
    zone: str | None = None
    size: str | None = Field(default=None, max_length=100, description="Left out: the size of the base's source.")
    tags: dict[str, str] = Field(default={}, max_length=50)
    boot_size: str | None = Field(
        default=None, max_length=40, examples=["8GiB"],
        description="Size of its boot disk, larger than the base's: the last partition and its file system grow.",
    )  # fmt: skip
    isolated: bool = Field(default=False, description="Whether it has no network.")
    attach: Attach = Field(default=Attach(), description="Where it attaches: the subnet, and firewall sets.")
    first_boot: MachineSettings | None = Field(
        default=None, description="First-boot settings, or the name of saved ones.  The run gives it its host name."
    )
    ready_seconds: int = Field(default=900, ge=10, le=7200, description="How long its first boot may take.")
    lifetime_seconds: int | None = Field(
        default=None, ge=10, le=604_800, description="How long it may live: a run that needs longer fails."
    )

    @field_validator("first_boot")
    @classmethod
    def _named_by_the_run(cls, value: FirstBoot | str | None) -> FirstBoot | str | None:
        if isinstance(value, FirstBoot) and value.host_name is not None:
            raise ValueError("the temporary machine has the run's name: leave host_name out")
        return value

    @model_validator(mode="after")
    def _one_network(self) -> Machine:
        if self.isolated and self.attach != Attach():
            raise ValueError("an isolated machine attaches nowhere: leave out either isolated or attach")
        return self

    @field_validator("boot_size")
    @classmethod
    def _size(cls, value: str | None) -> str | None:
        if value is not None:
            try:
                Room(boot_bytes=bytes_of(value))
            except ValidationError as error:
                raise ValueError("give 1 MiB or more, in whole sectors of 512 bytes, such as 8GiB") from error
        return value

    @property
    def room(self) -> Room:
        """What its disks have beyond the base's."""
        return Room(boot_bytes=bytes_of(self.boot_size) if self.boot_size else None)
