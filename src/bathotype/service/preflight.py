"""Preflight: every obstacle to a capture and every warning, all at once, each with why and what to do."""

from __future__ import annotations

import time
from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field

from bathotype.core.confined.asking import look
from bathotype.core.confined.looking import HOLDS, MARKER, NEEDS, MarkerQuestion
from bathotype.core.confined.reader import ConfinedReader
from bathotype.core.contents.platform import Platform
from bathotype.core.disk.layout import Layout
from bathotype.core.disk.several import Several, role_of
from bathotype.core.errors import BathotypeError, NotFound, Refused
from bathotype.core.generalize.profile import OwnTool, Profile
from bathotype.core.guest.agent import AgentRefused, GuestAgent
from bathotype.core.units import iec, plural
from bathotype.service.chosen import chosen_disks
from bathotype.service.reach import Reach
from bathotype.service.remarks import Remarks
from bathotype.sites.protocol import Site, SiteDisk, SiteMachine
from bathotype.wire.versions import CaptureMode

_AGENT_SECONDS = 5.0
#: A guest that is busy, or emulated, takes a while to start a shell.
_PROGRAM_SECONDS = 60.0
_CLONE_NEEDS = "command -v tar && command -v awk && command -v xargs"
_FREEZE_PASSES = 4.0
_NEEDED_COMMANDS = {"guest-fsfreeze-freeze", "guest-fsfreeze-thaw", "guest-fsfreeze-status"}
_ENCRYPTED = {"luks": "LUKS", "bitlocker": "BitLocker"}


@dataclass
class Preflight:
    """What was found out about one machine.

    ``offline`` says that its files can be edited offline, ``inside`` that it is to be generalized in a booted clone;
    ``disks`` are those that are captured, the boot disk first; ``tool_told`` is what shows that the system's own tool
    has run."""

    machine: SiteMachine
    mode: CaptureMode
    remarks: Remarks = field(default_factory=Remarks)
    layout: Layout | None = None
    used_bytes: int | None = None
    offline: bool = True
    inside: bool = False
    power_off: bool = False
    disks: tuple[SiteDisk, ...] = ()
    tool_told: str = ""

    @property
    def capturable(self) -> bool:
        """Whether nothing forbids the capture."""
        return not self.remarks.obstacles

    def refuse(self) -> None:
        """Raise `Refused` with every obstacle, if there is one."""
        self.remarks.refuse(f"{self.machine.name} cannot be captured", "preflight")


def effects_on_source(power_off: bool, afterwards: str) -> list[str]:
    """What a capture does to its source."""
    if afterwards == "deleted":
        return ["The machine is DELETED with its disks once the version is sealed."]
    if afterwards == "stopped":
        return ["The machine is shut down once the version is sealed, and stays off."]
    if power_off:
        return ["The machine is shut down by its agent, and started again as soon as its disk is copied."]
    return ["The machine stays as it is."]


def find_machine(reach: Reach, account: str, name: str, region: str | None) -> SiteMachine:
    """A machine by id or name; every region is searched unless one is given.  Raises `NotFound` or `Refused`."""
    regions = [reach.check_region(region)] if region else reach.regions
    found: list[SiteMachine] = []
    for place in regions:
        site = reach.site(place, account)
        try:
            match = site.machine_named(place, name) or site.machine(name)
        except NotFound:
            match = None
        if match is not None and (region is None or match.region == region) and match.id not in {m.id for m in found}:
            found.append(match)
    if not found and region:
        elsewhere = _elsewhere(reach, account, name, region)
        if elsewhere:
            raise NotFound(
                f"{name} is in region {elsewhere}, not in {region}.",
                advice=f"Give --region {elsewhere}, or leave it out.",
            )
    if not found:
        raise NotFound(f"There is no machine {name!r}.", advice="`bathotype machines list` shows them all.")
    if len(found) > 1:
        places = ", ".join(f"{m.id} in {m.region}" for m in found)
        raise Refused(f"Several machines are named {name!r}: {places}.", advice="Name the machine by its id.")
    return found[0]


def _elsewhere(reach: Reach, account: str, name: str, region: str) -> str | None:
    try:
        return find_machine(reach, account, name, None).region
    except BathotypeError:
        return None


