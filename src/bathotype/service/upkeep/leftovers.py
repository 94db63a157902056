"""Duty: remove what operations that have ended left at the sites because their own clean-up failed.

All of it carries the operation's tag: snapshots and disks, throwaway machines, and machines of instances that never ran.
"""

from __future__ import annotations

import contextlib
from collections import defaultdict
from datetime import timedelta

from sqlalchemy import select, update

from bathotype.core.errors import NotFound
from bathotype.service.everykind import KINDS
from bathotype.service.instances import kept_disks
from bathotype.service.records import Instance, Operation
from bathotype.service.records.base import utcnow
from bathotype.service.upkeep.duty import Duty, Turn, seldom
from bathotype.sites.protocol import Site, SiteMachine

_LOOKED_BACK = timedelta(days=7)
_TAG, _INSTANCE, _BASE = "bathotype-operation", "bathotype-instance", "bathotype-base"
#: Instances whose machine is not wanted.
_OVER = ("failed", "terminated")


def _run(turn: Turn) -> None:
    for name, account_id in turn.accounts():
        for region, ended in _ended(turn, account_id).items():
            with turn.alone(f"leftovers of {name} in {region}"):
                _clear(turn, turn.reach.site(region, name), region, ended)


def _ended(turn: Turn, account_id: str) -> dict[str, list[str]]:
    """Ids of operations that have ended and may have left something, by region."""
    found: dict[str, list[str]] = defaultdict(list)
    with turn.database.reads() as session:
        rows = session.execute(
            select(Operation.id, Operation.params["region"].as_string()).where(
                Operation.account_id == account_id,
                Operation.ended_at > utcnow() - _LOOKED_BACK,
                ~Operation.leftovers_removed,
            )
        )
        for operation, region in rows:
            found[region].append(operation)
    return found


def _clear(turn: Turn, site: Site, region: str, ended: list[str]) -> None:
    """Each operation fails alone; the machines of a region are listed once for all of them."""
    machines: dict[str, list[SiteMachine]] = defaultdict(list)
    for machine in site.machines(region):
        machines[machine.tags.get(_TAG, "")].append(machine)
    for operation in ended:
        with turn.alone(f"leftovers of {operation}"):
            _remove(turn, site, region, operation, machines[operation])


def _remove(turn: Turn, site: Site, region: str, operation: str, machines: list[SiteMachine]) -> None:
    with turn.database.reads() as session:
        query = select(Instance.id).where(Instance.operation_id == operation, Instance.state.not_in(_OVER))
        wanted = set(session.scalars(query))
        launched = session.scalars(select(Instance).where(Instance.operation_id == operation))
        kept = {disk for row in launched for disk in kept_disks(row)}
        row = session.get_one(Operation, operation)
        kind = KINDS[row.kind]
        until = kind.stays_until(kind.memo_type.model_validate(row.memo))
    if until is not None and until > utcnow():
        return  # it is looked at again then
    for machine in machines:
        if machine.tags.get(_INSTANCE) in wanted:
            kept |= {disk.id for disk in machine.disks}
        else:
            site.delete_machine(machine.id)
    for disk in site.disks(region, tag=(_TAG, operation)):
        if disk.id not in kept and _BASE not in disk.tags:  # a base disk outlives the launch that made it
            site.delete_disk(disk.id)
    _mend(turn, site, operation)
    with turn.database.sessions.begin() as session:
        session.execute(update(Operation).where(Operation.id == operation).values(leftovers_removed=True))


def _mend(turn: Turn, site: Site, operation: str) -> None:
    """What the kind itself knows to be set right: a source that was shut down and not started again."""
    with turn.database.reads() as session:
        row = session.get_one(Operation, operation)
        kind = KINDS[row.kind]
        params, memo = kind.params_type.model_validate(row.params), kind.memo_type.model_validate(row.memo)
        outcome = row.state
    with contextlib.suppress(NotFound):  # the machine is gone
        kind.mend_later(site, params, memo, outcome)


DUTY = Duty("leftovers", _run, period=seldom)
