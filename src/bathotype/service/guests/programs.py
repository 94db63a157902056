"""Programs in a running guest, by its agent: run with a deadline; and what they report of packages, files and
accounts."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager
from functools import cached_property

from bathotype.core.checks.check import listening
from bathotype.core.errors import Damaged
from bathotype.core.guest.agent import AgentRefused, AgentSilent, ExecResult, GuestAgent
from bathotype.core.sheets.packages import ENVIRONMENT, MANAGERS, Manager
from bathotype.sites.protocol import Site

_CALL_SECONDS = 60.0


class StepFailed(Damaged):
    """A step did not do what it should."""

    code = "step-failed"


_MOST_PAGE = 1_000_000
#: Asks for a page with what every Python has: prints its status in the last line.
_ASK_PYTHON = (
    "import sys, urllib.request, urllib.error\n"
    "try: answer = urllib.request.urlopen(sys.argv[1], timeout=10)\n"
    "except urllib.error.HTTPError as error: answer = error\n"
    "sys.stdout.write(answer.read(1000000).decode('utf-8', 'replace') + '\\n' + str(answer.status))\n"
)


class GuestPrograms:
    """A guest, for so many seconds.  ``check`` is called while a program runs, and may raise to stop."""

    def __init__(self, site: Site, machine: str, *, seconds: float, check: Callable[[], None] = lambda: None) -> None:
        self._site, self._machine, self._seconds, self._check = site, machine, seconds, check
        self._deadline = time.monotonic() + seconds

    def agent(self) -> AbstractContextManager[GuestAgent]:
        """A conversation with its agent."""
        return self._site.agent(self._machine, timeout=_CALL_SECONDS)

    def ask(self, argv: Sequence[str], *, environment: Mapping[str, str] | None = None) -> ExecResult:
        """Run a program and wait for its end, as long as the step may take."""
        left = self._deadline - time.monotonic()
        if left <= 0:
            raise StepFailed(f"It has not ended within {self._seconds:.0f} s.", advice="Give it more `seconds`.")
        given = {**ENVIRONMENT, **(environment or {})}
        with self.agent() as agent:
            try:
                return agent.run(argv, timeout=left, environment=given, check=lambda: self._meanwhile(agent))
            except AgentSilent as error:
                if time.monotonic() < self._deadline:
                    raise
                raise StepFailed(
                    f"{argv[0]} has not ended within {self._seconds:.0f} s.", advice="Give the step more `seconds`."
                ) from error

    @property
    def is_late(self) -> bool:
        """Whether its time is over."""
        return time.monotonic() >= self._deadline

    def _meanwhile(self, agent: GuestAgent) -> None:
        """Called again and again while a program runs."""
        self._check()

    def is_there(self, path: str) -> bool:
        """Whether something is at a path."""
        return self.ask(["test", "-e", path]).exit_code == 0

    def ports(self) -> set[int]:
        """TCP ports on which something listens."""
        found: set[int] = set()
        with self.agent() as agent:
            for table in ("/proc/net/tcp", "/proc/net/tcp6"):
                try:
                    found |= listening(agent.read_text(table))
                except AgentRefused:
                    continue  # a kernel without IPv6
        return found

    def served(self, url: str, wanted: int, holds: str) -> tuple[bool, str]:
        """Whether the machine itself is served a page with a status and a text, and what was seen."""
        asked = ["curl", "-sS", "-m", "10", "--max-filesize", str(_MOST_PAGE), "-w", "\n%{http_code}", url]
        result = self._try(asked) or self._try(["python3", "-c", _ASK_PYTHON, url])
        if result is None:
            return False, "The machine has neither curl nor python3 to ask for a page."
        text, _, status = result.out.decode("utf-8", "replace").rpartition("\n")
        if result.exit_code:
            return False, result.err.decode("utf-8", "replace") or "Nothing answers."
        return status.strip() == str(wanted) and holds in text, f"It answers {status.strip()}: {text[:300]}"

    def _try(self, argv: list[str]) -> ExecResult | None:
        """A program's result; None where there is no such program."""
        try:
            return self.ask(argv)
        except AgentRefused:
            return None

    @cached_property
    def manager(self) -> Manager:
        """Its package manager."""
        return self.find_manager()

    def find_manager(self) -> Manager:
        """Ask which package manager it has.  Raises `StepFailed` where it has none that is known."""
        for manager in MANAGERS:
            try:
                if self.ask(manager.probe).exit_code == 0:
                    return manager
            except AgentRefused:
                continue  # there is no such program
        known = ", ".join(manager.name for manager in MANAGERS)
        raise StepFailed(f"The machine has none of the package managers {known}.", advice="Install by a script.")

    def installed(self) -> dict[str, str]:
        """Versions of its packages by their names."""
        result = self.ask(self.manager.installed)
        if result.exit_code:
            raise StepFailed("The machine does not report which packages it has.")
        return self.manager.read_installed(result.out.decode("utf-8", "replace"))

    def outstanding(self) -> list[str]:
        """Names of packages for which an update is there."""
        result = self.ask(self.manager.outstanding)
        if result.exit_code not in self.manager.outstanding_codes:
            raise StepFailed("The package manager does not report which updates are outstanding.")
        return self.manager.read_outstanding(result.out.decode("utf-8", "replace"))

    def names(self, database: str) -> dict[str, list[str]]:
        """The rows of ``passwd`` or ``group`` by their names."""
        with self.agent() as agent:
            lines = agent.read_text(f"/etc/{database}").splitlines()
        return {line.split(":")[0]: line.split(":") for line in lines if ":" in line}
