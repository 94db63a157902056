"""Duty: look at repositories, and take over what was pushed."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

from sqlalchemy import select

from bathotype.service.builds import repositories
from bathotype.service.records import Repository
from bathotype.service.records.base import utcnow
from bathotype.service.upkeep.duty import Duty, Turn

_AT_ONCE = 4


def _run(turn: Turn) -> None:
    with turn.database.reads() as session:
        due = select(Repository.id).where(Repository.next_at <= utcnow()).order_by(Repository.next_at, Repository.id)
        ids = session.scalars(due).all()
    # One that is slow holds up no other.
    with ThreadPoolExecutor(_AT_ONCE) as threads:
        list(threads.map(lambda one: _read(turn, one), ids))


def _read(turn: Turn, repository: str) -> None:
    with turn.alone(f"repository {repository}"):
        repositories.read(turn.database, turn.reach, turn.settings, repository)


DUTY = Duty("repositories", _run, period=lambda settings: min(5.0, settings.reconcile_seconds))
