"""Prove: a version's checks on a throwaway instance of it, or on an instance that runs."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import asdict
from functools import cached_property
from typing import Any

from pydantic import TypeAdapter
from sqlalchemy import select, update
from sqlalchemy.orm import Session

from bathotype.core.checks.check import ALWAYS, THROWAWAY, Check, NoUpdates, StaysClean
from bathotype.core.checks.report import Judgement
from bathotype.core.errors import BathotypeError, Refused
from bathotype.core.firstboot.checks import differences
from bathotype.core.firstboot.settings import FirstBoot
from bathotype.core.generalize.profile import AnswerFile
from bathotype.core.units import plural
from bathotype.service import audit
from bathotype.service.access.principals import Principal
from bathotype.service.admission import need_room
from bathotype.service.catalogue import proven
from bathotype.service.guests.firstboot import read_seen
from bathotype.service.guests.judging import judge, plain_lines
from bathotype.service.identities import read_identity
from bathotype.service.kinds.afterboot import look_for_residue
from bathotype.service.kinds.basedisks import BaseDisks
from bathotype.service.kinds.snapshots import remove_tagged
from bathotype.service.kinds.temporary import TemporaryMachine
from bathotype.service.operations.context import WorkContext
from bathotype.service.operations.kind import Kind, Memo, Params, Step
from bathotype.service.operations.start import start_operation
from bathotype.service.reach import Reach
from bathotype.service.records import CheckRun, Identity, Instance, Operation, Version
from bathotype.service.records.base import utcnow
from bathotype.sites.protocol import Site

CHECKS: TypeAdapter[list[Check]] = TypeAdapter(list[Check])
#: What the settings of a throwaway instance ask for, so that it can be checked whether first boot carries them out.
_SETTINGS = FirstBoot(time_zone="Etc/UTC")


class NotProven(BathotypeError):
    """Checks have not passed."""

    code = "not-proven"


class ProveParams(Params):
    """The version and the checks; ``machine_id`` is the instance that is judged, empty for a throwaway one."""

    version_id: str
    reference: str
    region: str
    machine_size: str
    checks: list[dict[str, Any]]
    machine_id: str = ""
    tags: dict[str, str] = {}
    ready_seconds: int = 900


class ProveMemo(Memo):
    """Whether it came up, and how long its first boot took."""

    machine: str = ""
    boot_seconds: float | None = None
    silent: str = ""


def throwaway(context: WorkContext, version_id: str, region: str, size: str, checks: Sequence[Check], *,
              tags: dict[str, str], ready_seconds: float) -> TemporaryMachine:  # fmt: skip
    """The machine on which a version is proven.  It reaches nothing, unless a check needs the repositories."""
    return TemporaryMachine(
        context, BaseDisks(context, version_id, region), region, f"prove-{context.id}", size, None,
        not any(isinstance(check, NoUpdates) for check in checks), tags, ready_seconds,
    )  # fmt: skip


def begin_checks(session: Session, account_id: str, operation_id: str, version_id: str, *, region: str, size: str,
                 checks: Sequence[dict[str, Any]], instance_id: str | None = None) -> None:  # fmt: skip
    """Record that a version is to be judged."""
    session.add(
        CheckRun(
            operation_id=operation_id, account_id=account_id, version_id=version_id, instance_id=instance_id,
            region=region, machine_size=size, checks=list(checks), judgements=[],
        )
    )  # fmt: skip


def answers_of(version: Version) -> AnswerFile | None:
    """The answer file of first boot, where a version's system reads one."""
    given = version.contents.get("answers")
    return AnswerFile.model_validate(given) if given else None


def start_throwaway(machine: TemporaryMachine, version_id: str) -> tuple[str, float, str]:
    """Boot it; returns its id, the seconds until its first boot was finished, and why it did not come up, if so."""
    context = machine.context
    with context.session() as session:
        answers = answers_of(session.get_one(Version, version_id))
    began, seed_id = time.monotonic(), context.id
    made = machine.make(seed_id, _SETTINGS, answers)
    context.log(f"A throwaway instance boots: {machine.size} in {machine.region}.")
    try:
        machine.wait(made.id, seed_id, named=answers is not None)
    except BathotypeError as error:
        if error.code != "not-ready":
            raise
        return made.id, time.monotonic() - began, error.message
    return made.id, time.monotonic() - began, ""


