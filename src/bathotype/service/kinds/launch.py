"""Launch: machines from a version, each followed until its first boot is confirmed."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import cached_property
from typing import Any

from sqlalchemy import func, select, update
from sqlalchemy.orm import Session

from bathotype.core.errors import BathotypeError, NotFound, Refused
from bathotype.core.firstboot.checks import differences
from bathotype.core.firstboot.seed import build_seed
from bathotype.core.firstboot.settings import first_boot_of
from bathotype.core.generalize.profile import AnswerFile
from bathotype.core.guest.agent import AgentRefused
from bathotype.core.lifecycle.networks import Attach
from bathotype.core.lifecycle.room import least_root
from bathotype.core.sheets.secrecy import Mask
from bathotype.core.units import agree, plural
from bathotype.service import audit
from bathotype.service.admission import judge, rooms
from bathotype.service.guests.firstboot import read_seen
from bathotype.service.guests.ready import console_tail, first_booted, pause_after
from bathotype.service.identities import read_identity, remember_identity
from bathotype.service.instances import addresses_in_use, names_in_use, note_differences, one_launch_at_a_time
from bathotype.service.kinds.basedisks import BaseDisks
from bathotype.service.operations.context import Cancelled, LockLost
from bathotype.service.operations.kind import Kind, Memo, Params, Step
from bathotype.service.reach import Reach
from bathotype.service.records import Account, BaseDisk, Instance, Version
from bathotype.service.records.base import REST, utcnow
from bathotype.service.shares import shares_of_version, still_granted
from bathotype.service.usable import usable_of
from bathotype.service.vault import Vault
from bathotype.sites.protocol import Site, SiteMachine

_AT_ONCE = 8

#: Tag of an instance's empty disks: its id.
_EXTRA = "bathotype-extra"


class LaunchParams(Params):
    """The version, where it is launched, and seconds that an instance may take to become ready, in seconds."""

    version_id: str
    reference: str
    region: str
    wait_seconds: int
    tags: dict[str, str] = {}
    warnings: list[str] = []


class LaunchMemo(Memo):
    """The secrets that first boot is given, encrypted; the instances' own records hold everything else."""

    sealed: dict[str, str] = {}


