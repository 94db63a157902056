"""Duty: compare the machines of each site with the recorded instances, a page of each at a time.

Both sides come in the order of the site's machine ids, so that neither is ever in memory as a whole.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta
from itertools import islice
from typing import Any

from sqlalchemy import func, select, update
from sqlalchemy.orm import Session

from bathotype.core.errors import BathotypeError
from bathotype.core.firstboot.checks import differences
from bathotype.core.firstboot.settings import first_boot_of
from bathotype.core.guest.agent import AgentRefused, GuestAgent
from bathotype.service import audit
from bathotype.service.admission import judge
from bathotype.service.database import Database
from bathotype.service.guests.firstboot import read_seen
from bathotype.service.identities import read_identity, remember_identity
from bathotype.service.instances import NOT_ADMITTED, alert_subject, end_alerts, forget_gone, note_differences
from bathotype.service.records import Account, Alert, BaseDisk, Instance, Operation, Version
from bathotype.service.records.base import CHANGE, new_id, utcnow
from bathotype.service.shares import shares_of_version
from bathotype.service.upkeep.duty import Duty, Turn
from bathotype.service.usable import usable_of
from bathotype.sites.protocol import Site, SiteMachine

_ASK_AGAIN = timedelta(minutes=5)
FOLLOWED = ("running", "stopped", "lost")
_PAGE = 500
_ASKED_PER_TURN = 50


class Follower:
    """Compares one account's machines in one region with its instances."""

    def __init__(self, database: Database, account_id: str, region: str) -> None:
        self._database, self._account, self._region = database, account_id, region
        self._began: datetime | None = None

    def compare(self, machines: Iterator[SiteMachine]) -> None:
        """Go through both sides once.  ``machines`` come in ascending order of their ids, asked for as they are needed."""
        behind = ""  # everything up to here has been compared
        with self._database.reads() as session:
            self._began = session.scalar(select(func.clock_timestamp()))
        while True:
            page = list(islice(machines, _PAGE))
            last = page[-1].id if len(page) == _PAGE else None
            self._page(behind, last, {m.id: m for m in page})
            if last is None:
                return
            behind = last

    def _page(self, after: str, last: str | None, present: dict[str, SiteMachine]) -> None:
        with self._database.sessions.begin() as session:
            mine = (Instance.account_id == self._account, Instance.region == self._region)
            here = [*mine, Instance.site_machine.is_not(None), Instance.site_machine > after]
            if last is not None:
                here.append(Instance.site_machine <= last)
            followed = session.scalars(
                select(Instance).where(*here, Instance.state.in_(FOLLOWED)).order_by(Instance.site_machine)
            )
            same = []
            for instance in followed.all():
                machine = present.get(str(instance.site_machine))
                if machine is not None and _unchanged(instance, machine):
                    same.append(instance.id)
                else:
                    self._follow(session, instance.id, machine)
            if same:
                free = select(Instance.id).where(Instance.id.in_(same)).with_for_update(**CHANGE, skip_locked=True)
                session.execute(
                    update(Instance)
                    .where(Instance.id.in_(free))
                    .values(seen_at=utcnow())
                    .execution_options(synchronize_session=False)
                )
            self._judge_again(session, present)
            self._look_for_new(session, present)

    def _look_for_new(self, session: Session, present: dict[str, SiteMachine]) -> None:
        """Machines that somebody made from one of our base disks without us."""
        made_of = {m.created_from for m in present.values() if m.created_from}
        if not made_of:
            return
        of_base = select(BaseDisk.site_disk, BaseDisk.version_id).where(BaseDisk.site_disk.in_(made_of))
        bases = dict(session.execute(of_base).all())
        # Machines that a launch is just making carry the instance's id before we record theirs.
        fresh = [m for m in present.values() if m.created_from in bases and "bathotype-instance" not in m.tags]
        known = set(
            session.scalars(select(Instance.site_machine).where(Instance.site_machine.in_([m.id for m in fresh])))
        )
        temporary = self._temporary(session, fresh)
        for machine in fresh:
            if machine.id not in known and machine.id not in temporary:
                self._found(session, machine, bases[machine.created_from])

    def _temporary(self, session: Session, machines: list[SiteMachine]) -> set[str]:
        """Ids of machines that an operation has made for its own time: builds, throwaway instances.

        The tag alone is not believed, for anybody at the site can set it: the operation is the account's, and has not ended
        or not cleaned up.
        """
        tagged = {m.id: m.tags["bathotype-operation"] for m in machines if m.tags.get("bathotype-operation")}
        if not tagged:
            return set()
        under_way = Operation.state.in_(("queued", "running")) | ~Operation.leftovers_removed
        of_ours = select(Operation.id).where(
            Operation.id.in_(set(tagged.values())), Operation.account_id == self._account, under_way
        )
        busy = set(session.scalars(of_ours))
        return {machine for machine, operation in tagged.items() if operation in busy}

    def _follow(self, session: Session, instance_id: str, machine: SiteMachine | None) -> None:
        # If somebody changes the instance now, or has changed it since the list was requested, the list is out of date:
        # the next turn compares it again.
        instance: Instance | None = session.scalar(
            select(Instance)
            .where(
                Instance.id == instance_id,
                Instance.state.in_(FOLLOWED),
                Instance.acted_at.is_(None) | (Instance.acted_at < self._began),
            )
            .with_for_update(**CHANGE, skip_locked=True)
            .execution_options(populate_existing=True)
        )
        if instance is None:
            return
        if machine is None:
            change(session, instance, "terminated", "It was deleted at the site.")
            text = f"{instance.name} in {instance.region} was deleted at the site, not by this service."
            audit.raise_alert(session, instance.account_id, "deleted-at-site", alert_subject(instance), text)
            instance.ended_at = utcnow()
            forget_gone(session, instance)
            return
        instance.seen_at = utcnow()
        if machine.name != instance.name:
            audit.record(
                session, instance.account_id, "site", "instance.renamed", instance.id,
                before={"name": instance.name}, after={"name": machine.name},
            )  # fmt: skip
            end_alerts(session, instance)  # under this name
            instance.name = machine.name
            if instance.origin == "found":
                self._admitted(session, machine, instance)
        instance.address = machine.address
        if _state(machine) != instance.state:
            change(session, instance, _state(machine), None)

    def _found(self, session: Session, machine: SiteMachine, version_id: str) -> None:
        instance = Instance(
            id=new_id("in"),
            account_id=self._account,
            version_id=version_id,
            name=machine.name,
            region=machine.region,
            zone=machine.zone,
            machine_size=machine.machine_size,
            state=_state(machine),
            origin="found",
            site_machine=machine.id,
            address=machine.address,
            seen_at=utcnow(),
        )
        session.add(instance)
        self._admitted(session, machine, instance)
        audit.record(
            session, self._account, "site", "instance.found", machine.name,
            after={"instance": instance.id, "machine": machine.id},
        )  # fmt: skip

    def _judge_again(self, session: Session, present: dict[str, SiteMachine]) -> None:
        """Rules and shares may admit by now what they did not."""
        raised = select(Alert.subject).where(
            Alert.account_id == self._account, Alert.kind == NOT_ADMITTED, Alert.cleared_at.is_(None)
        )
        subjects = set(session.scalars(raised))
        if not subjects:
            return
        found = select(Instance).where(
            Instance.account_id == self._account,
            Instance.region == self._region,
            Instance.origin == "found",
            Instance.state.in_(FOLLOWED),
            Instance.site_machine.in_(present),
        )
        for instance in session.scalars(found).all():
            if alert_subject(instance) in subjects:
                self._admitted(session, present[str(instance.site_machine)], instance)

    def _admitted(self, session: Session, machine: SiteMachine, instance: Instance) -> None:
        """Report a machine that somebody started at the site and that the launch rules would have refused."""
        version, account = session.get_one(Version, instance.version_id), session.get_one(Account, self._account)
        shares = shares_of_version(session, self._account, version)
        seen = usable_of(session, version, shares)
        judged = judge(
            session, (account.id, account.name), seen, machine.region, machine.tags,
            subnet=machine.subnet, firewalls=machine.firewalls, public=machine.public_address is not None,
        )  # fmt: skip
        reasons = judged.decision.reasons_for("refuse")
        if seen.owner_id != self._account and not shares:
            reasons.append(f"{seen.owner}/{seen.reference} is not shared with {account.name}.")
        if reasons:
            why = f"{machine.name} was started at the site, and the rules do not admit it. {' '.join(reasons)}"
            audit.raise_alert(session, self._account, NOT_ADMITTED, alert_subject(instance), why)
        else:
            audit.clear_alert(session, self._account, NOT_ADMITTED, alert_subject(instance))

    def silent(self, why: str) -> None:
        """The site does not answer: nobody knows whether what ran there still does."""
        with self._database.sessions.begin() as session:
            audit.raise_alert(session, self._account, "site-silent", self._region, why)
            query = select(Instance).where(
                Instance.account_id == self._account,
                Instance.region == self._region,
                Instance.state.in_(("running", "stopped")),
            )
            free = query.with_for_update(**CHANGE, skip_locked=True)
            for instance in session.scalars(free.execution_options(yield_per=_PAGE)):
                change(session, instance, "lost", "The site does not answer.")

    def answers(self) -> None:
        """The site answers again."""
        with self._database.sessions.begin() as session:
            audit.clear_alert(session, self._account, "site-silent", self._region)

    def to_ask(self, most: int) -> list[Instance]:
        """Running instances whose agent was asked who it is the longest ago, or never."""
        with self._database.sessions() as session:
            query = select(Instance).where(
                Instance.account_id == self._account,
                Instance.region == self._region,
                Instance.state == "running",
                Instance.site_machine.is_not(None),
                Instance.asked_at.is_(None) | (Instance.asked_at < func.now() - _ASK_AGAIN),
            )
            return list(session.scalars(query.order_by(Instance.asked_at.nulls_first()).limit(most)))


