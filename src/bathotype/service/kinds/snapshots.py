"""What captures and capture plans share: snapshots of a machine's disks at one moment, removed in the end."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator, Sequence
from typing import Any, TypeVar

from pydantic import BaseModel

from bathotype.core.disk.nbdpool import NbdPool
from bathotype.core.disk.several import Several
from bathotype.core.errors import BathotypeError, NotFound
from bathotype.service.chosen import chosen_disks
from bathotype.service.guests.frozen import snapshot_frozen, snapshots, thaw_if_frozen
from bathotype.service.identities import read_identity, remember_identity
from bathotype.service.kinds.generalizing import GivenProfile
from bathotype.service.operations.context import WorkContext
from bathotype.service.operations.kind import Kind, Memo, Params
from bathotype.sites.protocol import Site, SiteMachine


class SnapshotParams(Params):
    """The machine, and the tags for what is created at the site."""

    machine_id: str
    region: str
    profile: GivenProfile = "linux"
    tags: dict[str, str] = {}
    disks: list[str] = ["boot"]
    prepared: bool = False


class TakenDisk(BaseModel):
    """What a disk was called at the site, and its size in bytes."""

    name: str
    bytes: int


class SnapshotMemo(Memo):
    """The snapshots (the boot disk's, and those of data disks in their order), and what the machine was then."""

    snapshot: str | None = None
    data_snapshots: list[str] = []
    frozen_seconds: float | None = None
    changes_known: bool = False
    source: dict[str, Any] = {}
    identity: dict[str, Any] = {}


P = TypeVar("P", bound=SnapshotParams)
M = TypeVar("M", bound=SnapshotMemo)


class Snapshots(Kind[P, M]):
    """Takes the snapshots, and removes them.  ``memo.snapshot`` is the boot disk's id at the site."""

    may_leave = True

    @property
    def site(self) -> Site:
        """The site as the capturing account sees it."""
        return self.context.site(self.params.region)

    @property
    def machine_id(self) -> str:
        """The source machine's id at the site."""
        return self.params.machine_id

    @property
    def machine(self) -> SiteMachine:
        """The source machine, as it is now."""
        return self.site.machine(self.machine_id)

    @property
    def taken(self) -> str:
        """The id of the boot disk's snapshot."""
        assert self.memo.snapshot is not None
        return self.memo.snapshot

    @property
    def all_taken(self) -> list[str]:
        """The ids of all snapshots, the boot disk's first."""
        return [self.taken, *self.memo.data_snapshots]

    @contextlib.contextmanager
    def open_disks(self, ids: Sequence[str]) -> Iterator[NbdPool | Several]:
        """Disks at the site, for the time of the block; several as one source."""
        with contextlib.ExitStack() as opened:
            parts = [opened.enter_context(self.site.open_disk(one)) for one in ids]
            yield Several(tuple(parts)) if len(parts) > 1 else parts[0]

    @property
    def in_use(self) -> frozenset[str]:
        """Disks of the operation at the site, besides the machine's, that it still needs."""
        return frozenset()

    def have_machine_alone(self) -> None:
        """Allow one capture of a machine at a time: one freeze, and one working copy at the site."""
        self.context.lock(f"machine {self.machine_id}", why="Waiting for another capture of this machine to end.")
        self.context.reader.start()  # it is ready when there is a disk to read

    def take_snapshot(self, *, freeze: bool, note_changes: bool = False, since: str | None = None) -> None:
        """Freeze, snapshot, thaw; a machine that is off is not frozen.

        ``note_changes`` asks the site to note changes from now on, ``since`` names the snapshot of an earlier capture.
        """
        context, site = self.context, self.site
        self.have_machine_alone()
        machine = self.machine
        thaw_if_frozen(site, machine)
        wanted = chosen_disks(machine, self.params.disks)
        # Of an attempt that was cut short: it may not be consistent.
        remove_tagged(context, site, self.params.region, but=self.in_use | {disk.id for disk in machine.disks})
        key = f"{context.id}/snapshot/{os.urandom(4).hex()}"
        running = machine.state == "running"
        self.memo.identity = self.identity_now(machine) if running else self.memo.identity
        if running and freeze:
            taken = snapshot_frozen(
                context, site, machine, [disk.id for disk in wanted], key,
                tags=self.params.tags, checkpoint=note_changes, changes_since=since,
            )  # fmt: skip
            context.log(f"The guest was frozen for {taken.frozen_seconds:.2f} s.")
            disks = taken.disks
            self.memo.frozen_seconds = round(taken.frozen_seconds, 3)
        else:
            disks = snapshots(
                site, [disk.id for disk in wanted], key, f"{machine.name}-{context.id}", context.tags(self.params.tags)
            )
        boot, *others = disks
        self.memo.snapshot, self.memo.changes_known = boot.id, boot.changes_known
        self.memo.data_snapshots = [disk.id for disk in others]
        self.memo.source = {
            "machine": machine.name,
            "machine_id": machine.id,
            "region": machine.region,
            "zone": machine.zone,
            "machine_size": machine.machine_size,
            "address": machine.address,
            "created_from": machine.created_from,
            **({"disks": [TakenDisk(name=d.name, bytes=d.size).model_dump() for d in wanted]} if others else {}),
        }
        self.save()

    def identity_now(self, machine: SiteMachine) -> dict[str, Any]:
        """What a running machine says of itself; nothing where its agent is silent."""
        try:
            with self.site.agent(machine.id) as agent:
                found = read_identity(agent)
        except BathotypeError:
            return {}
        with self.context.session() as session:
            remember_identity(session, self.context.account_id, machine, found)
        return found

    def drop_snapshot(self) -> None:
        """Thaw the guest where an attempt was cut short, and remove everything temporary at the site."""
        if self.memo.snapshot is None:  # else it was thawed, and a freeze now would be somebody else's
            with contextlib.suppress(NotFound):  # the machine may be gone by now
                thaw_if_frozen(self.site, self.machine)
        remove_tagged(self.context, self.site, self.params.region)


def remove_tagged(context: WorkContext, site: Site, region: str, *, but: frozenset[str] = frozenset()) -> None:
    """Remove every disk that carries the operation's tag, but for some by their ids, and for base disks."""
    for disk in site.disks(region, tag=("bathotype-operation", context.id)):
        if disk.id not in but and "bathotype-base" not in disk.tags:
            site.delete_disk(disk.id)
