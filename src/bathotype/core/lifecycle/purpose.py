"""What a version is for: the machines that it wants, and whom to ask about it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

from bathotype.core.units import plural

_Text = Annotated[str, Field(max_length=200)]


class Capacity(BaseModel):
    """Processors and memory of a machine; what is not given does not matter."""

    model_config = ConfigDict(extra="forbid", frozen=True, defer_build=True)

    processors: int | None = Field(default=None, ge=1, le=4096)
    memory_mib: int | None = Field(default=None, ge=1, le=1 << 26)


class Purpose(BaseModel):
    """All of it is optional, and may change during a version's life."""

    model_config = ConfigDict(extra="forbid", frozen=True, defer_build=True)

    least: Capacity = Field(default=Capacity(), description="Launches on less are refused.")
    recommended: Capacity = Field(default=Capacity(), description="Launches on less warn.")
    compatible_sizes: list[_Text] = Field(
        default=[], max_length=100, description="Machine sizes that it is made for; empty for all."
    )
    excluded_sizes: list[_Text] = Field(default=[], max_length=100, description="Machine sizes that it is not for.")
    contact: str = Field(default="", max_length=200, description="Whom to ask about it.")
    licence: str = Field(default="", max_length=2000, description="Terms that whoever launches it must keep.")
    labels: dict[_Text, _Text] = Field(default={}, max_length=64)


@dataclass(frozen=True)
class SizeOffered:
    """A machine size of a site, as far as the site reports it."""

    processors: int | None = None
    memory_mib: int | None = None


def judge_size(reference: str, purpose: Purpose, size: str, offered: SizeOffered) -> tuple[list[str], list[str]]:
    """Why a machine size will not do for a version, and what to know about it."""
    blockers, warnings = [], []
    if size in purpose.excluded_sizes:
        blockers.append(f"{reference} is not for machines of size {size}. Give another --machine-size.")
    elif purpose.compatible_sizes and size not in purpose.compatible_sizes:
        blockers.append(f"{reference} is made for the sizes {', '.join(purpose.compatible_sizes)}, not for {size}.")
    if lacks := _lacks(purpose.least, offered):
        blockers.append(f"{reference} needs at least {lacks[0]}; {size} has {lacks[1]}. Give a larger --machine-size.")
    elif lacks := _lacks(purpose.recommended, offered):
        warnings.append(f"{reference} recommends {lacks[0]}; {size} has {lacks[1]}.")
    return blockers, warnings


def _lacks(wanted: Capacity, offered: SizeOffered) -> tuple[str, str] | None:
    """What is wanted and what is there, where that is less."""
    want, has = [], []
    for name, most, there in (
        ("processor", wanted.processors, offered.processors),
        ("MiB of memory", wanted.memory_mib, offered.memory_mib),
    ):
        if most is not None and there is not None and there < most:
            want.append(plural(most, name) if name == "processor" else f"{most} {name}")
            has.append(str(there))
    return (" and ".join(want), " and ".join(has)) if want else None


def capacity_text(capacity: Capacity) -> str:
    """``2 processors, 2048 MiB``; empty where nothing is wanted."""
    parts = [plural(capacity.processors, "processor")] if capacity.processors else []
    parts += [f"{capacity.memory_mib} MiB"] if capacity.memory_mib else []
    return ", ".join(parts)