def judge_all(
    context: WorkContext, site: Site, machine: str, version_id: str, checks: Sequence[Check], *,
    tags: Mapping[str, str],
    name: str | None, boot_seconds: float | None, silent: str,
) -> list[Judgement]:  # fmt: skip
    """Every judgement; ``name`` is the host name that a throwaway instance was given, None for one that runs.

    What is always judged comes first.  Where it did not come up, nothing else can be.
    """
    found = []
    if name is not None:
        found.append(Judgement("boots", ALWAYS["boots"], not silent, round(boot_seconds or 0, 1), plain_lines(silent)))
        found += [] if silent else _own(context, site, machine, name)
    # How long the first boot of one that runs took, nobody knows; and its disk is its owner's.
    told = [check for check in checks if name is not None or not isinstance(check, THROWAWAY)]

    def residue(check: StaysClean) -> tuple[bool, str]:
        return look_for_residue(context, site, machine, version_id, dict(tags), check)

    for number, check in enumerate([] if silent else told):
        context.progress(number, len(told))
        found.append(judge(site, machine, check, stop=context.check, residue=residue, boot_seconds=boot_seconds))
        context.progress(number + 1, len(told))
    for one in found:
        seen = f" Seen: {one.evidence}" if one.evidence else ""
        context.log(f"{one.id}: {'passed' if one.passed else 'not so'}: {one.demands.rstrip('.')}.{seen}",
                    "info" if one.passed else "warning")  # fmt: skip
    return found


def _own(context: WorkContext, site: Site, machine: str, name: str) -> list[Judgement]:
    """Whether first boot carried out its settings, and no other machine has its identity."""
    began = time.monotonic()
    try:
        with site.agent(machine) as agent:
            identity = read_identity(agent)
            told = "guest-file-read" in agent.commands()
            differ = differences(_SETTINGS, name, read_seen(agent, _SETTINGS, identity))
    except BathotypeError as error:
        return [Judgement(one, ALWAYS[one], False, 0.0, error.message) for one in ("first-boot", "identity")]
    values = [v for v in (identity.get("machine_id"), *identity.get("host_keys", [])) if v]
    with context.session() as session:
        rows = session.execute(
            select(Identity.kind, Identity.machine_name).where(
                Identity.value.in_(values), Identity.site_machine != machine
            )
        ).all()
    twice = [f"{other} has the same {kind}." for kind, other in rows]
    if told and not identity.get("machine_id"):
        twice.append("It has no machine id.")
    seen = " ".join(twice) if told or twice else "Its agent reads no files, and reports only a name."
    spent = round(time.monotonic() - began, 2)
    return [
        Judgement("first-boot", ALWAYS["first-boot"], not differ, spent, plain_lines(" ".join(differ))),
        Judgement("identity", ALWAYS["identity"], not twice, spent, plain_lines(seen)),
    ]


def record_judgements(
    context: WorkContext, reference: str, found: Sequence[Judgement], boot_seconds: float | None
) -> bool:
    """Keep what was found; returns whether all passed."""
    passed = all(one.passed for one in found)
    context.must_hold()
    with context.session() as session:
        run = session.get_one(CheckRun, context.id)
        run.judgements, run.passed, run.boot_seconds, run.at = (
            [asdict(one) for one in found],
            passed,
            boot_seconds,
            utcnow(),
        )
        version = session.get_one(Version, run.version_id)
        subject = f"{reference} checks"
        if run.instance_id is None and version.line.account_id == context.account_id:
            session.flush()
            if proven(session, version):
                audit.clear_alert(session, context.account_id, "not-proven", subject)
            elif not passed and version.state in ("released", "sunset"):
                wrong = ", ".join(one.id for one in found if not one.passed)
                audit.raise_alert(
                    session, context.account_id, "not-proven", subject, f"{reference} no longer passes: {wrong}."
                )
        audit.record(
            session, context.account_id, context.created_by, f"version.{'proven' if passed else 'not-proven'}", reference,
            after={"operation": context.id, "failed": [one.id for one in found if not one.passed]},
        )  # fmt: skip
    return passed


