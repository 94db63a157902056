"""A build run: a temporary machine from the base, the sheet's steps in it, and a version of what came of it.

A run of which any step failed makes no version.  Steps change a machine in ways that cannot be taken back: where a worker
died or the agent was lost among them, the machine is thrown away and they begin again in a new one.
"""

from __future__ import annotations

import hashlib
import time
from dataclasses import asdict
from datetime import datetime, timedelta
from functools import cached_property
from typing import Any

from pydantic import BaseModel
from sqlalchemy import update
from sqlalchemy.orm import Session

from bathotype.core.disk.source import ByteSource
from bathotype.core.errors import BathotypeError, Damaged, Refused, Unavailable
from bathotype.core.firstboot.settings import FirstBoot
from bathotype.core.lifecycle.room import disks_of_instance, least_root
from bathotype.core.lifecycle.states import VersionState
from bathotype.core.sheets.lock import Locked
from bathotype.core.sheets.reading import Checked, read_sheet
from bathotype.core.sheets.sheet import Sheet, repeated
from bathotype.core.sheets.steps import Scalar
from bathotype.core.sheets.steps import Step as SheetStep
from bathotype.core.units import iec
from bathotype.service import lifecycle
from bathotype.service.guests.building import BuildMachine
from bathotype.service.guests.clone import InsideClone
from bathotype.service.guests.power import shut_down
from bathotype.service.guests.sampling import Sampler
from bathotype.service.identities import read_identity
from bathotype.service.kinds.basedisks import BaseDisks
from bathotype.service.kinds.bucketexport import (
    Sent,
    address_of,
    bucket_object,
    record_export,
    refuse_taken,
    send_version,
)
from bathotype.service.kinds.capture import CaptureKind, CaptureMemo, CaptureParams
from bathotype.service.kinds.generalizing import need_tools
from bathotype.service.kinds.making import MakingKind
from bathotype.service.kinds.proving import (
    CHECKS,
    begin_checks,
    judge_all,
    need_all,
    record_judgements,
    start_throwaway,
    throwaway,
)
from bathotype.service.kinds.snapshots import remove_tagged
from bathotype.service.kinds.temporary import TemporaryMachine
from bathotype.service.operations.kind import Step
from bathotype.service.operations.start import unattended_principal
from bathotype.service.records import BuildRun, CheckRun, Line, Upload, Version
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.shares import still_granted
from bathotype.service.uploads import discard
from bathotype.service.vault import Vault
from bathotype.sites.protocol import Site, SiteMachine

_PIECE = 1024 * 1024


def unbegun(sheet: Sheet) -> list[dict[str, Any]]:
    """The steps of a sheet before any is begun, as a run's record has them."""
    return [{"id": s.id, "do": s.do, "why": s.why, "state": "pending"} for s in sheet.steps]


class PayloadSource(Locked):
    """A file of the payload: what it must be, and the upload that it comes from."""

    upload: str
    part_bytes: int
    region: str = ""


class BuildParams(CaptureParams):
    """The sheet and what is put into it, the base, and the version to make."""

    machine_id: str = ""
    base_id: str
    base: str
    base_digest: str
    sheet: str
    sheet_digest: str
    repository: str = ""
    commit: str = ""
    #: The version that this run makes again.
    repeats: str = ""
    machine_size: str
    boot_bytes: int | None = None
    values: dict[str, Scalar] = {}
    payload: dict[str, PayloadSource] = {}
    keep_seconds: int = 0


class KeptUntil(BaseModel):
    """A machine that stays after its run has failed."""

    name: str
    address: str
    until: datetime


class BuildMemo(CaptureMemo):
    """``machine`` is the temporary machine; ``begun`` says that steps have changed it already.

    ``sealed`` are the secrets that it was given, encrypted: what is looked for afterwards are these values, whatever the
    account's secrets are by then.
    """

    machine: str = ""
    begun: bool = False
    sealed: dict[str, str] = {}
    first_boots: int = 0
    delivered: list[str] = []
    #: Why what was to be released stays staged.
    held_back: str = ""
    #: Files that were sent to buckets, and the places in the sheet's list of those that began to be.
    exports: list[dict[str, Any]] = []
    claimed: list[int] = []
    kept: KeptUntil | None = None


