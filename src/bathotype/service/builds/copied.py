"""The base of a run that is no version: a machine's boot disk, or the disk in an image file.

It is copied to scratch and generalized there before a machine boots from it, so that the temporary machine is nobody's
double; then it is written to the site as a base disk of the run's own, which goes with the run.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel

from bathotype.core.confined.asking import look
from bathotype.core.confined.looking import Look
from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Refused, Unavailable
from bathotype.core.generalize.profile import Profile
from bathotype.core.store.materialise import compare
from bathotype.core.units import iec, plural
from bathotype.service.guests.frozen import snapshot_of_boot
from bathotype.service.kinds.basedisks import need_as_written
from bathotype.service.kinds.generalizing import chunks_before, chunks_of, forget_before, generalize_copy
from bathotype.service.kinds.imagefile import ImageFile
from bathotype.service.kinds.scratch import bring, copy_ranges, drop_image, open_copy
from bathotype.service.kinds.snapshots import remove_tagged
from bathotype.service.operations.context import WorkContext
from bathotype.service.preflight import inspect
from bathotype.sites.protocol import Site, SiteMachine

_ADVICE = "Make a version of it (`bathotype capture`, `bathotype import`), and name that as the base."


class CopiedDisk(BaseModel):
    """What was copied: content digest and size in bytes before it was generalized, bytes of its system's file system, and
    the base disk at the site, once it is there."""

    digest: str = ""
    bytes: int = 0
    root_bytes: int = 0
    identity: dict[str, Any] = {}
    site_disk: str | None = None
    data_disks: list[str] = []
    zone: str = ""


@dataclass(frozen=True)
class BaseCopy:
    """The copy of one run; ``save`` keeps ``disk`` with the run."""

    context: WorkContext
    region: str
    profile: Profile
    tags: Mapping[str, str]
    disk: CopiedDisk
    save: Callable[[], None]

    @property
    def site(self) -> Site:
        """The site as the run's account sees it."""
        return self.context.site(self.region)

    # To scratch

    def bring_machine(self, machine: SiteMachine) -> None:
        """Copy the boot disk of a machine, which is frozen for a moment if it runs, and generalize the copy."""
        context, site = self.context, self.site
        context.lock(f"machine {machine.id}", why="Waiting for a capture of this machine to end.")
        context.reader.start()
        self.begin()
        found = inspect(
            context.reader, context.reach, context.account_name, machine, mode="live", profile=self.profile,
            tags=dict(self.tags), scratch_bytes=context.settings.scratch_bytes,
        )  # fmt: skip
        found.refuse()
        if found.inside:
            raise Refused(f"The disk of {machine.name} is not generalized by files alone.", advice=_ADVICE)
        taken = snapshot_of_boot(context, site, machine, dict(self.tags))
        try:
            with site.open_disk(taken) as raw:
                seen = look(context.reader, raw)
                bring(context, seen.settled(raw), seen.used)
        finally:
            site.delete_disk(taken)
        self._generalize(seen)

    def bring_file(self, file: ImageFile) -> None:
        """Copy the disk in an image file, and generalize the copy."""
        self.begin()
        file.unpack()
        with file.examined() as found:
            for warning in found.remarks.warnings:
                self.context.log(warning, "warning")
            found.refuse()
            assert found.image is not None and found.image.look is not None
            if len(found.image.disks) > 1:
                raise Refused(f"{found.source} holds {plural(len(found.image.disks), 'disk')}.", advice=_ADVICE)
            seen = found.image.look
            file.bring(found)
        self._generalize(seen)

    def begin(self) -> None:
        """Nothing of an attempt that was cut short is used: its base disk may be of another moment."""
        self.disk.site_disk = None
        self.save()
        remove_tagged(self.context, self.site, self.region)

    def _generalize(self, seen: Look) -> None:
        context = self.context
        if not seen.has_root:
            raise Refused("There is no ext4 file system with an operating system to generalize.", advice=_ADVICE)
        done = generalize_copy(context, self.profile, {})
        with open_copy(context) as image:
            before = chunks_before(context.scratch, image.size)
            assert before is not None  # it was generalized just now
            self.disk.bytes, self.disk.digest = image.size, before.content_digest
        forget_before(context.scratch)
        roots = [v.length for v in seen.layout.volumes if v.filesystem == "ext4"]
        self.disk.root_bytes, self.disk.identity = max(roots, default=0), done.identity
        self.save()

    # To the site

    def ensure(self) -> bool | None:
        """Write the copy to the site as a base disk, and read it back."""
        if self.disk.site_disk is not None:
            return False
        context, site = self.context, self.site
        with open_copy(context) as image:
            used = look(context.reader, image).used
            made = site.create_disk(
                self.region, image.size, key=f"{context.id}/base/{os.urandom(4).hex()}", name=f"base-{context.id}",
                tags=context.tags(dict(self.tags)),
            ).id  # fmt: skip
            with site.open_disk(made, writable=True) as target:
                copy_ranges(context, image, used, target, 0, used.total)
                target.flush()
            self._must_equal(image, used, made)
        site.seal(made)
        self.disk.site_disk = made
        self.save()
        drop_image(context)
        context.log(f"A base disk of {iec(used.total)} is written and verified.")
        return None

    def _must_equal(self, image: BlockSource, used: Ranges, disk: str) -> None:
        manifest = chunks_of(image, used)
        with self.site.open_disk(disk) as written:
            need_as_written(compare(manifest, written))

    @contextmanager
    def chosen(self, zone: str | None) -> Iterator[CopiedDisk]:
        """The base disk.  Raises `Unavailable` where it is gone."""
        if self.disk.site_disk is None:
            raise Unavailable("The base disk of this run is not there.")
        yield self.disk
