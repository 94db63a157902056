"""Judging a running machine by checks, through its agent."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from typing import Any

from bathotype.core.checks import check as kinds
from bathotype.core.checks.report import Judgement
from bathotype.core.checks.versions import is_at_least
from bathotype.core.errors import BathotypeError
from bathotype.core.guest.answers import plain
from bathotype.core.units import iec
from bathotype.service.guests.programs import GuestPrograms
from bathotype.sites.protocol import Site

_PAUSE = 1.0
_MOST_EVIDENCE = 2000


#: Whether an instance's disk holds no residue, and what was seen.
Residue = Callable[[kinds.StaysClean], tuple[bool, str]]


def judge(
    site: Site, machine: str, check: kinds.Check, *, stop: Callable[[], None], residue: Residue,
    boot_seconds: float | None = None,
) -> Judgement:  # fmt: skip
    """Judge by one check: again and again until it passes, or its time is over.  Never raises for what a guest says.

    ``residue`` looks at the disk of a throwaway instance.
    """
    began = time.monotonic()
    while True:
        passed, evidence = _once(site, machine, check, boot_seconds, stop, residue)
        spent = time.monotonic() - began
        if passed or spent > check.within or isinstance(check, kinds.THROWAWAY):
            return Judgement(check.id, kinds.said(check), passed, round(spent, 2), plain_lines(evidence))
        stop()
        time.sleep(_PAUSE)


def plain_lines(text: str) -> str:
    """Evidence that can be kept and shown."""
    return "\n".join(plain(line) for line in text[:_MOST_EVIDENCE].splitlines())


def _once(
    site: Site, machine: str, check: kinds.Check, boot_seconds: float | None, stop: Callable[[], None],
    residue: Residue,
) -> tuple[bool, str]:  # fmt: skip
    guest = _Judged(site, machine, seconds=max(check.within, 10), check=stop)
    ways: Mapping[type, Callable[[Any], tuple[bool, str]]] = {
        kinds.PortAnswers: guest.port,
        kinds.PageAnswers: guest.page,
        kinds.ProgramEnds: guest.program,
        kinds.PackageIs: guest.package,
        kinds.ServiceIs: guest.service,
        kinds.FileIs: guest.file,
        kinds.UserIs: guest.user,
        kinds.NoUpdates: guest.updates,
        kinds.DiskUse: guest.disk,
        kinds.BootTime: lambda c: _booted(c, boot_seconds),
        kinds.StaysClean: lambda c: residue(c),
    }
    try:
        return ways[type(check)](check)
    except BathotypeError as error:
        return False, error.message


def _booted(check: kinds.BootTime, seconds: float | None) -> tuple[bool, str]:
    if seconds is None:
        return False, "How long a first boot took is known of throwaway instances only."
    return seconds <= check.at_most_seconds, f"It took {seconds:.1f} s."


class _Judged(GuestPrograms):
    """One look at a machine: whether it is so, and what was seen."""

    def port(self, check: kinds.PortAnswers) -> tuple[bool, str]:
        ports = self.ports()
        return check.port in ports, f"It listens on {', '.join(map(str, sorted(ports)[:50])) or 'no port'}."

    def page(self, check: kinds.PageAnswers) -> tuple[bool, str]:
        return self.served(check.url, check.status, check.text)

    def program(self, check: kinds.ProgramEnds) -> tuple[bool, str]:
        result = self.ask(check.argv)
        printed = (result.out + result.err).decode("utf-8", "replace")
        return (
            result.exit_code == check.exit_code and check.prints in printed,
            f"It ended with {result.exit_code} and printed: {printed[:1000]}",
        )

    def package(self, check: kinds.PackageIs) -> tuple[bool, str]:
        has = self.installed().get(check.package)
        if has is None:
            return check.absent, f"{check.package} is not installed."
        wrong = check.absent or (check.version is not None and has != check.version)
        wrong = wrong or (check.at_least is not None and not is_at_least(has, check.at_least))
        return not wrong, f"{check.package} {has} is installed."

    def service(self, check: kinds.ServiceIs) -> tuple[bool, str]:
        result = self.ask(["systemctl", "is-active", check.service])
        return (result.exit_code == 0) == check.running, result.out.decode("utf-8", "replace").strip()

    def file(self, check: kinds.FileIs) -> tuple[bool, str]:
        if not self.is_there(check.path):
            return check.absent, "It is not there."
        if check.absent:
            return False, "It is there."
        mode, owner, group = (
            self.ask(["stat", "-c", "%a %U %G", check.path]).out.decode("utf-8", "replace").split() + [""] * 3
        )[:3]
        wanted = (check.mode.lstrip("0") or "0" if check.mode else None, check.owner, check.group)
        seen = [f"mode {mode}, owner {owner}, group {group}"]
        right = all(want is None or want == has for want, has in zip(wanted, (mode, owner, group), strict=True))
        if check.sha256 is not None:
            digest = self.ask(["sha256sum", check.path]).out.decode("utf-8", "replace").lstrip("\\").split(" ")[0]
            right, seen = right and digest == check.sha256, [*seen, f"SHA-256 {digest}"]
        if check.contains is not None:
            with self.agent() as agent:
                text = agent.read_text(check.path)
            right = right and check.contains in text
            seen.append(f"it {'holds' if check.contains in text else 'does not hold'} the text")
        return right, ", ".join(seen)

    def user(self, check: kinds.UserIs) -> tuple[bool, str]:
        there = check.user in self.names("passwd")
        return there != check.absent, "It is there." if there else "It is not there."

    def updates(self, check: kinds.NoUpdates) -> tuple[bool, str]:
        refreshed = self.ask(self.manager.refresh)
        if refreshed.exit_code:
            return False, refreshed.err.decode("utf-8", "replace") or "The repositories do not answer."
        left = self.outstanding()
        return not left, f"Outstanding: {', '.join(left[:50]) or 'none'}."

    def disk(self, check: kinds.DiskUse) -> tuple[bool, str]:
        with self.agent() as agent:
            found = agent.mounted_use(check.mounted_at)
        if found is None:
            return False, f"The agent does not report how full {check.mounted_at} is."
        used, total = found
        percent = 100 * used / max(total, 1)
        return percent <= check.at_most_percent, f"{percent:.1f} % of {iec(total)} are used."
