"""Event check: whether each event of the audit trail follows from the one before, and none is missing at the end."""

from __future__ import annotations

from typing import Any

from sqlalchemy import func, select

from bathotype.service import audit, trailend
from bathotype.service.operations.kind import Kind, Memo, Params, Step
from bathotype.service.records import Event
from bathotype.wire.fleet import ChainCheck

_AT_ONCE, _MOST_TOLD = 2000, 100


class EventCheckParams(Params):
    """There is one trail."""


class EventCheckMemo(Memo):
    """How far it was read: the last event's number and digest, how many there were, and which do not follow."""

    event: int = 0
    digest: str = ""
    events: int = 0
    broken: list[int] = []
    kept_at: str = ""
    missing: str = ""


class EventCheck(Kind[EventCheckParams, EventCheckMemo]):
    """Reads the trail of all accounts from its beginning, in parts: a long transaction would hinder others."""

    name = "event-check"
    params_type, memo_type = EventCheckParams, EventCheckMemo
    steps = (Step("read", "Read every event", 9), Step("compare", "Compare the end with the one that was kept"))

    def read(self) -> None:
        """All that were there at the beginning, and those that came meanwhile."""
        context, memo = self.context, self.memo
        with context.database.reads() as session:
            total = session.scalar(select(func.count()).select_from(Event)) or 0
        while True:
            with context.database.reads() as session:
                part = audit.follow(session, memo.event, memo.digest, most=_AT_ONCE)
            if not part.events:
                return
            memo.event, memo.digest, memo.events = part.event, part.digest, memo.events + part.events
            memo.broken = (memo.broken + part.broken)[:_MOST_TOLD]
            self.save()
            context.check()
            context.progress(min(100, memo.events * 100 // max(total, 1)), 100)

    def compare(self) -> None:
        """Somebody may have removed the newest events, and made the rest fit."""
        held = trailend.kept(self.context.settings)
        if held is not None:
            with self.context.database.reads() as session:
                self.memo.kept_at, self.memo.missing = held.at, trailend.missed(session, held)
        self.save()

    def result(self) -> dict[str, Any]:
        memo = self.memo
        whole = not memo.broken and not memo.missing
        found = ChainCheck(
            whole=whole, broken_at=memo.broken, events=memo.events, end=memo.digest, kept_at=memo.kept_at,
            missing=memo.missing,
        )  # fmt: skip
        return found.model_dump(mode="json")