def _state(machine: SiteMachine) -> str:
    return "running" if machine.state == "running" else "stopped"


def _unchanged(instance: Instance, machine: SiteMachine) -> bool:
    return (instance.name, instance.address, instance.state) == (machine.name, machine.address, _state(machine))


def change(session: Session, instance: Instance, state: str, reason: str | None) -> None:
    """An instance's state becomes another, with an event."""
    audit.record(
        session, instance.account_id, "site", f"instance.{state}", instance.name,
        before={"state": instance.state}, after={"state": state, "instance": instance.id, "reason": reason},
    )  # fmt: skip
    instance.state, instance.reason = state, reason


def _run(turn: Turn) -> None:
    for name, account_id in turn.accounts():
        for region in turn.reach.regions:
            with turn.alone(f"instances of {name} in {region}"):
                _region(turn, region, name, account_id)


def _region(turn: Turn, region: str, account: str, account_id: str) -> None:
    site, follower = turn.reach.site(region, account), Follower(turn.database, account_id, region)
    try:
        follower.compare(iter(site.machines(region)))
    except BathotypeError as error:
        follower.silent(f"The site of {region} does not answer: {error.message}")
        return
    follower.answers()
    for instance in follower.to_ask(_ASKED_PER_TURN):
        with turn.alone(instance.name):
            _ask(turn, site, account_id, instance)


def _ask(turn: Turn, site: Site, account_id: str, instance: Instance) -> None:
    """Ask an instance's agent who it is; one that does not answer is asked again with a later turn."""
    this = update(Instance).where(Instance.id == instance.id)
    with turn.database.sessions.begin() as session:  # before it is asked: whatever it answers, the others' turn comes
        session.execute(this.values(asked_at=utcnow()))
    try:
        machine = site.machine(str(instance.site_machine))
        with site.agent(machine.id, timeout=3) as agent:
            found = read_identity(agent)
            differ = _still_differs(agent, instance, found) if instance.differences else []
    except (BathotypeError, AgentRefused):
        return
    with turn.database.sessions.begin() as session:
        session.execute(this.values(identity=found, differences=differ))
        if instance.differences:
            note_differences(session, instance, differ)
        remember_identity(session, account_id, machine, found)


def _still_differs(agent: GuestAgent, instance: Instance, identity: dict[str, Any]) -> list[str]:
    """What differed after the first boot may have come right since."""
    settings = first_boot_of(instance.first_boot)
    return differences(settings, instance.host_name, read_seen(agent, settings, identity))


DUTY = Duty("instances", _run)