def inspect(
    reader: ConfinedReader,
    reach: Reach,
    account: str,
    machine: SiteMachine,
    *,
    mode: CaptureMode,
    profile: Profile | None,
    tags: dict[str, str],
    scratch_bytes: int,
    remarks: Remarks | None = None,
    power_off: bool = False,
    disks: Sequence[str] = ("boot",),
    prepared: bool = False,
) -> Preflight:
    """Look at everything that a capture depends on.  Changes nothing.

    ``remarks`` holds what was judged before; ``power_off`` says that it is shut down first; ``disks`` names those to take
    (`service.chosen`); ``prepared`` is somebody's word that the system's own tool has run.
    """
    result = Preflight(machine, mode, remarks or Remarks(), power_off=power_off)
    site = reach.site(machine.region, account)
    _power(result)
    _disks(result, reader, site, scratch_bytes, profile, disks)
    _agent(result, site)
    _limits(result, site, {**reach.account_tags(account), **tags})
    _store(result, reach)
    if profile is not None and mode != "as-is":
        if profile.own_tool is not None:
            _own_tool(result, reader, site, profile.own_tool, prepared)
        elif profile.runs_inside or not result.offline:
            _inside(result, site, profile)
    return result


def _own_tool(result: Preflight, reader: ConfinedReader, site: Site, tool: OwnTool, prepared: bool) -> None:
    """Whether the system's own tool has run, or can be run in a booted throwaway clone."""
    remarks = result.remarks
    if result.mode == "live":
        if not _can_run(result, site):
            remarks.forbid(
                "prepared", f"Its agent cannot run {tool.tool} in a throwaway clone.",
                f"{tool.instruction} Then capture it --stopped.",
            )  # fmt: skip
            return
        result.inside = True
        remarks.ok("prepared", f"{tool.tool} is run in a throwaway clone, not in the machine.")
        return
    if tool.marker is None:
        if prepared:
            result.tool_told = "as whoever captured it confirmed"
            remarks.ok("prepared", f"{tool.tool} has run, as you confirm.")
        else:
            remarks.forbid(
                "prepared", f"Nothing shows that {tool.tool} has run.", f"{tool.instruction} Then add --prepared."
            )
        return
    boot = result.machine.boot_disk
    line = None
    if boot is not None:
        try:
            with site.open_disk(boot.id) as raw:
                line = reader.ask(MARKER, MarkerQuestion(tool.marker), raw).line
        except BathotypeError as error:
            remarks.forbid("prepared", f"Its marker cannot be read: {error.message}", error.advice)
            return
    if line is None:
        why = f"{tool.tool} has not run: {tool.marker.path} does not say so."
        remarks.forbid("prepared", why, f"{tool.instruction} Then capture it --stopped.")
    else:
        result.tool_told = line
        remarks.ok("prepared", f"{tool.tool} has run: {tool.marker.path} says {line!r}.")


def _can_run(result: Preflight, site: Site) -> bool:
    try:
        with site.agent(result.machine.id, timeout=_AGENT_SECONDS) as agent:
            return {"guest-exec", "guest-exec-status"} <= agent.commands()
    except BathotypeError:
        return False


def _inside(result: Preflight, site: Site, profile: Profile) -> None:
    """Whether a booted throwaway clone can be generalized through its agent, where offline will not do."""
    why = (
        f"Profile {profile.name} has steps that run inside the machine"
        if profile.runs_inside
        else "The operating system is not on an ext4 file system, so it cannot be generalized offline"
    )
    lacks = f"{result.machine.name} is {result.machine.state}, so that its agent cannot be asked"
    if result.machine.state == "running":
        try:
            with site.agent(result.machine.id, timeout=_AGENT_SECONDS) as agent:
                found = agent.run(["/bin/sh", "-c", _CLONE_NEEDS], timeout=_PROGRAM_SECONDS)
            lacks = "its machine lacks tar, awk or xargs" if found.exit_code else ""
        except BathotypeError as error:
            lacks = f"its agent cannot run programs in a booted clone: {error.message.rstrip('.')}"
    if not lacks:
        result.inside = True
        result.remarks.ok("inside", f"{why}: a throwaway clone is booted and generalized through its agent.")
    else:
        result.remarks.forbid(
            "inside",
            f"{why}, and {lacks}.",
            "Start the machine with an agent that may run programs, or capture it with --as-is after preparing it with "
            "its system's own tool.",
        )


def _power(result: Preflight) -> None:
    state, mode, name = result.machine.state, result.mode, result.machine.name
    if mode == "live" and state != "running":
        result.remarks.forbid(
            "power", f"{name} is {state}; a live capture needs it running.", "Add --stopped, or start it first."
        )
    elif mode == "stopped" and state == "running" and result.power_off:
        result.remarks.ok("power", "It is running: its agent shuts it down first.")
    elif mode == "stopped" and state == "running":
        result.remarks.forbid(
            "power",
            f"{name} is running.",
            "Leave out --stopped: a live capture does not disturb it. Or add --power-off.",
        )
    elif mode == "as-is" and state == "running":
        result.remarks.ok("power", "It is running; its disk is frozen for a moment while it is copied.")
    else:
        result.remarks.ok("power", f"It is {state}.")


