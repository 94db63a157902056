"""Making a profile's changes on the copy in scratch, never on the source."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from bathotype.core.disk.layout import read_layout, used_ranges
from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource, Masked, open_file
from bathotype.core.errors import Refused
from bathotype.core.generalize.apply import apply_plan
from bathotype.core.generalize.plan import Plan, capture_ranges, plan
from bathotype.core.generalize.profile import Profile, builtin_profile, profile_of
from bathotype.core.guest.confined import PACKAGES, tools_missing
from bathotype.core.guest.files import GuestDisk
from bathotype.core.guest.offline import settle
from bathotype.core.guest.tree import FileTree
from bathotype.core.store.chunks import CHUNK, digest
from bathotype.core.store.manifest import Manifest, ManifestBuilder
from bathotype.core.units import iec, plural
from bathotype.service.kinds.scratch import image_path
from bathotype.service.operations.context import WorkContext

_BEFORE = "before.npy"
GivenProfile = str | dict[str, Any]


@dataclass(frozen=True)
class Generalized:
    """What was changed, and the ranges of the copy that are to be stored."""

    identity: dict[str, Any]
    plan: Plan
    ranges: list[tuple[int, int]]


def profile_for(given: GivenProfile) -> Profile:
    """A built-in profile by name, or one given as data."""
    return builtin_profile(given) if isinstance(given, str) else profile_of(given)


def need_tools() -> None:
    """Raises `Refused` where this worker lacks a program that offline edits need."""
    if missing := tools_missing():
        packages = ", ".join(PACKAGES[name] for name in missing)
        raise Refused(f"This worker lacks {', '.join(missing)}.", advice=f"Install from Debian: {packages}.")


def identity_of(tree: FileTree, known: dict[str, Any]) -> dict[str, Any]:
    """What makes a guest itself: what is known already, completed from its files."""
    identity = dict(known)
    identity.setdefault("host_name", tree.text("/etc/hostname").strip())
    identity.setdefault("machine_id", tree.text("/etc/machine-id").strip())
    return identity


def generalize_copy(context: WorkContext, profile: Profile, known: dict[str, Any]) -> Generalized:
    """Replay the copy's journals, then plan and make the profile's changes."""
    path = image_path(context)
    with open_file(path) as image:
        volumes = [v for v in read_layout(image).volumes if v.filesystem == "ext4"]
    for volume in volumes:
        if settle(path, volume.stretch):
            context.log(f"The journal of {volume.name} of the copy was replayed.")
    done = change_copy(context, profile, known)
    context.log(f"{plural(len(done.plan.changes), 'path')} changed, {iec(done.plan.total_bytes)} gone.")
    return done


def change_copy(context: WorkContext, profile: Profile, known: dict[str, Any]) -> Generalized:
    """Plan and make changes on the copy; its chunks before that are noted, for the next capture of the machine."""
    path = image_path(context)
    with open_file(path) as image:
        disk = GuestDisk.open(image)
        identity = identity_of(disk, known)
        before = _digests(image, used_ranges(image, disk.layout))
        planned = plan(profile, disk, host_name=identity["host_name"])
        apply_plan(planned, disk, path)
    with open_file(path) as image:
        ranges = list(capture_ranges(planned, GuestDisk.open(image)))
    np.save(context.scratch / _BEFORE, before)
    return Generalized(identity, planned, ranges)


def _digests(image: BlockSource, used: Ranges) -> Any:
    """Position and digest of every chunk that is not zero, as a table."""
    visible = Masked(image, used)
    rows = []
    for index in used.windows(CHUNK).tolist():
        data = visible.read(index * CHUNK, min(CHUNK, image.size - index * CHUNK))
        if any(data):
            rows.append((index, digest(data)))
    return np.array(rows, dtype=[("i", "<i8"), ("d", "V32")])


def chunks_before(scratch: Path, size: int) -> Manifest | None:
    """The copy's chunks before it was changed, None where nothing was; their places in packs mean nothing."""
    path = scratch / _BEFORE
    if not path.exists():
        return None
    builder = ManifestBuilder(size)
    nowhere = builder.pack_number("")
    for index, name in np.load(path).tolist():
        builder.add(index, bytes(name), nowhere, 0, 0)
    return builder.build()