class Build(CaptureKind[BuildParams, BuildMemo]):
    """The whole way from a sheet to a staged or released version."""

    name = "build"
    params_type, memo_type = BuildParams, BuildMemo
    steps = (
        Step("prechecks", "Check the base and the payload"),
        Step("base_disk", "Write and verify the base disk", 3),
        Step("prepare", "Start the temporary machine", 3),
        Step("build", "Do the steps of the sheet", 8),
        Step("check", "Check what will be captured"),
        Step("power_off", "Shut the machine down"),
        Step("snapshot", "Take its disks"),
        Step("inside", "Generalize inside a throwaway clone", 3),
        Step("copy", "Copy the used blocks", 6, restart_from="copy"),
        Step("generalize", "Generalize the copy", 3, restart_from="copy"),
        Step("store", "Store new chunks", 6, restart_from="copy"),
        Step("scan", "Look for residue and take stock", 3),
        Step("seal", "Seal the version"),
        Step("prove", "Judge a throwaway instance of it", 4),
        Step("deliver", "Release it and move marks"),
        Step("export", "Write files of it to buckets", 3),
    )

    @property
    def machine_id(self) -> str:
        return self.memo.machine

    @cached_property
    def _checked(self) -> Checked:
        return read_sheet(self.params.sheet, self.params.values)

    @cached_property
    def _sheet(self) -> Sheet:
        sheet = self._checked.need()
        return repeated(sheet, self.params.base) if self.params.repeats else sheet

    @cached_property
    def _temporary(self) -> TemporaryMachine:
        wants, params = self._sheet.machine, self.params
        return TemporaryMachine(
            self.context, BaseDisks(self.context, params.base_id, params.region), params.region,
            f"build-{self.context.id}", params.machine_size, wants.zone, wants.isolated, params.tags, wants.ready_seconds,
            params.boot_bytes,
        )  # fmt: skip

    @cached_property
    def _throwaway(self) -> TemporaryMachine:
        wants, params = self._sheet.machine, self.params
        return throwaway(
            self.context, params.version_id, params.region, params.machine_size, self._sheet.checks, tags=params.tags,
            ready_seconds=wants.ready_seconds,
        )  # fmt: skip

    # Before a machine is made

    def prechecks(self) -> None:
        """The base may still be used, and every file of the payload is what the lock says."""
        context, params = self.context, self.params
        need_tools()
        with context.session() as session:
            still_granted(session, context.account_id, params.base_id, params.region)
            base = session.get_one(Version, params.base_id)
            if base.state in ("retired", "purged"):
                raise Refused(f"{params.base} is {base.state} now: nothing can be built from it.", code="state-forbids")
        for name, source in self._payload().items():
            wanted, sums = params.payload[name], hashlib.sha256()
            for at in range(0, source.size, _PIECE):
                sums.update(source.read(at, min(_PIECE, source.size - at)))
            if sums.hexdigest() != wanted.sha256:
                raise Damaged(
                    f"{name} of the payload is not what the lock says.",
                    advice="Start the run again from the files that the lock was made of, or lock them anew.",
                    code="payload-differs",
                )
            context.log(f"{name}: {iec(source.size)}, as locked.")
        context.reader.start()

    def _payload(self) -> dict[str, ByteSource]:
        return {
            name: self.context.store(self._region_of(about)).open_upload(about.upload, about.bytes, about.part_bytes)
            for name, about in self.params.payload.items()
        }

    def base_disk(self) -> bool | None:
        """Make sure that the site has a verified base disk."""
        return self._temporary.ensure_base()

    # The machine

    @property
    def _seed_id(self) -> str:
        return f"{self.context.id}-{self.memo.first_boots}"

    def prepare(self) -> None:
        """A new machine from the base, until its first boot is finished."""
        self.memo.machine, self.memo.begun = "", False
        self.memo.first_boots += 1
        self.save()
        machine = self._temporary.make(self._seed_id, FirstBoot())
        self.memo.machine = machine.id
        self.save()
        self.context.log(f"A temporary machine of {self.params.base} boots.")
        self._temporary.wait(machine.id, self._seed_id)
        self.context.log("Its first boot has finished.")
        self._must_have_grown(machine.id)

    def _must_have_grown(self, machine: str) -> None:
        """Its file system has the room that its disk has.  Raises `Damaged` where the system did not take it."""
        with self.context.session() as session:
            base = session.get_one(Version, self.params.base_id)
            disks = disks_of_instance(base.disks, self._sheet.machine.room)
            least = least_root([asdict(disk) for disk in disks], int(base.contents.get("root_bytes") or 0))
        if not least:
            return
        with self.site.agent(machine) as agent:
            found = agent.mounted_bytes("/")
        if found is None or found < least:
            seen = "its agent does not tell its size" if found is None else f"it has {iec(found)}"
            raise Damaged(
                f"The file system did not grow with the boot disk: {seen}.",
                advice="Install growpart and cloud-init's growpart and resizefs modules in the base, or leave boot_size out.",
                code="not-grown",
            )
        self.context.log(f"Its file system has grown to {iec(found)}.")

    def _restart(self) -> None:
        machine = self.machine
        self.context.log("The machine restarts.")
        shut_down(self.context, self.site, machine.id)
        self.site.power(machine.id, "on")
        self._temporary.wait(machine.id, self._seed_id)

    def build(self) -> None:
        """The steps of the sheet, in order; what is noted of each can be read while the run goes on."""
        sheet, context = self._sheet, self.context
        if self.memo.begun:
            context.log("The steps were interrupted: they begin again in a new machine.", "warning")
            self.prepare()
        self.memo.begun = True
        with context.session() as session:
            self.memo.sealed = self._vault.give(session, context.account_id, sheet.secrets, operation=context.id)
        self.save()
        noted = unbegun(sheet)
        self._sampler = Sampler()
        self._note(noted)
        around = BuildMachine(
            self.site, self.machine_id, self._payload().__getitem__, self._vault.opened(self.memo.sealed),
            self._restart, context.log, context.check, self._sampler,
        )  # fmt: skip
        for number, step in enumerate(sheet.steps):
            context.progress(number, len(sheet.steps))
            if step.id in self._checked.skipped:
                noted[number]["state"] = "skipped"
                continue
            self._do(around, step, noted, number)
        context.progress(len(sheet.steps), len(sheet.steps))
        self._note(noted)

    def _do(self, around: BuildMachine, step: SheetStep, noted: list[dict[str, Any]], number: int) -> None:
        row = noted[number]
        began = time.monotonic()
        row |= {"state": "running", "started_at": utcnow().isoformat()}
        self._note(noted)
        self.context.log(f"{step.id}: {step.do}")
        for attempt in range(step.retries + 1):
            row["attempts"] = attempt + 1
            try:
                done = around.do(step)
                break
            except Unavailable:
                raise  # the steps begin again in a new machine
            except BathotypeError as error:
                if error.code == "step-failed" and attempt < step.retries:
                    self.context.log(f"{step.id}: {error.message} It is tried again.", "warning")
                    continue
                row |= {"state": "failed", "seconds": round(time.monotonic() - began, 1), "error": error.message}
                self._note(noted)
                error.message = f"Step {step.id}: {error.message}"
                raise
        row |= {
            "state": "done",
            "seconds": round(time.monotonic() - began, 1),
            "changed": done.changed,
            "output": done.output,
            "cleaned": done.cleaned,
            "used": done.used,
        }
        self._note(noted)

    def _note(self, noted: list[dict[str, Any]]) -> None:
        self.context.must_hold()
        with self.context.session() as session:
            noted_now = {"steps": noted, "figures": self._sampler.figures}
            session.execute(update(BuildRun).where(BuildRun.operation_id == self.context.id).values(**noted_now))

    @property
    def _vault(self) -> Vault:
        return Vault(self.context.settings)

    # The version

    def check(self) -> None:
        super().check()
        self.memo.shut_down = False
        self.save()

    def identity_now(self, machine: SiteMachine) -> dict[str, Any]:
        """What it says of itself.  That is not remembered: the machine is nobody's, and will be gone."""
        try:
            with self.site.agent(machine.id) as agent:
                return read_identity(agent)
        except BathotypeError:
            return {}

    def snapshot(self) -> None:
        """The disks of the machine, which is off."""
        if self.memo.snapshot is None:
            self.take_snapshot(freeze=False)
        params = self.params
        self.memo.source |= {
            "sheet": self._sheet.sheet,
            "sheet_digest": params.sheet_digest,
            "built_from": params.base,
            "base_digest": params.base_digest,
            "values": params.values,
            "payload": {name: about.sha256 for name, about in params.payload.items()},
            **({"repeats": params.repeats} if params.repeats else {}),
            **({"repository": params.repository, "commit": params.commit} if params.commit else {}),
        }
        self.save()

    def secrets_given(self) -> dict[str, str]:
        """Those that its steps were given."""
        return self._vault.opened(self.memo.sealed)

    def seal(self) -> None:
        self.record_version(mode="build", told_source=self.params.base)

    def parent(self, session: Session) -> str | None:
        """The base."""
        return self.params.base_id

    def on_recorded(self, session: Session) -> None:
        """The machine is thrown away: nothing is noted of it."""

    def prove(self) -> bool | None:
        """The sheet's checks on a throwaway instance.  A version that does not pass stays staged, and the run fails."""
        if not self._sheet.checks:
            return False
        context, params, checks = self.context, self.params, self._sheet.checks
        with context.session() as session:
            if session.get(CheckRun, context.id) is None:
                begin_checks(
                    session, context.account_id, context.id, params.version_id, region=params.region,
                    size=params.machine_size, checks=CHECKS.dump_python(checks, mode="json", by_alias=True),
                )  # fmt: skip
        self._temporary.remove()
        self._throwaway.ensure_base()
        machine, seconds, silent = start_throwaway(self._throwaway, params.version_id)
        found = judge_all(
            context, self.site, machine, checks, name=self._throwaway.name, boot_seconds=seconds, silent=silent
        )
        record_judgements(context, params.made, found, seconds)
        self._throwaway.remove()
        need_all(params.made, found)
        return None

    def deliver(self) -> bool | None:
        """Release the version and move marks, where the sheet says so.  A finding in the way leaves it staged."""
        wants, context = self._sheet.result, self.context
        if not wants.release:
            return False
        with context.session() as session:
            caller = unattended_principal(session, context.account_id, context.created_by)
            session.get_one(Line, self.params.line_id, with_for_update=CHANGE)
            version = session.get_one(Version, self.params.version_id, with_for_update=CHANGE)
            if version.state == VersionState.STAGED:
                try:
                    lifecycle.release(session, caller, version)
                except Refused as error:
                    context.log(f"It stays staged: {error}", "warning")
                    self.memo.held_back = error.message
                    self.save()
                    return None
            for mark in wants.marks:
                lifecycle.move_mark(session, caller, version, mark)
        self.memo.delivered = ["released", *(f"{self.params.line}@{mark}" for mark in wants.marks)]
        self.save()
        context.log(f"{self.params.made} is released.")
        return None

    def export(self) -> bool | None:
        """The files that the sheet asks for; those of a version that stays staged are not made."""
        wanted, params, memo = self._sheet.result.exports, self.params, self.memo
        if not wanted or "released" not in memo.delivered:
            return False
        for number, one in enumerate(wanted[len(memo.exports) :], len(memo.exports)):
            with self.context.session() as session:
                address = address_of(session.get_one(Version, params.version_id), one)
            if number not in memo.claimed:
                refuse_taken(bucket_object(self.context.reach, self.context.account_name, address))
                memo.claimed.append(number)
                self.save()
            sent = send_version(self.context, params.version_id, params.region, one.format, one.disk, address)
            memo.exports.append(asdict(sent) | {"format": one.format})
            self.save()
        sent_to = [str(one["to"]) for one in memo.exports]
        memo.delivered = [
            one for one in memo.delivered if one not in sent_to
        ] + sent_to  # once, though it is done again
        self.save()
        return None

    # The end

    def clean_up(self, outcome: str) -> None:
        InsideClone.remove(self.context, self.site, self.params.region)
        with self.context.session() as session:
            sealed = session.get(Version, self.params.version_id) is not None
        stays = None if sealed else self._keep(outcome)
        if stays is None:
            self._temporary.remove()
        if sealed:
            self._throwaway.remove()
        but = frozenset(disk.id for disk in stays.disks) if stays is not None else frozenset[str]()
        remove_tagged(self.context, self.site, self.params.region, but=but)
        MakingKind.clean_up(self, "succeeded" if sealed else outcome)
        if outcome == "succeeded":
            self._drop_uploads()

    def _keep(self, outcome: str) -> SiteMachine | None:
        """The machine of a run that failed before it was captured, where it was asked to stay for looking into it."""
        seconds, memo = self.params.keep_seconds, self.memo
        if outcome != "failed" or not seconds or not memo.begun:
            return None
        machine = self.site.machine_named(self.params.region, self._temporary.name)
        if machine is None:
            return None
        if memo.kept is None:
            until = utcnow() + timedelta(seconds=seconds)
            memo.kept = KeptUntil(name=machine.name, address=machine.address or "", until=until)
            self.save()
            self.context.log(f"Its machine {machine.name} stays until {until:%Y-%m-%d %H:%M} UTC for looking into it.")
        return machine

    @classmethod
    def stays_until(cls, memo: BuildMemo) -> datetime | None:
        return memo.kept.until if memo.kept is not None else None

    def _drop_uploads(self) -> None:
        for about in self.params.payload.values():
            discard(self.context.database.sessions, self.context.store(self._region_of(about)), about.upload)

    def _region_of(self, about: PayloadSource) -> str:
        return about.region or self.params.region

    @classmethod
    def mend_later(cls, site: Site, params: BuildParams, memo: BuildMemo, outcome: str) -> None:
        """What is left carries the operation's tag."""

    @classmethod
    def before_retry(cls, session: Session, account_id: str, operation_id: str, params: BuildParams) -> None:
        super().before_retry(session, account_id, operation_id, params)
        run = session.get_one(BuildRun, operation_id)
        run.steps = unbegun(read_sheet(params.sheet, params.values).need())
        gone = [name for name, about in params.payload.items() if session.get(Upload, about.upload) is None]
        if gone:
            raise Refused(
                f"The payload is not kept any more: {', '.join(gone)}.",
                advice="Start the run again.",
                code="payload-gone",
            )

    def on_end(self, session: Session, outcome: str) -> None:
        super().on_end(session, outcome)
        run = session.get_one(BuildRun, self.context.id)
        run.steps = [{**row, "state": outcome} if row["state"] == "running" else row for row in run.steps]
        for one in self.memo.exports:
            sent = Sent(one["to"], one["bytes"], one["sha256"])
            record_export(session, self.context, self.params.made, sent, one["format"])

    def result(self) -> dict[str, Any]:
        return {
            **MakingKind.result(self),
            "base": self.params.base,
            "delivered": self.memo.delivered,
            "held_back": self.memo.held_back,
            "exports": self.memo.exports,
        }