def _disks(
    result: Preflight,
    reader: ConfinedReader,
    site: Site,
    scratch_bytes: int,
    profile: Profile | None,
    wanted: Sequence[str],
) -> None:
    machine = result.machine
    try:
        result.disks = chosen_disks(machine, wanted)
    except Refused as error:
        result.remarks.forbid("boot-disk" if machine.boot_disk is None else "disks", error.message, error.advice)
        return
    boot, *others = result.disks
    result.remarks.ok("boot-disk", f"{boot.name} ({iec(boot.size)}) is captured.")
    for disk in machine.disks:
        if disk not in result.disks:
            _left_out(result, reader, site, disk)
    try:
        with ExitStack() as opened:
            parts = tuple(opened.enter_context(site.open_disk(disk.id)) for disk in result.disks)
            raw = Several(parts) if others else parts[0]
            found = look(reader, raw)
            needs = reader.ask(NEEDS, None, raw)
            held = reader.ask(HOLDS, None, raw) if others else ()
        result.layout = found.layout
        for number, disk in enumerate(others, 1):
            result.remarks.ok(
                "data-disk",
                f"{disk.name} ({iec(disk.size)}) is captured as {role_of(number)}: {_printable(held[number].text)}. "
                "Each instance gets a copy of it.",
            )
        _file_systems(result, result.layout)
        _needs(result, needs)
        if any(v.filesystem not in _ENCRYPTED for v in result.layout.volumes):
            result.used_bytes = found.used.total
            _root(result, found.has_root, profile)
    except BathotypeError as error:
        which = "disks" if others else "boot disk"
        result.remarks.forbid(
            "disk", f"The {which} cannot be read: {error.message}", error.advice or "Check the disk at the site."
        )
        return
    if result.used_bytes is not None and result.used_bytes > scratch_bytes:
        result.remarks.forbid(
            "scratch",
            f"It has {iec(result.used_bytes)} in use; the service may use {iec(scratch_bytes)} of scratch space.",
            "Raise BATHOTYPE_SCRATCH_BYTES on the workers, or free space in the machine.",
        )


def _left_out(result: Preflight, reader: ConfinedReader, site: Site, disk: SiteDisk) -> None:
    """A disk that is not captured, with what it holds: names alone do not show whether it is data or scratch space."""
    try:
        with site.open_disk(disk.id) as raw:
            about = _printable(reader.ask(HOLDS, None, raw)[0].text)
    except BathotypeError as error:
        about = f"it cannot be read: {error.message}"
    result.remarks.warn(
        "other-disks",
        f"Left out: {disk.name} ({iec(disk.size)}): {about}.",
        f"Its data is not carried. Where instances need it, capture it too: --disks boot,{disk.name}. "
        "To keep data that changes, back it up.",
    )


def _printable(text: str) -> str:
    """What a disk says of itself, without what a terminal would obey."""
    return "".join(c for c in text if c.isprintable())


def _needs(result: Preflight, needs: Platform) -> None:
    """What instances of it will need: said here, since other regions may not have it."""
    parts = [f"boots by {' or '.join(needs.boot)}"] if needs.boot else []
    parts += [f"is made for {needs.architecture}"] if needs.architecture else []
    parts += ["its UEFI loader is signed"] if needs.signed_loader else []
    parts += [f"drives disks by {', '.join(needs.disk_drivers)}"] if needs.disk_drivers else []
    parts += [f"network cards by {', '.join(needs.network_drivers)}"] if needs.network_drivers else []
    if parts:
        result.remarks.ok("needs", f"It {'; '.join(parts)}.")
    if needs.trusted_module:
        result.remarks.warn(
            "needs",
            "A secret of it is bound to this machine's trusted module (TPM); no other machine can open it.",
            "Remove that binding in the machine, or with a step of the profile.",
        )


def _file_systems(result: Preflight, layout: Layout) -> None:
    schemes = {"gpt": "GPT", "mbr": "MBR", "none": "no partition table"}
    kinds = ", ".join(f"{v.key}: {v.filesystem}" for v in layout.volumes)
    result.remarks.ok("partitions", f"{schemes[layout.scheme]}; {kinds}.")
    for note in layout.notes:
        result.remarks.warn(
            "partitions", f"The partition table is damaged but usable ({note}).", "Repair it on the machine."
        )
    for remark in layout.remarks:
        result.remarks.warn("partitions", remark)
    for volume in layout.volumes:
        if volume.filesystem in _ENCRYPTED:
            result.remarks.forbid(
                "encryption",
                f"{volume.title} is encrypted ({_ENCRYPTED[volume.filesystem]}): its copies would all open with "
                "one key, and nothing in it can be generalized or checked.",
                "Move the system to a disk that is not encrypted inside the machine; encrypt at the site instead.",
            )
        elif volume.read_alone and result.mode == "as-is":
            result.remarks.ok("file-system", volume.caution)
        elif volume.caution:
            advice = "" if volume.shown else "Its content must be accepted by name before a release."
            result.remarks.warn("file-system", volume.caution, advice)


