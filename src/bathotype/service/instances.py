"""Instances of an account: finding them, and stopping, starting and terminating them."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from bathotype.core.errors import NotFound, Refused
from bathotype.core.lifecycle.instances import InstanceVerb
from bathotype.service import audit
from bathotype.service.database import Database
from bathotype.service.identities import forget_identity
from bathotype.service.records import Instance
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.records.fleet import IS_PRESENT, PRESENT
from bathotype.sites.protocol import Site

_AT_A_TIME = 1000
#: The kind of alert about a machine that somebody started at its site, and that the launch rules do not admit.
NOT_ADMITTED = "not-admitted"


def find_instance(session: Session, account_id: str, name: str) -> Instance:
    """An instance of an account by id or name.  Raises `NotFound`, or `Refused` where several have the name."""
    query = select(Instance).where(Instance.account_id == account_id)
    row = session.scalar(query.where(Instance.id == name))
    if row is None:
        found = list(session.scalars(query.where(Instance.name == name).order_by(Instance.id.desc())))
        present = [r for r in found if r.state in PRESENT]
        if len(present) > 1:
            raise Refused(
                f"Several instances are named {name!r}.",
                advice=f"Name one by its id: {', '.join(r.id for r in present)}.",
            )
        row = next(iter(present or found), None)
    if row is None:
        raise NotFound(f"There is no instance {name!r}.", advice="`bathotype instances list` shows them.")
    return row


def find_instances(session: Session, account_id: str, names: Sequence[str]) -> list[str]:
    """The ids of instances that are named by id or name, each once.  Raises as `find_instance` does."""
    known: set[str] = set()
    for at in range(0, len(names), _AT_A_TIME):
        part = names[at : at + _AT_A_TIME]
        known |= set(
            session.scalars(select(Instance.id).where(Instance.account_id == account_id, Instance.id.in_(part)))
        )
    found = [name if name in known else find_instance(session, account_id, name).id for name in names]
    return list(dict.fromkeys(found))


def change_instance(database: Database, site: Site, instance_id: str, verb: InstanceVerb, actor: str) -> None:
    """Do something with an instance at its site, and record it.

    No lock is held while the site is asked: it may take its time.  Of two that do the same at once, one records it; doing it
    again changes nothing.  Raises `Refused` where the instance's state forbids it, and the site's errors.
    """
    with database.sessions.begin() as session:
        row = _locked(session, instance_id)
        if row.state == verb.done:
            return  # done before a crash
        if row.state not in verb.from_states or row.site_machine is None:
            raise Refused(
                f"{row.name} is {row.state}.",
                advice="Wait until it runs, or cancel its launch." if row.state in ("pending", "starting") else "",
                code="state-forbids",
            )
        row.acted_at = func.clock_timestamp()  # what the site listed before is out of date
        machine = row.site_machine
        keep = kept_disks(row)
    if verb.name == "terminate":
        site.delete_machine(machine, keep=keep)
    else:
        site.power(machine, "on" if verb.name == "start" else "off")
    with database.sessions.begin() as session:
        row = _locked(session, instance_id)
        if row.state in (verb.done, "terminated"):
            return
        if verb.name == "terminate":
            row.ended_at = utcnow()
            forget_gone(session, row)
        before, row.state, row.reason = row.state, verb.done, None
        row.acted_at = func.clock_timestamp()
        audit.record(
            session,
            row.account_id,
            actor,
            f"instance.{verb.done}",
            row.name,
            before={"state": before},
            after={
                "state": verb.done,
                "instance": row.id,
                **({"kept_disks": keep} if keep and verb.name == "terminate" else {}),
            },
        )


def note_differences(session: Session, instance: Instance, differ: list[str]) -> None:
    """Raise an alert for an instance that is not as it was asked for; clear it where it is."""
    subject = alert_subject(instance)
    if differ:
        text = f"{instance.name} is not as its first-boot settings say. {' '.join(differ)}"
        audit.raise_alert(session, instance.account_id, "first-boot-differs", subject, text)
    else:
        audit.clear_alert(session, instance.account_id, "first-boot-differs", subject)


def alert_subject(instance: Instance) -> str:
    """What an alert about an instance is about: its name may occur in other regions."""
    return f"{instance.name} in {instance.region}"


def forget_gone(session: Session, row: Instance) -> None:
    """End what depends on an instance that is gone: its identity is free, and alerts about it are over."""
    forget_identity(session, row.account_id, str(row.site_machine))
    end_alerts(session, row)


def end_alerts(session: Session, row: Instance) -> None:
    """End the alerts about what an instance is."""
    note_differences(session, row, [])
    audit.clear_alert(session, row.account_id, NOT_ADMITTED, alert_subject(row))


def one_launch_at_a_time(session: Session, account_id: str, region: str) -> None:
    """Wait, until the transaction ends, for others that launch in a region: each sees what the one before has taken."""
    key = func.hashtextextended(f"launch {account_id} {region}", 0)
    session.execute(select(func.pg_advisory_xact_lock(key)))


def names_in_use(session: Session, account_id: str, region: str, names: Sequence[str]) -> list[str]:
    """Those of some names that present instances of a region have."""
    here = (Instance.account_id == account_id, Instance.region == region, Instance.name.in_(names), IS_PRESENT)
    return sorted(session.scalars(select(Instance.name).where(*here)))


def addresses_in_use(session: Session, account_id: str, region: str) -> set[str]:
    """Addresses that present instances of a region have, or were given for their first boot."""
    given = Instance.first_boot["network"]["addresses"]
    here = (Instance.account_id == account_id, Instance.region == region, IS_PRESENT)
    found = set()
    for address, static in session.execute(select(Instance.address, given).where(*here)):
        found |= {address} if address else set()
        found |= {str(one).partition("/")[0] for one in static or ()}
    return found


def kept_disks(row: Instance) -> list[str]:
    """Ids at the site of the disks that stay when an instance is terminated."""
    return [disk["disk"] for disk in row.disks if disk.get("kept") and disk.get("disk")]


def _locked(session: Session, instance_id: str) -> Instance:
    return session.get_one(Instance, instance_id, with_for_update=CHANGE)
