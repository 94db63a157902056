"""The steps of a build sheet in a running machine, through its agent.  Each step sees to its own effect afterwards."""

from __future__ import annotations

import hashlib
import posixpath
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

from bathotype.core.disk.source import ByteSource
from bathotype.core.errors import Unavailable
from bathotype.core.guest.agent import AgentRefused, ExecResult, GuestAgent
from bathotype.core.guest.answers import plain
from bathotype.core.sheets import steps as kinds
from bathotype.core.sheets.cleaning import cleaning_of
from bathotype.core.sheets.packages import Manager, Wanted, changed_packages, unmet_packages
from bathotype.core.sheets.secrecy import Mask
from bathotype.core.units import iec, plural
from bathotype.service.guests.power import wait_until_off
from bathotype.service.guests.programs import GuestPrograms, StepFailed
from bathotype.service.guests.sampling import Sampler
from bathotype.sites.protocol import Site

#: Where a run keeps what it needs in the machine: memory, so that nothing of it is captured.
_FOLDER = "/run/bathotype"
_PIECE = 1024 * 1024
_CALL_SECONDS = 60.0
_PAUSE = 1.0
#: Of the output of one program, lines in the log; of a step's, characters that are kept.
_LOGGED, _KEPT, _LONGEST = 40, 16_000, 400
_MOST_CHANGES, _MOST_REASON = 2000, 2000
#: States of unit files for which `systemctl is-enabled` says yes.
_ENABLED = ("enabled", "enabled-runtime", "static", "alias", "indirect")
#: Bytes of files that are not left in the machine's memory.
_LARGE = 16 * 1024 * 1024
#: Gives a file to its owner, and prints what it is then: one program to start instead of four.
_SETTLE = """\
set -e
chown "$BATHOTYPE_OWNER" "$BATHOTYPE_PATH"
chmod "$BATHOTYPE_MODE" "$BATHOTYPE_PATH"
stat -c "%a %U %G" "$BATHOTYPE_PATH"
sha256sum "$BATHOTYPE_PATH"
"""


@dataclass
class Done:
    """What came of a step: what it changed, a line each, and the end of what its programs printed."""

    changed: list[str] = field(default_factory=list)
    output: str = ""
    #: Bytes that each kind of clean-up gave back, and those in use before and after all of them.
    cleaned: dict[str, int] = field(default_factory=dict)
    used: tuple[int, int] | None = None


@dataclass
class BuildMachine:
    """The machine, and what the steps need around it.

    ``secrets`` are values by their names: they reach programs as environment variables, and are hidden in all output.
    ``payload`` opens a file by its name, and says which SHA-256 it has; ``restart`` shuts the machine down, starts it
    and waits until it is ready."""

    site: Site
    machine: str
    payload: Callable[[str], tuple[ByteSource, str]]
    secrets: Mapping[str, str]
    restart: Callable[[], None]
    log: Callable[[str], None]
    check: Callable[[], None]
    sampler: Sampler = field(default_factory=Sampler)
    #: The machine's package manager, once a step has asked for it.
    manager: Manager | None = None

    def do(self, step: kinds.Step) -> Done:
        """Do a step.  Raises `StepFailed` where it fails, or where its effect is not there afterwards."""
        work = _Work(self, step)
        doers: Mapping[type, Callable[[Any], None]] = {
            kinds.InstallPackages: work.install,
            kinds.RemovePackages: work.remove,
            kinds.UpdatePackages: work.update,
            kinds.CleanDisk: work.clean,
            kinds.PutFile: work.put,
            kinds.Unpack: work.unpack,
            kinds.RunScript: work.script,
            kinds.RunProgram: work.program,
            kinds.SetService: work.service,
            kinds.AddGroup: work.group,
            kinds.AddUser: work.user,
            kinds.Restart: lambda _: self.restart(),
            kinds.WaitFor: work.wait,
            kinds.PrepareSystem: work.prepare,
        }
        try:
            if not self.sampler.has_just_looked:
                self._look()
            doers[type(step)](step)
            if not isinstance(step, kinds.PrepareSystem):
                self._look()
        except AgentRefused as error:
            raise StepFailed(self._shown(error.message), advice="See what the machine lacks for it.") from error
        except StepFailed as error:  # it may hold the guest's words
            raise StepFailed(self._shown(error.message), advice=error.advice) from error
        changed = [plain(self.mask.hide(line))[:_LONGEST] for line in work.done.changed[:_MOST_CHANGES]]
        return replace(work.done, changed=changed, output=work.done.output[-_KEPT:])

    def _look(self) -> None:
        """Where the agent is silent now, a step will say so."""
        with suppress(Unavailable), self.site.agent(self.machine, timeout=_CALL_SECONDS) as agent:
            self.sampler.look(agent)

    @cached_property
    def mask(self) -> Mask:
        """Hides the secrets."""
        return Mask(self.secrets.values())

    def _shown(self, text: str) -> str:
        return plain(self.mask.hide(text))[:_MOST_REASON]


