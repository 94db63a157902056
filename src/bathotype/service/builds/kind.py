"""A build run: a temporary machine from the base, the sheet's steps in it, and a version of what came of it.

A run of which any step failed makes no version.  Steps change a machine in ways that cannot be taken back: where a worker
died or the agent was lost among them, the machine is thrown away and they begin again in a new one.
"""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime, timedelta
from functools import cached_property
from typing import Any

from pydantic import BaseModel, Field
from sqlalchemy import select, update
from sqlalchemy.orm import Session

from bathotype.core.disk.source import ByteSource
from bathotype.core.errors import BathotypeError, Refused
from bathotype.core.firstboot.settings import first_boot_of
from bathotype.core.generalize.profile import AnswerFile, Profile
from bathotype.core.generalize.residue import SourceIdentity
from bathotype.core.sheets.reading import Checked, read_sheet
from bathotype.core.sheets.result import Outcome
from bathotype.core.sheets.sheet import ProofPlaces, Sheet, repeated, told_to
from bathotype.core.sheets.steps import Scalar
from bathotype.core.signing.statement import digest_of
from bathotype.core.units import iec
from bathotype.service import audit
from bathotype.service.admission import need_room
from bathotype.service.builds.copied import BaseCopy, CopiedDisk
from bathotype.service.builds.delivering import Delivery, DeliveryMemo
from bathotype.service.builds.installing import Installing
from bathotype.service.builds.machine import MachineMemo, RunMachine
from bathotype.service.builds.payload import Payload, PayloadSource, need_uploads
from bathotype.service.builds.proofs import ProofMemo, Proofs
from bathotype.service.builds.stepping import Stepping, unbegun
from bathotype.service.guests.building import BuildMachine
from bathotype.service.guests.clone import InsideClone
from bathotype.service.identities import read_identity
from bathotype.service.kinds.basedisks import BaseDisks
from bathotype.service.kinds.capture import CaptureKind, CaptureMemo, CaptureParams
from bathotype.service.kinds.generalizing import need_tools, profile_for
from bathotype.service.kinds.imagefile import ImageFile
from bathotype.service.kinds.making import MakingKind, source_identity
from bathotype.service.kinds.proving import (
    CHECKS,
    answers_of,
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
from bathotype.service.reach import Reach
from bathotype.service.records import BuildRun, CheckRun, OperationStep, Version
from bathotype.service.records.base import utcnow
from bathotype.service.shares import still_granted
from bathotype.sites.protocol import Site, SiteMachine


class BuildParams(CaptureParams):
    """The sheet and what is put into it, the base, and the version to make."""

    machine_id: str = ""
    #: The version that it starts from; else the id of the machine whose disk is copied, or a file of the payload.
    base_id: str = ""
    base_machine: str = ""
    base_file: str = ""
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
    #: First-boot settings of the machine, where the sheet has any.
    first_boot: dict[str, Any] | None = None
    values: dict[str, Scalar] = {}
    payload: dict[str, PayloadSource] = {}
    keep_seconds: int = 0


class KeptUntil(BaseModel):
    """A machine that stays after its run has failed."""

    name: str
    address: str
    until: datetime


class BuildMemo(CaptureMemo, MachineMemo, DeliveryMemo, ProofMemo):
    """What a run knows of itself, besides its machine, its proofs and what became of its version."""

    kept: KeptUntil | None = None
    #: What marks the content of the payload's files in buckets, as it was compared with the lock.
    marks: dict[str, str] = {}
    #: The base, where that is no version.
    copied: CopiedDisk = Field(default_factory=CopiedDisk)


class Build(CaptureKind[BuildParams, BuildMemo]):
    """The whole way from a sheet to a staged or released version."""

    name = "build"
    params_type, memo_type = BuildParams, BuildMemo
    steps = (
        Step("prechecks", "Check the base and the payload"),
        Step("bring", "Copy or install the base", 4, restart_from="bring"),
        Step("base_disk", "Write and verify the base disk", 3, restart_from="bring"),
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
        sheet, settings = self._checked.need(), self.params.first_boot
        if settings is not None:
            sheet = sheet.with_settings(first_boot_of(settings))
        return repeated(sheet, self.params.base) if self.params.repeats else sheet

    @cached_property
    def _temporary(self) -> TemporaryMachine:
        wants, params = self._sheet.machine, self.params
        base = BaseDisks(self.context, params.base_id, params.region) if params.base_id else self._copied
        return TemporaryMachine(
            self.context, base, params.region, f"build-{self.context.id}", params.machine_size, wants.zone,
            wants.isolated, params.tags, wants.ready_seconds, params.boot_bytes, wants.attach,
        )  # fmt: skip

    @property
    def _of_files(self) -> Profile:
        """What generalizes the copy of a base, whatever generalizes what is built on it."""
        return profile_for(self._sheet.result.generalize)

    @cached_property
    def _copied(self) -> BaseCopy:
        params = self.params
        return BaseCopy(
            self.context, params.region, self._of_files, params.tags, self.memo.copied, self.save,
        )  # fmt: skip

    @cached_property
    def _throwaway(self) -> TemporaryMachine:
        wants, params = self._sheet.machine, self.params
        return throwaway(
            self.context, params.version_id, params.region, params.machine_size, self._sheet.checks, tags=params.tags,
            ready_seconds=wants.ready_seconds,
        )  # fmt: skip

    @cached_property
    def _installing(self) -> Installing:
        wants, params = self._sheet.machine, self.params
        assert self._sheet.installed is not None
        return Installing(
            self._copied, self._sheet.installed, self._payload, params.machine_size, wants.zone, wants.isolated,
            wants.attach,
        )  # fmt: skip

    # Before a machine is made

    def prechecks(self) -> None:
        """The base may still be used, and every file of the payload is what the lock says."""
        context, params = self.context, self.params
        need_tools()
        if params.base_id:
            with context.session() as session:
                still_granted(session, context.account_id, params.base_id, params.region)
                base = session.get_one(Version, params.base_id)
                if base.state in ("retired", "purged"):
                    told = f"{params.base} is {base.state} now: nothing can be built from it."
                    raise Refused(told, code="state-forbids")
        self.memo.marks = self._payload.check()
        self.save()
        context.reader.start()

    @cached_property
    def _payload(self) -> Payload:
        return Payload(self.context, self.params.region, self.params.payload)

    def bring(self) -> bool | None:
        """Copy the disk of a base that is no version, and generalize the copy."""
        params, base = self.params, self._copied
        if params.base_id:
            return False
        if self._sheet.installed is not None:
            self._installing.install()
        elif params.base_machine:
            base.bring_machine(self.site.machine(params.base_machine))
        else:
            file, upload = params.payload[params.base_file], params.payload[params.base_file].upload
            self._payload.need_unchanged(params.base_file, self.memo.marks)
            base.bring_file(
                ImageFile(self.context, params.region, upload or None, file.bucket or None, None, self._of_files)
            )
            self._payload.need_unchanged(params.base_file, self.memo.marks)
        what = "installed" if self._sheet.installed is not None else "copied"
        self.context.log(f"{params.base} is {what}, {iec(self.memo.copied.bytes)}.")
        if not params.base_digest:
            with self.context.session() as session:
                found = {"base_digest": self._base_digest}
                session.execute(update(BuildRun).where(BuildRun.operation_id == self.context.id).values(**found))
        return None

    @property
    def _base_digest(self) -> str:
        """That of the file or version, else of the disk that was copied."""
        return self.params.base_digest or self.memo.copied.digest

    def base_disk(self) -> bool | None:
        """Make sure that the site has a verified base disk."""
        return self._temporary.ensure_base()

    # The machine

    @cached_property
    def _machine(self) -> RunMachine:
        params = self.params
        return RunMachine(
            self.context, self._sheet, self._temporary, params.base if params.base_id else "", self._answers,
            self._base_disks, self.memo, self.save,
        )  # fmt: skip

    def prepare(self) -> None:
        """A new machine from the base, until its first boot is finished."""
        self._need_room()
        self._machine.prepare()

    def _need_room(self) -> None:
        """For one more machine in what counts the result's line."""
        with self.context.session() as session:
            need_room(session, self.context.account_id, self.params.version_id, self.params.line_id)

    @property
    def _answers(self) -> AnswerFile | None:
        """How the base takes its first-boot settings, where its system has a way of its own."""
        if not self.params.base_id:
            return None
        with self.context.session() as session:
            return answers_of(session.get_one(Version, self.params.base_id))

    def _base_disks(self) -> tuple[list[dict[str, Any]], int]:
        """The disks of the base, and the bytes of its system's file system."""
        if not self.params.base_id:
            copied = self.memo.copied
            return [{"role": "boot", "bytes": copied.bytes, "holds": ""}], copied.root_bytes
        with self.context.session() as session:
            base = session.get_one(Version, self.params.base_id)
            return list(base.disks), int(base.contents.get("root_bytes") or 0)

    def build(self) -> None:
        """The steps of the sheet, in order; what is noted of each can be read while the run goes on."""
        machine = self._machine
        if self.memo.begun:
            self.context.log("The steps were interrupted: they begin again in a new machine.", "warning")
            self.prepare()
        self.memo.begun = True
        self.save()
        machine.go_on()
        around = BuildMachine(
            self.site,
            self.machine_id,
            self._to_put,
            machine.secrets(),
            machine.restart,
            self.context.log,
            machine.go_on,
        )
        Stepping(self.context, self._sheet, self._checked.skipped, around).do_all()

    def _to_put(self, name: str) -> tuple[ByteSource, str]:
        return self._payload.open(name), self.params.payload[name].sha256

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
        with self.context.session() as session:
            steps = session.get_one(BuildRun, self.context.id).steps
        self.memo.source |= {
            "sheet": self._sheet.sheet,
            "sheet_digest": params.sheet_digest,
            "built_from": params.base,
            "base_digest": self._base_digest,
            "values": params.values,
            "payload": {name: about.sha256 for name, about in params.payload.items()},
            "steps_digest": (digest_of({"steps": steps}) or {})["sha256"],
            **({"repeats": params.repeats} if params.repeats else {}),
            **({"repository": params.repository, "commit": params.commit} if params.commit else {}),
        }
        self.save()

    def secrets_given(self) -> dict[str, str]:
        """Those that its steps were given."""
        return self._machine.secrets()

    def seal(self) -> None:
        self.record_version(mode="build", told_source=self.params.base)

    def parent(self, session: Session) -> str | None:
        """The base, if that is a version."""
        return self.params.base_id or None

    @property
    def known_identity(self) -> SourceIdentity:
        """That of the machine, and what the base's disk says besides."""
        known, copied = super().known_identity, self.memo.copied.identity
        return replace(known, earlier=(*known.earlier, source_identity(copied, {}))) if copied else known

    @property
    def in_use(self) -> frozenset[str]:
        """The base disk that the machine's is a clone of, where that is the run's own."""
        disk = self.memo.copied.site_disk
        return frozenset() if disk is None else frozenset({disk})

    def on_recorded(self, session: Session) -> None:
        """The machine is thrown away: nothing is noted of it."""

    def prove(self) -> bool | None:
        """The sheet's checks on a throwaway instance.  A version that does not pass stays staged, and the run fails."""
        if not self._sheet.checks:
            return False
        context, params, checks = self.context, self.params, self._sheet.checks
        if self._sheet.prove is not None:
            self._temporary.remove()
            self._proofs.advance()
            return None
        with context.session() as session:
            if session.get(CheckRun, context.id) is None:
                begin_checks(
                    session, context.account_id, context.id, params.version_id, region=params.region,
                    size=params.machine_size, checks=CHECKS.dump_python(checks, mode="json", by_alias=True),
                )  # fmt: skip
        self._temporary.remove()
        self._need_room()
        self._throwaway.ensure_base()
        machine, seconds, silent = start_throwaway(self._throwaway, params.version_id)
        found = judge_all(
            context,
            self.site,
            machine,
            params.version_id,
            checks,
            tags=params.tags,
            name=self._throwaway.name,
            boot_seconds=seconds,
            silent=silent,
        )
        record_judgements(context, params.made, found, seconds)
        self._throwaway.remove()
        need_all(params.made, found)
        return None

    @cached_property
    def _proofs(self) -> Proofs:
        params, places = self.params, self._sheet.prove or ProofPlaces()
        return Proofs(
            self.context, params.version_id, params.made, tuple(places.regions) or (params.region,),
            tuple(places.sizes) or (params.machine_size,),
            CHECKS.dump_python(self._sheet.checks, mode="json", by_alias=True), params.tags,
            self._sheet.machine.ready_seconds, self.memo, self.save_in,
        )  # fmt: skip

    @cached_property
    def _delivery(self) -> Delivery:
        params = self.params
        return Delivery(
            self.context, self._sheet.result, params.line, params.version_id, params.made, params.region, self.memo,
            self.save, self.save_in,
        )  # fmt: skip

    def deliver(self) -> bool | None:
        """Release the version, move marks and bring it to its regions, where the sheet says so.  A finding in the way
        leaves it staged."""
        return self._delivery.release()

    def export(self) -> bool | None:
        """The files that the sheet asks for; those of a version that stays staged are not made."""
        return self._delivery.export()

    # The end

    def clean_up(self, outcome: str) -> None:
        InsideClone.remove(self.context, self.site, self.params.region)
        if self._sheet.installed is not None:
            self._installing.remove()
        self._proofs.stop()
        with self.context.session() as session:
            sealed = session.get(Version, self.params.version_id) is not None
        stays = None if sealed else self._keep(outcome)
        if stays is None:
            self._temporary.remove()
        if sealed:
            self._throwaway.remove()
        but = self.in_use | {disk.id for disk in stays.disks} if stays is not None else frozenset[str]()
        remove_tagged(self.context, self.site, self.params.region, but=but)
        MakingKind.clean_up(self, "succeeded" if sealed else outcome)
        if outcome == "succeeded":
            self._payload.discard()

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

    @classmethod
    def mend_later(cls, site: Site, params: BuildParams, memo: BuildMemo, outcome: str) -> None:
        """What is left carries the operation's tag."""

    @classmethod
    def resumes_at(cls, session: Session, operation_id: str, params: BuildParams) -> str | None:
        """Once the version is recorded, where it failed: what is made of it is not made again."""
        if session.get(Version, params.version_id) is None:
            return None
        query = select(OperationStep.name).where(OperationStep.operation_id == operation_id)
        failed = query.where(OperationStep.state.not_in(("done", "skipped"))).order_by(OperationStep.position).limit(1)
        name = session.scalar(failed)
        return name if name in ("prove", "deliver", "export") else "seal"

    @classmethod
    def before_retry(
        cls, session: Session, reach: Reach, account_id: str, operation_id: str, params: BuildParams
    ) -> None:
        super().before_retry(session, reach, account_id, operation_id, params)
        run = session.get_one(BuildRun, operation_id)
        run.steps = unbegun(read_sheet(params.sheet, params.values).need())
        need_uploads(session, params.payload)

    def on_end(self, session: Session, outcome: str) -> None:
        super().on_end(session, outcome)
        run = session.get_one(BuildRun, self.context.id)
        run.steps = [{**row, "state": outcome} if row["state"] == "running" else row for row in run.steps]
        self._delivery.record(session)
        self._tell(session, outcome)

    def _tell(self, session: Session, outcome: str) -> None:
        """What became of the run, as an event of its sheet."""
        if outcome == "cancelled":
            return  # who did that knows it
        became: Outcome = "released" if "released" in self.memo.delivered else "staged"
        if outcome == "failed":
            became = "failed"
        sheet, params = self._sheet, self.params
        made = params.made if session.get(Version, params.version_id) is not None else None
        told = {"operation": self.context.id, "version": made, "held_back": self.memo.held_back or None}
        audit.record(
            session, self.context.account_id, self.context.created_by, f"sheet.{became}", sheet.sheet,
            after=told | told_to(sheet, became),
        )  # fmt: skip

    def result(self) -> dict[str, Any]:
        return {
            **MakingKind.result(self),
            "base": self.params.base,
            "delivered": self.memo.delivered,
            "held_back": self.memo.held_back,
            "placed": self.memo.placed,
            "exports": self.memo.exports,
        }
