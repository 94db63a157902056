"""Making a profile's changes on the copy in scratch, never on the source."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from bathotype.core.confined.asking import inside, look
from bathotype.core.confined.changing import CHANGE, SETTLE, Changed, ProfileQuestion
from bathotype.core.confined.sandbox import PACKAGES, tools_missing
from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource, Masked
from bathotype.core.errors import Refused
from bathotype.core.generalize.profile import Profile, builtin_profile, profile_of
from bathotype.core.store.chunks import CHUNK, digest
from bathotype.core.store.manifest import Manifest, ManifestBuilder
from bathotype.core.units import iec, plural
from bathotype.service.kinds.scratch import open_copy
from bathotype.service.operations.context import WorkContext

_BEFORE = "before.npy"
GivenProfile = str | dict[str, Any]


def profile_for(given: GivenProfile) -> Profile:
    """A built-in profile by name, or one given as data."""
    return builtin_profile(given) if isinstance(given, str) else profile_of(given)


def need_tools() -> None:
    """Raises `Refused` where this worker lacks a program that offline edits need."""
    if missing := tools_missing():
        packages = ", ".join(PACKAGES[name] for name in missing)
        raise Refused(f"This worker lacks {', '.join(missing)}.", advice=f"Install from Debian: {packages}.")


def generalize_copy(context: WorkContext, profile: Profile, known: dict[str, Any]) -> Changed:
    """Replay the copy's journals, then plan and make the profile's changes."""
    with open_copy(context, writable=True) as image:
        for name in context.reader.ask(SETTLE, None, image):
            context.log(f"The journal of {name} of the copy was replayed.")
    done = change_copy(context, profile, known)
    context.log(f"{plural(len(done.planned.changes), 'path')} changed, {iec(done.planned.total_bytes)} gone.")
    return done


def change_copy(context: WorkContext, profile: Profile, known: dict[str, Any]) -> Changed:
    """Plan and make changes on the copy; its chunks before that are noted, for the next capture of the machine."""
    with open_copy(context, writable=True) as image:
        before = _digests(image, look(context.reader, image).used)
        done = context.reader.ask(CHANGE, ProfileQuestion(profile, known), image)
        inside(done.ranges, image.size)
    np.save(context.scratch / _BEFORE, before)
    return done


def forget_before(scratch: Path) -> None:
    """What is in scratch now is not what was changed."""
    (scratch / _BEFORE).unlink(missing_ok=True)


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
    return _manifest(size, np.load(path)) if path.exists() else None


def chunks_of(image: BlockSource, used: Ranges) -> Manifest:
    """The chunks of a disk; their places in packs mean nothing."""
    return _manifest(image.size, _digests(image, used))


def _manifest(size: int, digests: Any) -> Manifest:
    builder = ManifestBuilder(size)
    nowhere = builder.pack_number("")
    for index, name in digests.tolist():
        builder.add(index, bytes(name), nowhere, 0, 0)
    return builder.build()
