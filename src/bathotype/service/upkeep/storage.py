"""Duty: measure once a day what accounts and lines need of the regions' stores."""

from __future__ import annotations

from bathotype.service.records.base import utcnow
from bathotype.service.storage import EVERY, last_measured, measure_region, thin_measures
from bathotype.service.upkeep.duty import Duty, Turn


def _run(turn: Turn) -> None:
    now = utcnow()
    with turn.database.reads() as session:
        last = last_measured(session)
    if last is not None and now - last < EVERY:
        return
    for region in turn.reach.regions:
        with turn.alone(f"the store of {region}"):
            measure_region(turn.database, turn.reach, region, now, turn.failed)
    with turn.database.sessions.begin() as session:
        thin_measures(session, now)


DUTY = Duty("storage", _run, period=lambda _: 600.0, deadline=3600.0)