class Launch(Kind[LaunchParams, LaunchMemo]):
    """Write a base disk if there is none, create the machines, follow them until first boot is done."""

    name = "launch"
    params_type, memo_type = LaunchParams, LaunchMemo
    may_leave = True
    steps = (
        Step("base_disk", "Write and verify the base disk", 5),
        Step("create", "Create the machines", 3),
        Step("follow", "Follow first boot", 3),
    )

    @property
    def _site(self) -> Site:
        return self.context.site(self.params.region)

    # The base disk

    @cached_property
    def _bases(self) -> BaseDisks:
        return BaseDisks(self.context, self.params.version_id, self.params.region)

    def base_disk(self) -> bool | None:
        """Make sure that the site has a verified base disk; if two launches need it, one of them makes it."""
        return self._bases.ensure()

    # The machines

    def _instances(self, *states: str) -> list[Instance]:
        with self.context.session() as session:
            query = select(Instance).where(Instance.operation_id == self.context.id).order_by(Instance.id)
            return [i for i in session.scalars(query) if not states or i.state in states]

    def _each(self, instances: list[Instance], call: Callable[[Instance], None]) -> None:
        """Do something for each instance, a few at a time."""
        with ThreadPoolExecutor(_AT_ONCE, thread_name_prefix="launch") as pool:
            for done, _ in enumerate(pool.map(call, instances), 1):
                self.context.progress(done, len(instances))

    def create(self) -> None:
        """Create, seed and start each machine; the instance's id makes a repetition harmless."""
        self._take_secrets()
        self._each(self._instances("pending", "starting"), self._create_one)
        self.context.log(f"{plural(len(self._instances('starting')), 'machine')} created and switched on.")

    def _take_secrets(self) -> None:
        """Once: every instance of a launch is given the same values."""
        names = {one.secret for i in self._instances() for one in first_boot_of(i.first_boot).secrets}
        if names and not self.memo.sealed:
            with self.context.session() as session:
                vault = Vault(self.context.settings)
                self.memo.sealed = vault.give(session, self.context.account_id, names, operation=self.context.id)
            self.save()

    @cached_property
    def _secrets(self) -> dict[str, str]:
        return Vault(self.context.settings).opened(self.memo.sealed)

    def _create_one(self, instance: Instance) -> None:
        tags = {**self.context.tags(self.params.tags), "bathotype-instance": instance.id}
        try:
            # Where a share has ended meanwhile, what does not run yet is not started.
            with self.context.session() as session:
                still_granted(session, self.context.account_id, self.params.version_id, self.params.region)
            with self._bases.least_busy(instance.zone or None) as base:
                machine = self._start(instance, base, tags)
        except (Refused, NotFound) as error:
            self._fail(instance, str(error))
            return
        with self.context.session() as session:
            session.execute(
                update(Instance)
                .where(Instance.id == instance.id)
                .values(
                    state="starting",
                    site_machine=machine.id,
                    address=machine.address,
                    zone=machine.zone,
                    disks=_with_ids(instance.disks, machine),
                    attach={
                        **instance.attach,
                        "subnet": machine.subnet,
                        "firewalls": list(machine.firewalls),
                        "public_address": machine.public_address or False,
                    },
                )
            )

    def _start(self, instance: Instance, base: BaseDisk, tags: dict[str, str]) -> SiteMachine:
        settings = first_boot_of(instance.first_boot)
        try:
            self._bases.grant(base, self.context.account_name)
            machine = self._site.create_machine(
                key=instance.id,
                name=instance.name,
                region=self.params.region,
                zone=instance.zone or base.zone or None,
                machine_size=instance.machine_size,
                boot_disk=str(base.site_disk),
                boot_bytes=instance.disks[0]["bytes"] if instance.disks and instance.disks[0]["grown_from"] else None,
                attach=Attach.model_validate(instance.attach),
                data_disks=[*base.data_disks, *self._extra_disks(instance, instance.zone or base.zone, tags)],
                tags=tags,
            )
        except NotFound:
            self._bases.lost(base)
            raise
        seed = build_seed(
            settings, instance_id=instance.id, host_name=instance.host_name, mac=machine.mac, answers=self._answers,
            secrets=self._secrets,
        )  # fmt: skip
        self._site.set_seed(machine.id, seed.volume())
        self._site.power(machine.id, "on")
        return machine

    def _extra_disks(self, instance: Instance, zone: str, tags: dict[str, str]) -> list[str]:
        """The empty disks that an instance gets, made where they are not there yet."""
        return [
            self._site.create_disk(
                self.params.region, disk["bytes"], key=f"{instance.id}/{disk['role']}", tags={**tags, _EXTRA: instance.id},
                name=f"{instance.name}-{disk['role']}", zone=zone,
            ).id
            for disk in instance.disks
            if disk["role"].startswith("extra-")
        ]  # fmt: skip

    # First boot

    def follow(self) -> None:
        """Wait until each agent answers and the first-boot settings have taken effect."""
        began = time.monotonic()
        deadline = began + self.params.wait_seconds
        waiting = {i.id: i for i in self._instances("starting")}
        total = len(self._instances())
        while waiting:
            with ThreadPoolExecutor(_AT_ONCE, thread_name_prefix="follow") as pool:
                for instance, up in zip(
                    list(waiting.values()), pool.map(self._is_up, list(waiting.values())), strict=True
                ):
                    if up:
                        del waiting[instance.id]
            self.context.progress(total - len(waiting), total)
            if waiting and time.monotonic() > deadline:
                for instance in waiting.values():
                    self._fail(instance, self._console_tail(instance))
                return
            if waiting:
                time.sleep(pause_after(time.monotonic() - began))
                self.context.check()
        running = len(self._instances("running"))
        own = agree(running, "with an identity of its own", "each with an identity of its own")
        self.context.log(f"{plural(running, 'instance')} running, {own}.")

    def _is_up(self, instance: Instance) -> bool:
        assert instance.site_machine is not None
        try:
            machine = self._site.machine(instance.site_machine)
            with self._site.agent(instance.site_machine, timeout=3) as agent:
                seen = agent.host_name()
                booted = first_booted(agent, instance.id)
                knows_its_name = booted or self._answers is not None
                if booted is False or (knows_its_name and seen != instance.host_name):
                    return False  # or it has not read its answer file yet
                identity = read_identity(agent)
                settings = first_boot_of(instance.first_boot)
                least = least_root(instance.disks, self._root_bytes)
                seen_now = read_seen(agent, settings, identity, root=least > 0)
                differ = differences(settings, instance.host_name, seen_now, least_root=least)
        except NotFound:
            self._fail(instance, "It was deleted at the site while it started.")
            return True
        except (Cancelled, LockLost):
            raise
        except (BathotypeError, AgentRefused, ValueError, RecursionError):
            return False
        with self.context.session() as session:
            session.execute(
                update(Instance)
                .where(Instance.id == instance.id)
                .values(
                    state="running",
                    identity=identity,
                    differences=differ,
                    seen_at=utcnow(),
                    reason=None,
                    acted_at=func.clock_timestamp(),
                )
            )
            if differ:
                note_differences(session, instance, differ)
            remember_identity(session, self.context.account_id, machine, identity)
            audit.record(
                session,
                self.context.account_id,
                self.context.created_by,
                "instance.running",
                instance.name,
                after={"instance": instance.id, "version": self.params.reference},
            )
        for text in differ:
            self.context.log(f"{instance.name}: {text}", "warning")
        return True

    @cached_property
    def _contents(self) -> dict[str, Any]:
        """What is recorded of the version's contents."""
        with self.context.session() as session:
            return dict(session.get_one(Version, self.params.version_id).contents)

    @property
    def _root_bytes(self) -> int:
        """The size of the partition with the system, in the version; 0 where it is not known."""
        return int(self._contents.get("root_bytes") or 0)

    @property
    def _answers(self) -> AnswerFile | None:
        """The answer file that the version's system reads."""
        given = self._contents.get("answers")
        return AnswerFile.model_validate(given) if given else None

    def _console_tail(self, instance: Instance) -> str:
        waited = self.params.wait_seconds
        text = f"It did not come up with its first-boot settings within {waited} s."
        tail = console_tail(self._site, str(instance.site_machine))
        shown = Mask(self._secrets.values()).hide("\n".join(tail))  # a program of first boot may have printed them
        return f"{text} Its console ends:\n{shown}" if tail else text

    def _fail(self, instance: Instance, reason: str) -> None:
        self.context.log(f"{instance.name}: {reason}", "error")
        with self.context.session() as session:
            session.execute(
                update(Instance)
                .where(Instance.id == instance.id)
                .values(state="failed", reason=reason, ended_at=utcnow())
            )

    # The end

    def clean_up(self, outcome: str) -> None:
        """Remove the machines of instances that failed or were cancelled."""
        unfinished = ("pending", "starting", "failed") if outcome != "succeeded" else ("failed",)
        for instance in self._instances(*unfinished):
            for machine in self._made_for(instance):
                self._site.delete_machine(machine)
            for disk in self._site.disks(self.params.region, tag=(_EXTRA, instance.id)):
                self._site.delete_disk(disk.id)  # no machine has come to have it
            if instance.state != "failed":
                self._fail(instance, f"The launch was {outcome}.")

    def _made_for(self, instance: Instance) -> list[str]:
        if instance.site_machine:
            return [instance.site_machine]
        machine = self._site.machine_named(self.params.region, instance.name)
        return [machine.id] if machine and machine.tags.get("bathotype-instance") == instance.id else []

    @classmethod
    def before_retry(
        cls, session: Session, reach: Reach, account_id: str, operation_id: str, params: LaunchParams
    ) -> None:
        """The instances that it gave up, unless the version, the share, a rule or an allowance forbids them now, or others
        have their names or addresses."""
        version = session.get_one(Version, params.version_id, with_for_update={**REST, "of": Version})
        if version.state in ("retired", "purged"):
            raise Refused(f"{params.reference} is {version.state} now: it takes no new launches.", code="state-forbids")
        failed = session.scalars(
            select(Instance).where(Instance.operation_id == operation_id, Instance.state == "failed")
        ).all()
        still_granted(session, account_id, version.id, params.region)
        counted = rooms(session, account_id, version.id, version.line_id, lock=True)
        blockers = [b for room in counted if (b := room.blocker(len(failed)))]
        one_launch_at_a_time(session, account_id, params.region)
        blockers += _taken(session, account_id, params.region, failed)
        blockers += _against_rules(session, reach, account_id, version, params, failed)
        if blockers:
            raise Refused(" ".join(blockers), code="launch-refused")
        for instance in failed:
            instance.state, instance.reason, instance.ended_at, instance.site_machine = "pending", None, None, None

    def on_end(self, session: Session, outcome: str) -> None:
        for instance in session.scalars(select(Instance).where(Instance.operation_id == self.context.id)):
            if instance.state == "failed":
                audit.record(
                    session,
                    self.context.account_id,
                    self.context.created_by,
                    "instance.failed",
                    instance.name,
                    after={"instance": instance.id, "reason": instance.reason},
                )

    def result(self) -> dict[str, Any]:
        instances = self._instances()
        failed = [i for i in instances if i.state == "failed"]
        if failed:
            some = "; ".join(f"{i.name}: {i.reason}" for i in failed[:3])
            raise _SomeFailed(len(failed), len(instances), some)
        return {
            "reference": self.params.reference,
            "instances": [
                {"id": i.id, "name": i.name, "address": i.address, "state": i.state}
                for i in sorted(instances, key=lambda i: i.name)
            ],
        }