class _Work(GuestPrograms):
    """One step while it is done."""

    def __init__(self, around: BuildMachine, step: kinds.Step) -> None:
        super().__init__(around.site, around.machine, seconds=step.seconds, check=around.check)
        self._around, self._step, self.done = around, step, Done()

    def _meanwhile(self, agent: GuestAgent) -> None:
        super()._meanwhile(agent)
        self._around.sampler.look_in_time(agent)

    @cached_property
    def manager(self) -> Manager:
        """The machine's package manager, which is asked for once a run."""
        if self._around.manager is None:
            self._around.manager = self.find_manager()
        return self._around.manager

    # Programs

    def _run(
        self, argv: Sequence[str], *, codes: Sequence[int] = (0,), environment: Mapping[str, str] | None = None
    ) -> ExecResult:
        """The same, with what it prints in the log.  Raises `StepFailed` for another exit code."""
        result = self.ask(argv, environment=environment)
        self._tell(result)
        if result.exit_code not in codes:
            said = self._around.mask.hide((result.err or result.out).decode("utf-8", "replace")).strip().splitlines()
            raise StepFailed(
                f"{argv[0]} ended with exit code {result.exit_code}"
                + (f": {plain(said[-1])[:300].rstrip('.')}." if said else "."),
                advice="The operation's log has its output.",
            )
        return result

    def _tell(self, result: ExecResult) -> None:
        text = self._around.mask.hide((result.out + result.err).decode("utf-8", "replace"))
        lines = [
            plain(line.replace("\t", "    "))[:_LONGEST] for line in text[-1_000_000:].splitlines() if line.strip()
        ]
        if len(lines) > _LOGGED:
            self._around.log(f"{self._step.id} | ... {plural(len(lines) - _LOGGED, 'line')} before these")
        for line in lines[-_LOGGED:]:
            self._around.log(f"{self._step.id} | {line}")
        self.done.output = (self.done.output + "\n".join(lines[-1000:]) + "\n")[-_KEPT:] if lines else self.done.output

    def _need(self, paths: Sequence[str]) -> None:
        missing = [path for path in paths if not self.is_there(path)]
        if missing:
            raise StepFailed(
                f"It ended well, and {', '.join(missing)} is not there.", advice="See what it does instead."
            )

    # Packages

    def _note_packages(self, before: Mapping[str, str]) -> dict[str, str]:
        after = self.installed()
        self.done.changed += changed_packages(before, after)
        return after

    def install(self, step: kinds.InstallPackages) -> None:
        manager, before = self.manager, self.installed()
        wanted = [Wanted.of(text) for text in step.packages]
        if wanted:
            self._run(manager.refresh)
            self._run([*manager.install, *manager.named(wanted)])
        if step.files:
            places = [
                self._bring(name, f"{_FOLDER}/payload/{posixpath.basename(name)}{_ending(manager)}")
                for name in step.files
            ]
            if manager.about_file:
                about = self.ask([*manager.about_file, *places])
                if about.exit_code:
                    raise StepFailed("A file of the payload is no package of this machine's kind.")
                named = manager.read_installed(about.out.decode("utf-8", "replace"))
                wanted += [Wanted(name, version) for name, version in named.items()]
            self._run([*manager.install_files, *places])
            self._drop(step.files, places)
        missing = unmet_packages(wanted, self._note_packages(before))
        if missing:
            raise StepFailed(f"The package manager ended well, but: {' '.join(missing)}", advice="See its output.")

    def remove(self, step: kinds.RemovePackages) -> None:
        before = self.installed()
        names = [Wanted.of(text).name for text in step.packages]
        there = [name for name in names if name in before]
        if there:
            self._run([*self.manager.remove, *there])
        left = [name for name in names if name in self._note_packages(before)]
        if left:
            raise StepFailed(f"{', '.join(left)} is still installed.", advice="See the package manager's output.")

    def update(self, step: kinds.UpdatePackages) -> None:
        manager = self.manager
        for number in range(1, step.rounds + 1):
            self._run(manager.refresh)
            outstanding = self.outstanding()
            if not outstanding:
                self._around.log(f"{step.id} | No update is outstanding after {plural(number - 1, 'round')}.")
                return
            before = self.installed()
            self._run(manager.update)
            changed = changed_packages(before, self.installed())
            self.done.changed += [f"round {number}: {line}" for line in changed]
            if not changed:
                raise StepFailed(
                    f"{plural(len(outstanding), 'update')} stay outstanding: {', '.join(outstanding[:5])}.",
                    advice="See whether the machine holds them back.",
                )
            if self.is_there("/run/reboot-required") or self.is_there("/var/run/reboot-required"):
                self._around.restart()
        if left := self.outstanding():
            raise StepFailed(
                f"{plural(len(left), 'update')} are outstanding after {plural(step.rounds, 'round')}.",
                advice="Give more `rounds`.",
            )

    # Cleaning

    def clean(self, step: kinds.CleanDisk) -> None:
        before = self._used()
        now = before
        for kind in dict.fromkeys(step.what):
            cleaning = cleaning_of(kind, self.manager)
            for command in cleaning.commands:
                self._run(command)
            folders = [path for path in cleaning.folders if self.is_there(path)]
            if folders:
                self._run(cleaning.remove(folders))
                if left := self._run(cleaning.left(folders)).out.strip():
                    raise StepFailed(f"{kind}: {plain(left.decode('utf-8', 'replace'))[:300]} is still there.")
            then, now = now, self._used()
            self.done.cleaned[kind] = max(then - now, 0)
            self.done.changed.append(f"{kind}: {iec(self.done.cleaned[kind])} given back")
        self.done.used = before, now

    def _used(self) -> int:
        """Bytes in use of the system's file system, once everything is written."""
        self.ask(["sync"])
        with self.agent() as agent:
            found = agent.mounted_use("/")
        if found is None:
            raise StepFailed(
                "The agent does not report how full the disk is.", advice="Update qemu-guest-agent (3.0 or newer)."
            )
        return found[0]

    # Files

    def _pieces(self, source: ByteSource, sums: Any) -> Iterator[bytes]:
        for at in range(0, source.size, _PIECE):
            self._around.check()
            piece = source.read(at, min(_PIECE, source.size - at))
            sums.update(piece)
            yield piece

    def _bring(self, name: str, path: str) -> str:
        """A file of the payload into the machine, compared there with what it was here."""
        self._compare(path, self._send(name, path))
        return path

    def _send(self, name: str, path: str) -> str:
        """A file of the payload into the machine; returns its SHA-256, which is that of the lock."""
        (source, sha256), sums = self._around.payload(name), hashlib.sha256()

        def pieces() -> Iterator[bytes]:
            nonlocal sums
            sums = hashlib.sha256()  # it may be begun a second time
            return self._pieces(source, sums)

        self._write(path, pieces)
        if sums.hexdigest() != sha256:
            raise StepFailed(f"{name} of the payload was changed meanwhile.", advice="Lock it anew, and run again.")
        return sha256

    def _write(self, path: str, pieces: Callable[[], Iterator[bytes]]) -> None:
        """Write a file; its folder is made where it is missing.  Every program takes its time to start in a guest."""
        try:
            with self.agent() as agent:
                agent.write_pieces(path, pieces())
        except AgentRefused:
            self._run(["mkdir", "-p", posixpath.dirname(path)])
            with self.agent() as agent:
                agent.write_pieces(path, pieces())

    def _drop(self, names: Sequence[str], paths: Sequence[str]) -> None:
        """Remove large files of the payload from the machine's memory; the others go with it."""
        if sum(self._around.payload(name)[0].size for name in names) > _LARGE:
            self.ask(["rm", "-f", *paths])

    def _compare(self, path: str, sha256: str) -> None:
        result = self.ask(["sha256sum", path])
        if result.out.decode("utf-8", "replace").lstrip("\\").split(" ")[0] != sha256:
            raise StepFailed(f"{path} does not hold what was put there.", advice="See whether the disk is full.")

    def put(self, step: kinds.PutFile) -> None:
        if step.payload is not None:
            sha256 = self._send(step.payload, step.to)
        else:
            data = (step.content or "").encode()
            self._write(step.to, lambda: iter([data]))
            sha256 = hashlib.sha256(data).hexdigest()
        wanted = {
            "BATHOTYPE_PATH": step.to,
            "BATHOTYPE_OWNER": f"{step.owner}:{step.group}",
            "BATHOTYPE_MODE": step.mode,
        }
        result = self.ask(["/bin/sh", "-c", _SETTLE], environment=wanted)
        if result.exit_code:
            said = (result.err or result.out).decode("utf-8", "replace").strip().splitlines()
            why = plain(said[-1])[:300].rstrip(".") if said else f"exit code {result.exit_code}"
            raise StepFailed(f"{step.to} cannot be given to {step.owner}:{step.group}: {why}.")
        facts, digest = [*result.out.decode("utf-8", "replace").splitlines(), "", ""][:2]
        if digest.lstrip("\\").split(" ")[0] != sha256:
            raise StepFailed(f"{step.to} does not hold what was put there.", advice="See whether the disk is full.")
        if facts.split() != [step.mode.lstrip("0") or "0", step.owner, step.group]:
            raise StepFailed(f"{step.to} is {facts} and not {step.mode} {step.owner} {step.group}.")
        self.done.changed.append(step.to)

    def unpack(self, step: kinds.Unpack) -> None:
        archive = self._bring(step.payload, f"{_FOLDER}/payload/{posixpath.basename(step.payload)}")
        self._run(["mkdir", "-p", step.to])
        self._run(["tar", "-x", "-f", archive, "-C", step.to])
        self._run(["tar", "-d", "-f", archive, "-C", step.to])  # compares what is there with the archive
        listed = self.ask(["tar", "-t", "-f", archive]).out.decode("utf-8", "replace").splitlines()
        self._drop([step.payload], [archive])
        self.done.changed += [f"{step.to}/{plain(name)}" for name in listed]

    # Scripts and programs

    def script(self, step: kinds.RunScript) -> None:
        path = f"{_FOLDER}/{step.id}"
        self._write(path, lambda: iter([step.script.encode()]))
        self._run([step.interpreter, path], codes=step.exit_codes, environment=self._environment(step))
        self._need(step.makes)

    def program(self, step: kinds.RunProgram) -> None:
        self._run(step.argv, codes=step.exit_codes, environment=self._environment(step))
        self._need(step.makes)

    def _environment(self, step: kinds.RunScript | kinds.RunProgram) -> dict[str, str]:
        return {**step.environment, **{name: self._around.secrets[secret] for name, secret in step.secrets.items()}}

    def wait(self, step: kinds.WaitFor) -> None:
        seen = ""
        while not self.is_late:
            try:
                so, seen = self._is_so(step)
            except StepFailed:
                if self.is_late and seen:
                    break  # what was seen before says more than that this look came too late
                raise
            if so:
                return
            self._around.check()
            time.sleep(_PAUSE)
        raise StepFailed(f"It was waited for {step.seconds} s. {seen}", advice="Give it more `seconds`.")

    def _is_so(self, step: kinds.WaitFor) -> tuple[bool, str]:
        """Whether what is waited for is so, and what is seen otherwise."""
        if step.port is not None:
            return step.port in self.ports(), f"Nothing listens on port {step.port}."
        if step.url is not None:
            return self.served(step.url, step.status, step.text)
        if step.file is not None:
            return self.is_there(step.file), f"{step.file} is not there."
        result = self.ask(step.argv)
        return result.exit_code == 0, f"{step.argv[0]} ends with exit code {result.exit_code}."

    def prepare(self, step: kinds.PrepareSystem) -> None:
        with suppress(Unavailable):  # it may shut down before the agent has reported how it ended
            self._run(step.argv)
        if not wait_until_off(self._around.site, self._around.machine, step.seconds, check=self._around.check):
            raise StepFailed(f"{step.tool} has not shut the machine down.", advice="See what it waits for.")
        self.done.changed.append(f"{step.tool} has prepared the system, and shut it down")

    # Services and accounts

    def service(self, step: kinds.SetService) -> None:
        at_once = step.state is not None and (step.enabled, step.state) in ((True, "running"), (False, "stopped"))
        if step.enabled is not None:
            verb = "enable" if step.enabled else "disable"
            self._run(["systemctl", verb, *(["--now"] if at_once else []), step.service])
        if step.state is not None and not at_once:
            verb = {"running": "start", "stopped": "stop", "restarted": "restart"}[step.state]
            self._run(["systemctl", verb, step.service])
        enabled, active = self._service(step.service)
        if step.enabled is not None:
            if enabled != step.enabled:
                raise StepFailed(f"{step.service} is {'still' if enabled else 'not'} enabled.")
            self.done.changed.append(f"{step.service} {'enabled' if step.enabled else 'disabled'}")
        if step.state is not None:
            if active != (step.state != "stopped"):
                raise StepFailed(f"{step.service} is {'still' if active else 'not'} running.")
            self.done.changed.append(f"{step.service} {step.state}")

    def _service(self, name: str) -> tuple[bool, bool]:
        """Whether a service is enabled, and whether it runs: both from one program, as each takes its time to start."""
        told = self.ask(["systemctl", "show", "--property=UnitFileState", "--property=ActiveState", name])
        facts = dict(line.split("=", 1) for line in told.out.decode("utf-8", "replace").splitlines() if "=" in line)
        state = facts.get("UnitFileState", "")
        # Scripts of System V have no state of a unit file of their own.
        asked = state in ("", "generated")
        enabled = self.ask(["systemctl", "is-enabled", name]).exit_code == 0 if asked else state in _ENABLED
        return enabled, facts.get("ActiveState") in ("active", "reloading")

    def group(self, step: kinds.AddGroup) -> None:
        if step.group in self.names("group"):
            return
        self._run(["groupadd", *(["--system"] if step.system else []), step.group])
        if step.group not in self.names("group"):
            raise StepFailed(f"There is no group {step.group} afterwards.")
        self.done.changed.append(f"group {step.group}")

    def user(self, step: kinds.AddUser) -> None:
        groups = self.names("group")
        if missing := [name for name in step.groups if name not in groups]:
            raise StepFailed(f"There is no group {', '.join(missing)}.", advice="Add it by a step before.")
        if step.user not in self.names("passwd"):
            kind = ["--system"] if step.system else ["--create-home"]
            self._run(["useradd", *kind, "--shell", step.shell, step.user])
            self.done.changed.append(f"user {step.user}")
        for name in step.groups:
            self._run(["usermod", "-a", "-G", name, step.user])
        if step.user not in self.names("passwd"):
            raise StepFailed(f"There is no user {step.user} afterwards.")
        groups = self.names("group")
        if left := [name for name in step.groups if step.user not in (groups[name] + [""])[3].split(",")]:
            raise StepFailed(f"{step.user} is not in {', '.join(left)}.")


def _ending(manager: Manager) -> str:
    return {"apt": ".deb", "dnf": ".rpm", "apk": ".apk"}[manager.name]
