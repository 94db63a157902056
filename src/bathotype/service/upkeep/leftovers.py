"""Duty: remove temporary disks at the sites of operations that have ended and whose own clean-up failed."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import select

from bathotype.core.errors import BathotypeError
from bathotype.service.records import Operation
from bathotype.service.records.base import utcnow
from bathotype.service.upkeep.duty import Duty, Turn

_LOOKED_BACK = timedelta(days=7)


def _run(turn: Turn) -> None:
    for name, account_id in turn.accounts():
        with turn.database.reads() as session:
            ended = session.execute(
                select(Operation.id, Operation.params["region"].as_string()).where(
                    Operation.account_id == account_id,
                    Operation.ended_at > utcnow() - _LOOKED_BACK,
                    ~Operation.leftovers_removed,
                )
            ).all()
        for operation, region in ended:
            turn.check()
            try:
                _remove(turn, name, operation, region)
            except BathotypeError as error:
                turn.failed(f"leftovers of {operation}", error)


def _remove(turn: Turn, account: str, operation: str, region: str) -> None:
    site = turn.reach.site(region, account)
    for disk in site.disks(region, tag=("bathotype-operation", operation)):
        site.delete_disk(disk.id)
    with turn.database.sessions.begin() as session:
        session.get_one(Operation, operation).leftovers_removed = True


DUTY = Duty("leftovers", _run)
