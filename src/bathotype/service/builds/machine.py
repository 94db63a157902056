"""The temporary machine of a run: its first boot, the secrets that it is given, and how long it lives."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, dataclass
from datetime import datetime, timedelta
from typing import Any

from bathotype.core.errors import BathotypeError, Damaged
from bathotype.core.firstboot.settings import FirstBoot
from bathotype.core.generalize.profile import AnswerFile
from bathotype.core.lifecycle.room import disks_of_instance, least_root
from bathotype.core.sheets.sheet import Sheet
from bathotype.core.units import iec
from bathotype.service.guests.power import shut_down
from bathotype.service.kinds.temporary import TemporaryMachine
from bathotype.service.operations.context import WorkContext
from bathotype.service.operations.kind import Memo
from bathotype.service.records.base import utcnow
from bathotype.service.vault import Vault
from bathotype.sites.protocol import Site


class Outlived(BathotypeError):
    """A temporary machine has lived for as long as its sheet lets it."""

    code = "outlived"


class MachineMemo(Memo):
    """``machine`` is the temporary machine; ``begun`` says that steps have changed it already.

    ``sealed`` are the secrets that it was given, encrypted: what is looked for afterwards are these values, whatever the
    account's secrets are by then.
    """

    machine: str = ""
    begun: bool = False
    lives_until: datetime | None = None
    sealed: dict[str, str] = {}
    first_boots: int = 0


@dataclass(frozen=True)
class RunMachine:
    """That of one run.  What becomes of it is noted in ``memo``, and kept by ``save``.

    ``base`` is the version that it boots from; empty for a copied disk.  ``answers`` is how its system takes first-boot
    settings, where that has a way of its own; ``base_disks`` are the disks of the base, and the bytes of the system's
    file system."""

    context: WorkContext
    sheet: Sheet
    temporary: TemporaryMachine
    base: str
    answers: AnswerFile | None
    base_disks: Callable[[], tuple[list[dict[str, Any]], int]]
    memo: MachineMemo
    save: Callable[[], None]

    @property
    def _site(self) -> Site:
        return self.context.site(self.temporary.region)

    @property
    def _seed_id(self) -> str:
        return f"{self.context.id}-{self.memo.first_boots}"

    def prepare(self) -> None:
        """A new machine from the base, until its first boot is finished."""
        memo, wants = self.memo, self.sheet.machine
        memo.machine, memo.begun = "", False
        memo.first_boots += 1
        self._take_secrets()
        settings = wants.first_boot if isinstance(wants.first_boot, FirstBoot) else FirstBoot()
        of_first_boot = {one.secret for one in settings.secrets}  # those of its steps are not the first boot's
        given = {name: value for name, value in self.secrets().items() if name in of_first_boot}
        machine = self.temporary.make(self._seed_id, settings, self.answers, given)
        memo.machine = machine.id
        if wants.lifetime_seconds is not None:
            memo.lives_until = utcnow() + timedelta(seconds=wants.lifetime_seconds)
        self.save()
        self.context.log(f"A temporary machine{f' of {self.base}' if self.base else ''} boots.")
        self.temporary.wait(machine.id, self._seed_id, named=self.answers is not None, check=self.go_on)
        self.context.log("Its first boot has finished.")
        self._must_have_grown(machine.id)

    def restart(self) -> None:
        """Shut it down, start it again, and wait until it is ready."""
        machine = self._site.machine(self.memo.machine)
        self.context.log("The machine restarts.")
        shut_down(self.context, self._site, machine.id)
        self._site.power(machine.id, "on")
        self.temporary.wait(machine.id, self._seed_id, check=self.go_on)

    def go_on(self) -> None:
        """Raises where the run was stopped, or the machine has lived for as long as it may."""
        self.context.check()
        until = self.memo.lives_until
        if until is not None and utcnow() > until:
            raise Outlived(
                f"The temporary machine has lived for {self.sheet.machine.lifetime_seconds} s, and may no longer.",
                advice="See which step took so long; or give it more `lifetime_seconds`.",
            )

    def secrets(self) -> dict[str, str]:
        """The values that it was given, by their names."""
        return Vault(self.context.settings).opened(self.memo.sealed)

    def _take_secrets(self) -> None:
        """The values as they are now."""
        context = self.context
        with context.session() as session:
            vault = Vault(context.settings)
            self.memo.sealed = vault.give(session, context.account_id, self.sheet.secrets, operation=context.id)
        self.save()

    def _must_have_grown(self, machine: str) -> None:
        """Its file system has the room that its disk has.  Raises `Damaged` where the system did not take it."""
        disks, root = self.base_disks()
        least = least_root([asdict(disk) for disk in disks_of_instance(disks, self.sheet.machine.room)], root)
        if not least:
            return
        with self._site.agent(machine) as agent:
            found = agent.mounted_bytes("/")
        if found is None or found < least:
            seen = "its agent does not report its size" if found is None else f"it has {iec(found)}"
            raise Damaged(
                f"The file system did not grow with the boot disk: {seen}.",
                advice="Install growpart and cloud-init's growpart and resizefs modules in the base, or leave boot_size out.",
                code="not-grown",
            )
        self.context.log(f"Its file system has grown to {iec(found)}.")
