"""Programs in a running guest, by its agent: asked with a deadline, and what they tell of packages, files and accounts."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager
from functools import cached_property

from bathotype.core.errors import Damaged
from bathotype.core.guest.agent import AgentRefused, AgentSilent, ExecResult, GuestAgent
from bathotype.core.sheets.packages import ENVIRONMENT, MANAGERS, Manager
from bathotype.sites.protocol import Site

_CALL_SECONDS = 60.0


class StepFailed(Damaged):
    """A step did not do what it should."""

    code = "step-failed"


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

    def _meanwhile(self, agent: GuestAgent) -> None:
        """Called again and again while a program runs."""
        self._check()

    def is_there(self, path: str) -> bool:
        """Whether something is at a path."""
        return self.ask(["test", "-e", path]).exit_code == 0

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
            raise StepFailed("The machine does not tell which packages it has.")
        return self.manager.read_installed(result.out.decode("utf-8", "replace"))

    def outstanding(self) -> list[str]:
        """Names of packages for which an update is there."""
        result = self.ask(self.manager.outstanding)
        if result.exit_code not in self.manager.outstanding_codes:
            raise StepFailed("The package manager does not tell which updates are outstanding.")
        return self.manager.read_outstanding(result.out.decode("utf-8", "replace"))

    def names(self, database: str) -> dict[str, list[str]]:
        """The rows of ``passwd`` or ``group`` by their names."""
        with self.agent() as agent:
            lines = agent.read_text(f"/etc/{database}").splitlines()
        return {line.split(":")[0]: line.split(":") for line in lines if ":" in line}
