"""The disks that an instance gets: those of its version, a boot disk that is larger, and empty ones besides."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field

from bathotype.core.disk.several import MOST_DISKS
from bathotype.core.units import iec, plural

_MIB = 1 << 20
#: How much of what it should have a grown file system has at least: its own tables take the rest.
_USABLE = 0.85
Bytes = Annotated[int, Field(ge=_MIB, le=1 << 50, multiple_of=512)]


class Room(BaseModel):
    """What instances get beyond their version's disks; what is left out stays as the version has it."""

    model_config = ConfigDict(extra="forbid", frozen=True, defer_build=True)

    boot_bytes: Bytes | None = Field(
        default=None,
        description="Size of the boot disk, larger than the version's: its last partition grows at first boot.",
    )
    extra_disks: list[Bytes] = Field(
        default=[], max_length=MOST_DISKS - 1, description="Sizes of empty disks that each instance gets besides."
    )
    keep_data_disks: bool = Field(
        default=False,
        description="Whether all disks but the boot disk stay at the site when an instance is terminated.",
    )


@dataclass(frozen=True)
class InstanceDisk:
    """One disk of an instance; ``grown_from`` is its size in the version, where it is larger now."""

    role: str
    bytes: int
    holds: str = ""
    grown_from: int | None = None
    kept: bool = False


def disks_of_instance(version: Sequence[Mapping[str, Any]], room: Room) -> list[InstanceDisk]:
    """The disks of each instance, from the record of its version's."""
    found = []
    for disk in version:
        size, boot = int(disk["bytes"]), disk["role"] == "boot"
        grown = boot and room.boot_bytes is not None and room.boot_bytes > size
        found.append(
            InstanceDisk(
                disk["role"],
                room.boot_bytes if grown and room.boot_bytes else size,
                disk["holds"],
                size if grown else None,
                room.keep_data_disks and not boot,
            )
        )
    extra = [
        InstanceDisk(f"extra-{number}", size, "nothing: it is empty", None, room.keep_data_disks)
        for number, size in enumerate(room.extra_disks, 1)
    ]
    return [*found, *extra]


def room_faults(version: Sequence[Mapping[str, Any]], room: Room, *, largest: int) -> list[str]:
    """What is wrong with what was asked for, as sentences that say what to do; ``largest`` is the site's largest disk."""
    wrong = []
    boot = int(version[0]["bytes"])
    if room.boot_bytes is not None and room.boot_bytes < boot:
        wrong.append(f"A boot disk of {iec(room.boot_bytes)} is smaller than the version's, which has {iec(boot)}.")
    disks = disks_of_instance(version, room)
    if (widest := max(disk.bytes for disk in disks)) > largest:
        wrong.append(f"A disk would have {iec(widest)}; the site takes {iec(largest)} at most.")
    if len(disks) > MOST_DISKS:
        wrong.append(f"Each instance would have {plural(len(disks), 'disk')}; {MOST_DISKS} is the most.")
    return wrong


def room_remarks(version: Sequence[Mapping[str, Any]], room: Room, *, root_last: bool | None) -> list[str]:
    """What somebody should know of it; ``root_last`` says whether the system's file system is at the boot disk's end."""
    if disks_of_instance(version, room)[0].grown_from is None:
        return []
    if root_last is None:
        return ["Whether its file system grows with the boot disk is not known: its files cannot be read."]
    if not root_last:
        return ["The system's file system is not at the end of the boot disk: what is added stays unused."]
    return []


def least_root(disks: Sequence[Mapping[str, Any]], root_bytes: int) -> int:
    """The bytes that the system's file system has at least once it has grown; 0 where that is not known.

    ``disks`` are an instance's, ``root_bytes`` the size of the file system's partition in the version.
    """
    boot = next((disk for disk in disks if disk["role"] == "boot"), None)
    if boot is None or not boot.get("grown_from") or not root_bytes:
        return 0
    return int((root_bytes + int(boot["bytes"]) - int(boot["grown_from"])) * _USABLE)