def _root(result: Preflight, found: bool, profile: Profile | None) -> None:
    if found:
        result.remarks.ok(
            "file-system", "The operating system is on an ext4 file system that can be generalized offline."
        )
    elif result.mode == "as-is" or profile is None:
        if result.layout is not None and any(volume.shown for volume in result.layout.volumes):
            return  # it is scanned, as was said of the volume
        result.remarks.warn(
            "file-system", "No file system with an operating system can be read: its contents are not recorded."
        )
    else:
        result.offline = False


def _agent(result: Preflight, site: Site) -> None:
    machine = result.machine
    if machine.state != "running":
        return
    needed = result.mode in ("live", "as-is") or result.power_off
    commands = {"guest-shutdown"} if result.power_off else _NEEDED_COMMANDS
    try:
        with site.agent(machine.id, timeout=_AGENT_SECONDS) as agent:
            missing = commands - agent.commands()
            if missing and needed:
                result.remarks.forbid(
                    "agent",
                    f"The guest agent does not offer {', '.join(sorted(missing))}.",
                    "Allow these commands in the agent's settings, or shut the machine down and use --stopped.",
                )
            elif _stays_frozen(agent):
                result.remarks.forbid("agent", "The guest is already frozen, not by this service.", "Thaw it first.")
            else:
                system = agent.os_info().get("pretty-name", "an unnamed system")
                result.remarks.ok("agent", f"The guest agent answers ({system}) and can freeze.")
            _updates(result, agent)
    except BathotypeError as error:
        if needed:
            result.remarks.forbid(
                "agent",
                f"The guest agent does not answer: {error.message}",
                "Start the agent in the machine, or shut the machine down and use --stopped.",
            )
        else:
            result.remarks.warn("agent", "The guest agent does not answer.")


def _stays_frozen(agent: GuestAgent) -> bool:
    """Whether the guest is frozen, and not just for the moment that another capture takes."""
    deadline = time.monotonic() + _FREEZE_PASSES
    while agent.freeze_status() == "frozen":
        if time.monotonic() > deadline:
            return True
        time.sleep(0.2)
    return False


def _updates(result: Preflight, agent: GuestAgent) -> None:
    try:
        done = agent.run(["/usr/bin/apt-get", "-s", "-q", "upgrade"], timeout=20)
    except (AgentRefused, BathotypeError):
        return  # a guest that cannot say
    waiting = [line.split()[1] for line in done.out.decode("utf-8", "replace").splitlines() if line.startswith("Inst ")]
    if waiting:
        some = ", ".join(waiting[:4]) + (", ..." if len(waiting) > 4 else "")
        result.remarks.warn(
            "updates", f"{plural(len(waiting), 'package update')} outstanding ({some}).", "Update the machine first."
        )
    elif done.exit_code == 0:
        result.remarks.ok("updates", "No package update is outstanding.")


def _limits(result: Preflight, site: Site, tags: dict[str, str]) -> None:
    limits = site.limits()
    for disk in result.disks:
        if disk.size > limits.largest_disk:
            result.remarks.forbid(
                "size",
                f"{disk.name} has {iec(disk.size)}; the site takes {iec(limits.largest_disk)} at most.",
                "Shrink the disk.",
            )
    used, most = limits.quotas.get("snapshots", (0, 1))
    if used + len(result.disks) > most:
        result.remarks.forbid(
            "quota", f"{used} of {most} snapshots are in use at the site.", "Delete snapshots or ask for more."
        )
    else:
        result.remarks.ok("quota", f"{used} of {most} snapshots are in use at the site.")
    missing = [tag for tag in limits.demanded_tags if not tags.get(tag)]
    if missing:
        result.remarks.forbid(
            "tags",
            f"The account's rules demand the tags {', '.join(missing)} on all that is created.",
            " ".join(f"Add --tag {tag}=VALUE." for tag in missing),
        )
    elif limits.demanded_tags:
        result.remarks.ok("tags", f"The demanded tags ({', '.join(limits.demanded_tags)}) are given.")


def _store(result: Preflight, reach: Reach) -> None:
    region = result.machine.region
    try:
        reach.store(region)
        result.remarks.ok("region", f"Machine and store are in {region}.")
    except BathotypeError as error:
        result.remarks.forbid("region", error.message, error.advice or "Check the region's store.")
