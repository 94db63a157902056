"""Duty: index the chunks of versions that were recorded before there was an index, or whose worker was killed just then."""

from __future__ import annotations

from sqlalchemy import select

from bathotype.service.chunks import add_version
from bathotype.service.database import try_shared_lock
from bathotype.service.records import Replica
from bathotype.service.upkeep.duty import Duty, Turn


def _run(turn: Turn) -> None:
    with turn.database.reads() as session:
        waiting = session.execute(
            select(Replica.version_id, Replica.region)
            .where(Replica.state == "ready", ~Replica.indexed)
            .order_by(Replica.region, Replica.version_id)
        ).all()
    for version, region in waiting:
        with turn.alone(f"{version} in {region}"), turn.database.held_connection() as connection:
            if try_shared_lock(connection, f"region {region}"):  # else a purge is at work there: the next turn
                add_version(turn.database, region, version, turn.reach.store(region).get_manifest(version))


DUTY = Duty("chunks", _run, period=lambda settings: 900.0, deadline=1800.0)
