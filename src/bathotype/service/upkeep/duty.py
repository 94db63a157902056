"""What an upkeep duty is, and running one: alone in the whole installation, within its deadline, and failing by itself."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass

import structlog
from sqlalchemy import select
from sqlalchemy.exc import DBAPIError
from sqlalchemy.exc import TimeoutError as PoolTimeout

from bathotype.core.errors import BathotypeError
from bathotype.service.database import Database
from bathotype.service.reach import Reach
from bathotype.service.records import Account
from bathotype.service.settings import Settings

log = structlog.get_logger()


class Late(BathotypeError):
    """A duty has passed its deadline; the rest is left to its next turn."""

    code = "duty-late"


class Turn:
    """One run of one duty: what it works with, and its deadline."""

    def __init__(self, database: Database, reach: Reach, settings: Settings, deadline: float) -> None:
        self.database, self.reach, self.settings = database, reach, settings
        self._ends = time.monotonic() + deadline

    def check(self) -> None:
        """Raise `Late` once the deadline has passed: called between the items of a duty."""
        if time.monotonic() > self._ends:
            raise Late("The duty passed its deadline.", advice="It continues with its next turn.")

    def accounts(self) -> Iterator[tuple[str, str]]:
        """``(name, id)`` of every account that has access to sites."""
        with self.database.reads() as session:
            rows = session.execute(select(Account.name, Account.id).order_by(Account.name)).all()
        for name, account_id in rows:
            if name in self.reach.places.accounts:
                self.check()
                yield name, account_id

    def failed(self, what: str, error: Exception) -> None:
        """Log that one item failed; the others go on."""
        log.warning("upkeep failed for one item", what=what, error=f"{type(error).__name__}: {error}"[:300])

    @contextmanager
    def alone(self, what: str) -> Iterator[None]:
        """One item of many, which fails alone, whatever goes wrong.

        Raises `Late` where the deadline has passed; where the database is away the turn ends.
        """
        self.check()
        try:
            yield
        except (Late, DBAPIError, PoolTimeout):
            raise
        except Exception as error:
            self.failed(what, error)


def seldom(settings: Settings) -> float:
    """The period of what nobody waits for, such as removing what is not used any more: four comparisons with the sites."""
    return 4.0 * settings.reconcile_seconds


@dataclass(frozen=True)
class Duty:
    """Something that the service does again and again by itself.

    ``period`` is the pause between two turns and ``deadline`` how long a turn may take, both in seconds.
    """

    name: str
    run: Callable[[Turn], None]
    period: Callable[[Settings], float] = lambda settings: float(settings.reconcile_seconds)
    deadline: float = 600.0


def take_turn(duty: Duty, database: Database, reach: Reach, settings: Settings) -> bool:
    """Run a duty once, unless another worker runs it now; False then.

    What goes wrong ends this turn of this duty alone: it is logged, and the next turn starts anew.
    """
    with database.lock_for_now(f"duty {duty.name}") as mine:
        if not mine:
            return False
        try:
            duty.run(Turn(database, reach, settings, duty.deadline))
        except Late:
            log.warning("upkeep passed its deadline", duty=duty.name, deadline=duty.deadline)
        except Exception as error:
            log.warning("upkeep failed", duty=duty.name, error=str(error)[:300])
        return True
