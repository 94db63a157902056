"""Duty: index the chunks of versions that were recorded before there was an index, or whose worker was killed just then."""

from __future__ import annotations

from sqlalchemy import select

from bathotype.core.errors import BathotypeError
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
        turn.check()
        with turn.database.held_connection() as connection:
            if not try_shared_lock(connection, f"region {region}"):
                continue  # a purge is at work there: the next turn
            try:
                add_version(turn.database, region, version, turn.reach.store(region).get_manifest(version))
            except BathotypeError as error:
                turn.failed(f"{version} in {region}", error)


DUTY = Duty("chunks", _run, period=lambda settings: 900.0, deadline=1800.0)
