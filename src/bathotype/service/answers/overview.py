"""What a person sees first of an account."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from bathotype.core.lifecycle import sentences
from bathotype.service.access.principals import Principal
from bathotype.service.answers.calendar import dates_of
from bathotype.service.answers.needs import is_near, needs_of
from bathotype.service.answers.operations import operation_answers
from bathotype.service.answers.views import RunCount, behind_of, events, newest_of, run_counts, sentence_answer
from bathotype.service.history import Course, course_of
from bathotype.service.records import (
    Instance,
    Line,
    Operation,
    Version,
)
from bathotype.service.records.base import utcnow
from bathotype.service.records.fleet import IS_PRESENT
from bathotype.wire import overview as wire

HISTORY = timedelta(days=120)


def account_overview(session: Session, caller: Principal) -> wire.Overview:
    """What is seen first of an account."""
    now = utcnow()
    lines = session.scalars(select(Line).where(Line.account_id == caller.account_id).order_by(Line.name)).all()
    counts = run_counts(session, [line.id for line in lines])
    course = course_of(session, [line.id for line in lines], (now - HISTORY).date())
    mine = Instance.account_id == caller.account_id
    states = _grouped(session, Instance.state, mine, IS_PRESENT)
    dates = [d for d in dates_of(session, caller) if is_near(d)]
    needs = list(needs_of(session, caller, dates))
    running = session.scalars(
        select(Operation)
        .where(Operation.account_id == caller.account_id, Operation.state.in_(("queued", "running")))
        .order_by(Operation.id.desc())
        .limit(20)
    ).all()
    run = session.scalar(select(func.count(Instance.version_id.distinct())).where(mine, IS_PRESENT)) or 0
    sentence = sentences.of_today(
        needs=len(needs),
        dates=len(dates),
        running=sum(states.values()),
        versions=run,
        failed=sum(need.kind == "operation" for need in needs),
    )
    return wire.Overview(
        account=caller.account,
        sentence=sentence_answer(sentence),
        needs=needs,
        running_operations=operation_answers(session, running),
        dates=dates,
        lines=[_summary(line, counts.get(line.id, []), course) for line in lines],
        days=course.days,
        regions=_grouped(session, Instance.region, mine, IS_PRESENT),
        states=states,
        versions=_grouped(session, Version.state, Version.line_id.in_([line.id for line in lines])),
        last_events=events(session, caller, most=8),
    )


def _grouped(session: Session, column: Any, *where: Any) -> dict[str, int]:
    return dict(session.execute(select(column, func.count()).where(*where).group_by(column).order_by(column)).all())


def _summary(line: Line, counts: list[RunCount], course: Course) -> wire.LineSummary:
    newest = newest_of(counts)
    current = [0] * len(course.days)
    older = [0] * len(course.days)
    for number, count in enumerate(counts):
        into = current if number == newest else older
        for day, running in enumerate(course.counts.get(count.version_id, ())):
            into[day] += running
    return wire.LineSummary(
        name=line.name,
        about=line.about,
        newest=counts[newest].number if newest is not None else None,
        versions=len(counts),
        running=sum(c.running for c in counts),
        behind=behind_of(counts),
        older=older,
        current=current,
    )
