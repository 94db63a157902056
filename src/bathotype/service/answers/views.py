"""What the views of an account, a line, a version and an instance share."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from bathotype.core.lifecycle import sentences
from bathotype.core.lifecycle.offers import (
    Caller,
)
from bathotype.core.lifecycle.states import VersionState
from bathotype.service.access.principals import Principal
from bathotype.service.answers.events import events_of
from bathotype.service.records import (
    Instance,
    Version,
)
from bathotype.service.records.fleet import IS_PRESENT
from bathotype.wire import overview as wire
from bathotype.wire.fleet import Event


def sentence_answer(sentence: sentences.Sentence) -> list[wire.Part]:
    """A sentence as it is sent."""
    return [wire.Part.model_validate(part, from_attributes=True) for part in sentence]


def offers_caller(caller: Principal) -> Caller:
    """Who asks, as offers are judged for."""
    return Caller(caller.actor, str(caller.role), caller.account, caller.verbs)


@dataclass(frozen=True)
class RunCount:
    """A version of the account's own, and how many instances of any account run it."""

    line_id: str
    version_id: str
    number: str
    offered: bool
    running: int


def run_counts(session: Session, lines: Iterable[str]) -> dict[str, list[RunCount]]:
    """The versions of lines, lowest first, each with what runs of it."""
    of_lines = Version.line_id.in_(list(lines))
    present = (
        select(Instance.version_id, func.count().label("running"))
        .where(IS_PRESENT, Instance.version_id.in_(select(Version.id).where(of_lines)))
        .group_by(Instance.version_id)
        .subquery()
    )
    rows = session.execute(
        select(Version.line_id, Version.id, Version.number, Version.state, Version.pin_only, present.c.running)
        .outerjoin(present, present.c.version_id == Version.id)
        .where(of_lines)
        .order_by(Version.sort_key)
    )
    out: dict[str, list[RunCount]] = {}
    for line, version, number, state, pin_only, running in rows:
        offered = state == VersionState.RELEASED and not pin_only
        out.setdefault(line, []).append(RunCount(line, version, number, offered, running or 0))
    return out


def newest_of(counts: list[RunCount]) -> int | None:
    """The place of the newest version that a bare line means."""
    return next((n for n in range(len(counts) - 1, -1, -1) if counts[n].offered), None)


def behind_of(counts: list[RunCount]) -> int:
    """How many instances run a version that is older than that."""
    newest = newest_of(counts)
    return sum(c.running for c in counts[:newest]) if newest is not None else 0


def events(session: Session, caller: Principal, *, most: int, subject: str = "") -> list[Event]:
    """The newest events of an account, or of one thing."""
    statement = events_of(subject=bool(subject), action=False, after=False, most=most)
    given = {"subject": subject} if subject else {}
    return [Event.model_validate_json(row.body) for row in statement.rows(session, caller=caller.account_id, **given)]
