"""Coordination of transfers between regions: which operation moves a chunk, and when a link is free."""

from __future__ import annotations

import time
from collections.abc import Callable
from datetime import timedelta
from typing import TypeVar

from sqlalchemy import bindparam, delete, func, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from bathotype.core.errors import Unavailable
from bathotype.core.store.manifest import Place
from bathotype.service.operations.context import WorkContext
from bathotype.service.reach import Reach
from bathotype.service.records import Arrival, Link, Replica
from bathotype.service.records.base import CHANGE

Result = TypeVar("Result")
_SETTLE = 0.5
_FIRST_PAUSE, _LONGEST_PAUSE = 1.0, 15.0
_SMOOTH = 0.3


class ArrivalLedger:
    """The `Ledger` of one operation for one region, in the database that all workers share."""

    def __init__(self, context: WorkContext, region: str) -> None:
        self._context, self._region = context, region

    def claim(self, digests: list[bytes]) -> dict[bytes, Place | None]:
        """See `bathotype.core.store.transfer.Ledger`."""
        if not digests:
            return {}
        mine = self._context.id
        with self._context.session() as session:
            rows = [
                {"region": self._region, "digest": d, "operation_id": mine, "offset": 0, "length": 0}
                for d in sorted(digests)
            ]
            session.execute(insert(Arrival).values(rows).on_conflict_do_nothing())
            found = session.execute(
                select(Arrival.digest, Arrival.operation_id, Arrival.pack, Arrival.offset, Arrival.length).where(
                    Arrival.region == self._region, Arrival.digest.in_(digests)
                )
            )
            return {
                digest: (pack, offset, length) if pack else None
                for digest, owner, pack, offset, length in found
                if pack or owner == mine
            }

    def arrived(self, pack: str, chunks: list[tuple[bytes, int, int]]) -> None:
        """See `bathotype.core.store.transfer.Ledger`."""
        self._context.must_hold()
        with self._context.session() as session:
            session.connection().execute(
                update(Arrival.__table__)  # type: ignore[arg-type]
                .where(Arrival.region == self._region, Arrival.digest == bindparam("d"))
                .values(pack=pack, offset=bindparam("o"), length=bindparam("n")),
                [{"d": name, "o": offset, "n": length} for name, offset, length in chunks],
            )

    def wait(self) -> None:
        """See `bathotype.core.store.transfer.Ledger`."""
        self._context.check()
        time.sleep(_SETTLE)


class LinkPace:
    """Keeps to the bandwidth limit of the line between two regions, over all workers and operations.

    Whoever wants to send takes the next free moment of the line: requests of several operations take turns, so none
    is starved however much another has to move.
    """

    def __init__(self, context: WorkContext, source: str, target: str) -> None:
        self._context, self._source, self._target = context, source, target
        self._limit = context.settings.places.link(source, target).bytes_per_second
        self._began, self.moved = time.monotonic(), 0
        with context.session() as session:
            session.execute(insert(Link).values(source=source, target=target, bytes_moved=0).on_conflict_do_nothing())

    def __call__(self, count: int) -> None:
        """Wait until ``count`` bytes may pass."""
        self._context.check()
        self.moved += count
        if self._limit is None:
            return
        takes = timedelta(seconds=count / self._limit)
        with self._context.session() as session:
            free = session.execute(
                update(Link)
                .where(Link.source == self._source, Link.target == self._target)
                .values(free_at=func.greatest(Link.free_at, func.clock_timestamp()) + takes)
                .returning(Link.free_at, func.clock_timestamp())
            ).one()
        time.sleep(max(0.0, (free[0] - takes - free[1]).total_seconds()))

    def note(self) -> None:
        """Remember how fast it went, for the next plan."""
        spent = time.monotonic() - self._began
        if self.moved < 1024 * 1024 or spent <= 0:
            return
        with self._context.session() as session:
            link = session.get_one(Link, (self._source, self._target), with_for_update=CHANGE)
            rate = self.moved / spent
            link.rate = rate if link.rate is None else (1 - _SMOOTH) * link.rate + _SMOOTH * rate
            link.bytes_moved += self.moved


def sources_of(session: Session, reach: Reach, version_id: str, target: str) -> list[str]:
    """Regions that hold a sound replica of a version, nearest to the target first."""
    held = session.scalars(
        select(Replica.region).where(
            Replica.version_id == version_id, Replica.region != target, Replica.state.in_(("ready", "draining"))
        )
    )
    return sorted(held, key=lambda region: (reach.places.link(region, target).distance_ms, region))


def patiently(context: WorkContext, what: str, call: Callable[[], Result]) -> Result:
    """Do something that needs a region, and wait while the region cannot be reached; it can be cancelled while it waits."""
    pause, logged = _FIRST_PAUSE, False
    while True:
        try:
            return call()
        except Unavailable as error:
            if not logged:
                context.log(f"{what} waits: {error.message}", "warning")
                logged = True
            context.check()
            time.sleep(pause)
            pause = min(2 * pause, _LONGEST_PAUSE)
        context.check()


def forget_arrivals(session: Session, operation_id: str) -> None:
    """Free the chunks that an operation claimed and did not move, when the operation ends."""
    session.execute(delete(Arrival).where(Arrival.operation_id == operation_id))
