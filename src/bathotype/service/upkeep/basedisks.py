"""Duty: remove base disks of versions that take no launches any more, once no launch is under way."""

from __future__ import annotations

from sqlalchemy import select, update

from bathotype.core.lifecycle.states import VersionState
from bathotype.service.records import BaseDisk, Instance, Version
from bathotype.service.upkeep.duty import Duty, Turn, seldom


def _run(turn: Turn) -> None:
    busy = select(Instance.version_id).where(Instance.state.in_(("pending", "starting")))
    with turn.database.sessions.begin() as session:
        rows = session.scalars(
            select(BaseDisk)
            .join(Version)
            .where(
                BaseDisk.state == "ready",
                Version.state.in_((VersionState.RETIRED, VersionState.PURGED)),
                BaseDisk.version_id.not_in(busy),
            )
        ).all()
        # Launches that were killed have left their count behind.
        session.execute(
            update(BaseDisk).where(BaseDisk.launching > 0, BaseDisk.version_id.not_in(busy)).values(launching=0)
        )
    for row in rows:
        with turn.alone(f"base disk {row.id}"):
            site = turn.reach.site(row.region, turn.reach.account_name(row.account_id))
            for disk in row.all_disks:
                site.delete_disk(disk)
            with turn.database.sessions.begin() as session:
                session.execute(update(BaseDisk).where(BaseDisk.id == row.id).values(state="removed"))


DUTY = Duty("base-disks", _run, period=seldom)
