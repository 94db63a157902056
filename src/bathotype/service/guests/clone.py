"""Generalizing inside a booted throwaway clone, through its agent: for disks that cannot be edited offline.

The clone boots from copies of the snapshots, with the data disks that are captured, without a first-boot seed and
without a way out.  Steps that run inside are run first, in their order; then its files are written as a tar archive to
an empty disk, read from there, and the same planner works on them as on an offline disk; so does the residue scan,
where the disks cannot be read afterwards.  The clone is never shut down: what it would write while it stops (logs,
seeds, a new machine id) would be captured.  Its disk is taken while it is frozen."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

from bathotype.core.confined.changing import PLAN_INSIDE, PlannedInside, ProfileQuestion
from bathotype.core.confined.judging import JUDGE_ARCHIVE, Judged, JudgeQuestion
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Damaged, Unavailable
from bathotype.core.generalize import residue
from bathotype.core.generalize.inside import change_script, listed, mounted_script, prepare_script, tar_script
from bathotype.core.generalize.profile import OwnTool, Profile, RunInside
from bathotype.core.guest.agent import GuestAgent
from bathotype.core.units import iec, plural
from bathotype.service.guests.frozen import snapshot_frozen, snapshots
from bathotype.service.guests.power import wait_until_off
from bathotype.service.guests.ready import wait_for_agent
from bathotype.service.operations.context import WorkContext
from bathotype.sites.protocol import Site, SiteMachine

_BOOT_SECONDS = 600.0
_SCRIPT_SECONDS = 600.0
_QUIET = "/run/bathotype"


@dataclass(frozen=True)
class MadeInside:
    """What came of it: the snapshots to store, the boot disk's first, and what was found in the generalized files, where
    they were looked at inside.

    ``unmounted`` names the data disks of which the system mounts nothing: no step has changed their files.
    """

    snapshots: list[str]
    planned: PlannedInside
    judged: Judged | None
    unmounted: list[str]


class InsideClone:
    """A throwaway machine for the time of the block."""

    def __init__(
        self, context: WorkContext, site: Site, source: SiteMachine, snapshots: Sequence[str], tags: dict[str, str]
    ) -> None:
        self._context, self._site, self._source, self._snapshots, self._tags = context, site, source, snapshots, tags
        self.remove(context, site, source.region)

    @staticmethod
    def _name(context: WorkContext) -> str:
        return f"clone-{context.id}"

    @classmethod
    def remove(cls, context: WorkContext, site: Site, region: str) -> None:
        """Remove the clone of this operation, also one that a crash left."""
        machine = site.machine_named(region, cls._name(context))
        if machine is not None:
            site.delete_machine(machine.id)

    def __enter__(self) -> InsideClone:
        context, source = self._context, self._source
        boot, *data = self._snapshots
        tags = context.tags(self._tags)
        size = sum(disk.size for disk in source.disks)
        key = f"{context.id}/clone/{time.time_ns()}"
        room = self._site.create_disk(
            source.region, size, key=f"{key}/room", name=f"{self._name(context)}-room", tags=tags
        )
        self._machine = self._site.create_machine(
            key=key,
            name=self._name(context),
            region=source.region,
            zone=None,
            machine_size=source.machine_size,
            boot_disk=boot,
            data_disks=[*data, room.id],
            isolated=True,
            tags=tags,
        )
        self._room = room.id
        self._taken = [disk.id for disk in self._machine.disks if disk.id != room.id]
        self._site.power(self._machine.id, "on")
        context.log(f"A throwaway clone of {source.name} boots; its own files are generalized from inside.")
        wait_for_agent(self._site, self._machine.id, seconds=_BOOT_SECONDS, check=context.check, code="clone-silent")
        return self

    def __exit__(self, *_: object) -> None:
        self.remove(self._context, self._site, self._source.region)

    def generalize(
        self,
        profile: Profile,
        known: dict[str, Any],
        looked_for: Callable[[dict[str, Any]], residue.SourceIdentity] | None,
    ) -> MadeInside:
        """Run the profile, and snapshot the frozen clone.

        ``looked_for`` says whose identity is looked for in the files as the clone shows them; None where its disks can be
        read afterwards, which no clone can lie about.
        """
        with self._site.agent(self._machine.id, timeout=60) as agent:
            self._script(agent, prepare_script())
            for step in profile.steps:
                if isinstance(step, RunInside):
                    self._context.log(f"{step.id}: {' '.join(step.argv)}")
                    done = agent.run(step.argv, timeout=step.timeout_seconds)
                    if done.exit_code:
                        output = done.err.decode("utf-8", "replace").strip()[-300:]
                        raise Damaged(
                            f"Step {step.id} failed inside the clone with exit code {done.exit_code}: {output}",
                            advice="Correct the step, or the machine, then capture again.",
                            code="step-failed",
                        )
            reader = self._context.reader
            with self._files(agent) as archive:
                made = reader.ask(PLAN_INSIDE, ProfileQuestion(profile, known), archive)
            contents, planned = made.contents(), made.planned
            pairs = []
            for number, (path, data) in enumerate(sorted(contents.items())):
                pairs += [f"{_QUIET}/new-{number}", path]
                agent.write_file(pairs[-2], data)
            lists = f"{_QUIET}/removed", f"{_QUIET}/written"
            agent.write_file(lists[0], listed(sorted(made.paths_removed())))
            agent.write_file(lists[1], listed(pairs))
            self._script(agent, change_script(*lists))
            unmounted = [disk for disk in self._taken[1:] if not self._mounted(agent, disk)]
            self._context.log(f"{plural(len(planned.changes), 'path')} changed, {iec(planned.total_bytes)} gone.")
            found = None
            if looked_for is not None:
                with self._files(agent) as archive:
                    found = reader.ask(JUDGE_ARCHIVE, JudgeQuestion(looked_for(made.identity)), archive)
        key = f"{self._context.id}/inside/{time.time_ns()}"
        taken = snapshot_frozen(self._context, self._site, self._machine, self._taken, key, tags=self._tags)
        names = {disk: f"data-{number}" for number, disk in enumerate(self._taken)}
        return MadeInside([disk.id for disk in taken.disks], made, found, [names[disk] for disk in unmounted])

    def prepare(self, tool: OwnTool) -> list[str]:
        """Run the system's own preparation tool, wait until it has shut the clone down, and snapshot its disks."""
        context, machine = self._context, self._machine
        with self._site.agent(machine.id, timeout=60) as agent:
            context.log(f"{tool.tool} runs: {' '.join(tool.argv)}")
            with suppress(Unavailable):  # it may shut down before the agent has reported how it ended
                done = agent.run(list(tool.argv), timeout=tool.timeout_seconds)
                if done.exit_code:
                    output = (done.err or done.out).decode("utf-8", "replace").strip()[-300:]
                    raise Damaged(
                        f"{tool.tool} failed in the clone with exit code {done.exit_code}: {output}",
                        advice=tool.instruction,
                        code="step-failed",
                    )
        if not wait_until_off(self._site, machine.id, tool.timeout_seconds, check=context.check):
            raise Damaged(
                f"{tool.tool} has not shut the clone down within {tool.timeout_seconds} s.", code="step-failed"
            )
        key, name = f"{context.id}/prepared/{time.time_ns()}", f"{self._name(context)}-prepared"
        return [disk.id for disk in snapshots(self._site, self._taken, key, name, context.tags(self._tags))]

    @staticmethod
    def _mounted(agent: GuestAgent, disk: str) -> bool:
        """Whether the system mounts anything of a disk, or swaps to it."""
        done = agent.run(["/bin/sh", "-c", mounted_script(disk)], timeout=60)
        return done.exit_code == 0

    def _files(self, agent: GuestAgent) -> _Files:
        return _Files(self, agent)

    def _script(self, agent: GuestAgent, text: str) -> None:
        agent.run(["/bin/mkdir", "-p", _QUIET])
        agent.write_file(f"{_QUIET}/script", text.encode("utf-8", "surrogateescape"))
        done = agent.run(["/bin/sh", f"{_QUIET}/script"], timeout=_SCRIPT_SECONDS)
        if done.exit_code:
            output = done.err.decode("utf-8", "replace").strip()[-300:]
            raise Damaged(f"The clone could not be generalized from inside: {output}", code="inside-failed")


class _Files:
    """The clone's files as they are now, for the time of the block."""

    def __init__(self, clone: InsideClone, agent: GuestAgent) -> None:
        self._clone, self._agent = clone, agent

    def __enter__(self) -> BlockSource:
        clone = self._clone
        clone._script(self._agent, tar_script(clone._room))
        self._opened = clone._site.open_disk(clone._room)
        source: BlockSource = self._opened.__enter__()
        return source

    def __exit__(self, *error: object) -> None:
        self._opened.__exit__(None, None, None)
