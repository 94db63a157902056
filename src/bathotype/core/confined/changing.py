"""Planning what a profile changes, and changing a copy."""

from __future__ import annotations

import os
from dataclasses import dataclass
from typing import Any

from bathotype.core.confined.task import Bench, PackedRanges, Task
from bathotype.core.disk.layout import read_layout, settled, used_ranges
from bathotype.core.disk.source import FileSource
from bathotype.core.errors import Damaged
from bathotype.core.generalize.apply import apply_plan
from bathotype.core.generalize.identity import identity_of
from bathotype.core.generalize.plan import Change, Plan, capture_ranges, plan
from bathotype.core.generalize.profile import Profile
from bathotype.core.generalize.proof import Survey, survey
from bathotype.core.generalize.remains import blank_remains
from bathotype.core.guest.archive import TarTree
from bathotype.core.guest.files import GuestDisk
from bathotype.core.guest.offline import settle

Identity = dict[str, Any]


@dataclass(frozen=True)
class ProfileQuestion:
    """A profile, and what is known of the guest's identity."""

    profile: Profile
    known: Identity


@dataclass(frozen=True)
class Planned:
    """What a profile changes: each path, each step in sum, and the bytes that go away."""

    changes: tuple[Change, ...]
    steps: tuple[dict[str, Any], ...]
    total_bytes: int

    @classmethod
    def of(cls, result: Plan) -> Planned:
        """A plan without the means to carry it out."""
        return cls(tuple(result.changes), tuple(result.by_step()), result.total_bytes)


@dataclass(frozen=True)
class PlannedOffline:
    """The plan for a disk, and how many of its bytes are in use."""

    planned: Planned
    used_bytes: int


@dataclass(frozen=True)
class Changed:
    """What was changed on a copy, and the ranges of it that are to be stored."""

    identity: Identity
    planned: Planned
    ranges: PackedRanges
    before: Survey
    used_before: int
    swap_before: int


@dataclass(frozen=True)
class PlannedInside:
    """The plan for a booted guest, whose paths are bytes as hexadecimal text; so are the new contents of files."""

    identity: Identity
    planned: Planned
    removed: tuple[str, ...]
    written: tuple[tuple[str, str], ...]
    before: Survey

    def paths_removed(self) -> list[str]:
        """Paths to remove, as Python has them."""
        return [os.fsdecode(bytes.fromhex(path)) for path in self.removed]

    def contents(self) -> dict[str, bytes]:
        """The new content of files by their paths."""
        return {os.fsdecode(bytes.fromhex(path)): bytes.fromhex(data) for path, data in self.written}


def _image(bench: Bench) -> FileSource:
    image = bench.sources[0]
    if not isinstance(image, FileSource):
        raise Damaged("Only a copy can be changed.")
    return image


def _plan(bench: Bench, question: ProfileQuestion) -> PlannedOffline:
    disk = GuestDisk.open(settled(bench.sources[0]))
    host_name = identity_of(disk, question.known)["host_name"]
    planned = plan(question.profile, disk, host_name=host_name)
    return PlannedOffline(Planned.of(planned), used_ranges(disk.source, disk.layout).total)


def _identify(bench: Bench, known: Identity) -> Identity:
    return identity_of(GuestDisk.open(bench.sources[0]), known)


def _settle(bench: Bench, _: None) -> tuple[str, ...]:
    image = _image(bench)
    volumes = [v for v in read_layout(image).volumes if v.filesystem == "ext4"]
    return tuple(v.name for v in volumes if settle(image, v.stretch, by_tool=bench.replay))


def _change(bench: Bench, question: ProfileQuestion) -> Changed:
    image = _image(bench)
    disk = GuestDisk.open(image)
    identity = identity_of(disk, question.known)
    before = survey(disk, identity["host_name"])
    used, swap = used_ranges(image, disk.layout).total, sum(area.bytes for area in disk.swap_areas())
    planned = plan(question.profile, disk, host_name=identity["host_name"])
    apply_plan(planned, disk, image, judge=bench.judge)
    ranges = capture_ranges(planned, GuestDisk.open(image))
    return Changed(identity, Planned.of(planned), ranges, before, used, swap)


def _blank(bench: Bench, _: None) -> None:
    blank_remains(_image(bench), judge=bench.judge, by_tool=bench.replay)


def _plan_inside(bench: Bench, question: ProfileQuestion) -> PlannedInside:
    tree = TarTree(bench.sources[0])
    identity = identity_of(tree, question.known)
    planned = plan(question.profile, tree, host_name=identity["host_name"], inside=True)
    return PlannedInside(
        identity,
        Planned.of(planned),
        tuple(os.fsencode(path).hex() for path in planned.removed if path not in planned.written),
        tuple((os.fsencode(path).hex(), new.data.hex()) for path, new in planned.written.items()),
        survey(tree, identity["host_name"]),
    )


#: What a profile would change on a disk.
PLAN = Task("changing.plan", ProfileQuestion, PlannedOffline, _plan)
#: Who the guest on a disk is.  Raises `Refused` where none can be read.
IDENTIFY = Task("changing.identify", Identity, Identity, _identify)
#: Replays journals of a copy and lets go what was removed while open; names the volumes where that was to be done.
SETTLE = Task("changing.settle", type(None), tuple[str, ...], _settle)
#: Makes a profile's changes on a copy.
CHANGE = Task("changing.change", ProfileQuestion, Changed, _change)
#: Blanks what removed files left in a copy.
BLANK = Task("changing.blank", type(None), type(None), _blank)
#: What a profile changes in a booted guest, whose files are an archive on the disk.
PLAN_INSIDE = Task("changing.plan_inside", ProfileQuestion, PlannedInside, _plan_inside)

TASKS = {
    "plan": PLAN,
    "identify": IDENTIFY,
    "settle": SETTLE,
    "change": CHANGE,
    "blank": BLANK,
    "plan_inside": PLAN_INSIDE,
}