def need_all(reference: str, found: Sequence[Judgement]) -> None:
    """Raise `NotProven` where a check has not passed."""
    wrong = [one for one in found if not one.passed]
    if wrong:
        some = "; ".join(
            f"{one.id}: {one.evidence.splitlines()[0] if one.evidence else one.demands}" for one in wrong[:3]
        )
        raise NotProven(
            f"{plural(len(wrong), 'check')} of {len(found)} did not pass on {reference}. {some[:600]}",
            advice="`bathotype checks show` with this operation's id has what was seen.",
        )


def start_checks(
    session: Session, caller: Principal, params: ProveParams, *, instance_id: str | None = None
) -> Operation:
    """Record the operation that judges, and what it judges; ``instance_id`` is None for a throwaway instance.

    Raises `Refused` where an allowance has no room for that.
    """
    if instance_id is None:
        line = session.get_one(Version, params.version_id).line_id
        need_room(session, caller.account_id, params.version_id, line)
    started = start_operation(session, caller, Prove, params.reference, params)
    begin_checks(
        session, caller.account_id, started.id, params.version_id, region=params.region, size=params.machine_size,
        checks=params.checks, instance_id=instance_id,
    )  # fmt: skip
    return started


class Prove(Kind[ProveParams, ProveMemo]):
    """Boot a throwaway instance, judge it, remove it.  An instance that runs is only judged."""

    name = "prove"
    params_type, memo_type = ProveParams, ProveMemo
    may_leave = True
    steps = (
        Step("base_disk", "Write and verify the base disk", 4),
        Step("start", "Start a throwaway instance", 3),
        Step("judge", "Judge it", 3),
    )

    @property
    def _site(self) -> Site:
        return self.context.site(self.params.region)

    @cached_property
    def _checks(self) -> list[Check]:
        return CHECKS.validate_python(self.params.checks)

    @cached_property
    def _machine(self) -> TemporaryMachine:
        params = self.params
        return throwaway(
            self.context, params.version_id, params.region, params.machine_size, self._checks, tags=params.tags,
            ready_seconds=params.ready_seconds,
        )  # fmt: skip

    def base_disk(self) -> bool | None:
        """Make sure that the site has a verified base disk."""
        if self.params.machine_id:
            return False
        with self.context.session() as session:
            state = session.get_one(Version, self.params.version_id).state
        if state == "purged":
            raise Refused(f"{self.params.reference} is purged: there is nothing to start.", code="state-forbids")
        return self._machine.ensure_base()

    def start(self) -> bool | None:
        """A throwaway instance, until its first boot is finished."""
        if self.params.machine_id:
            return False
        machine, seconds, silent = start_throwaway(self._machine, self.params.version_id)
        self.memo.machine, self.memo.boot_seconds, self.memo.silent = machine, seconds, silent
        self.save()
        return None

    def judge(self) -> None:
        """Every check; what was found is kept even where not all passed."""
        name = None if self.params.machine_id else self._machine.name
        found = judge_all(
            self.context, self._site, self.params.machine_id or self.memo.machine, self.params.version_id, self._checks,
            name=name, boot_seconds=self.memo.boot_seconds, silent=self.memo.silent, tags=self.params.tags,
        )  # fmt: skip
        record_judgements(self.context, self.params.reference, found, self.memo.boot_seconds)
        need_all(self.params.reference, found)

    def clean_up(self, outcome: str) -> None:
        if not self.params.machine_id:
            self._machine.remove()
            remove_tagged(self.context, self._site, self.params.region)

    @classmethod
    def before_retry(
        cls, session: Session, reach: Reach, account_id: str, operation_id: str, params: ProveParams
    ) -> None:
        if (
            params.machine_id
            and session.scalar(
                select(Instance.id).where(Instance.site_machine == params.machine_id, Instance.ended_at.is_(None))
            )
            is None
        ):
            raise Refused("The instance is gone.", advice="Check another one.")
        session.execute(
            update(CheckRun)
            .where(CheckRun.operation_id == operation_id)
            .values(judgements=[], passed=None, boot_seconds=None)
        )

    def result(self) -> dict[str, Any]:
        return {"reference": self.params.reference, "passed": True, "boot_seconds": self.memo.boot_seconds}