def _taken(session: Session, account_id: str, region: str, failed: Sequence[Instance]) -> list[str]:
    """Why others that were launched meanwhile are in the way of instances that failed."""
    found = [
        f"The name {name} is in use in {region} by now."
        for name in names_in_use(session, account_id, region, [one.name for one in failed])
    ]
    own = {text.partition("/")[0] for one in failed for text in first_boot_of(one.first_boot).network.addresses}
    own |= {address for one in failed if (address := Attach.model_validate(one.attach).address)}
    in_use = own & addresses_in_use(session, account_id, region) if own else ()
    return found + [f"The address {address} is in use in {region} by now." for address in sorted(in_use)]


def _against_rules(
    session: Session, reach: Reach, account_id: str, version: Version, params: LaunchParams, failed: Sequence[Instance]
) -> list[str]:
    """Why launch rules refuse instances that failed: by those of now, as of any launch."""
    account = session.get_one(Account, account_id)
    seen = usable_of(session, version, shares_of_version(session, account_id, version))
    tags = {**reach.account_tags(account.name), **params.tags}
    refused: dict[str, None] = {}
    attached = [Attach.model_validate(one.attach) for one in failed]
    for subnet, firewalls, public in {(a.subnet or "", tuple(a.firewalls), bool(a.public_address)) for a in attached}:
        judged = judge(
            session, (account.id, account.name), seen, params.region, tags,
            subnet=subnet, firewalls=firewalls, public=public,
        )  # fmt: skip
        refused |= dict.fromkeys(judged.decision.reasons_for("refuse"))
    return list(refused)


def _with_ids(disks: list[dict[str, Any]], machine: SiteMachine) -> list[dict[str, Any]]:
    """The record of an instance's disks with their ids at the site, which has them in the same order."""
    return [{**disk, "disk": there.id} for disk, there in zip(disks, machine.disks, strict=False)]


class _SomeFailed(BathotypeError):
    code = "instances-failed"

    def __init__(self, failed: int, total: int, some: str) -> None:
        again = f"`operations log` has more; `operations retry` launches {agree(failed, 'it', 'them')} again."
        if failed < total:
            what, advice = f"{failed} of {total} instances did not come up.", f"Those that did are running. {again}"
        else:
            what = "The instance did not come up." if total == 1 else f"None of the {total} instances came up."
            advice = again
        super().__init__(f"{what} {some}", advice=advice)
