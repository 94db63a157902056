"""The API's answers about events."""

from __future__ import annotations

from functools import cache
from typing import Any

from sqlalchemy import String, bindparam, func, or_, select

from bathotype.service.answers.rendered import body, rendered
from bathotype.service.records import Event
from bathotype.service.statements import Statement
from bathotype.wire import fleet as wire

_EVENT = rendered(
    wire.Event,
    id=Event.id,
    at=Event.at,
    actor=Event.actor,
    source=Event.source,
    action=Event.action,
    subject=Event.subject,
    before=Event.before,
    after=Event.after,
    digest=Event.digest,
)


@cache
def events_of(*, subject: bool, action: bool, after: bool, most: int) -> Statement:
    """At most so many events of the account ``caller``, newest first, narrowed by what is asked for.

    The other values have the names of what is asked for.
    """
    query = _narrowed(select(Event.id, body(_EVENT)), subject=subject, action=action)
    if after:
        query = query.where(Event.id < bindparam("after"))
    return Statement(query.order_by(Event.id.desc()).limit(most))


@cache
def events_counted(*, subject: bool, action: bool) -> Statement:
    """How many events there are of which `events_of` lists a page."""
    return Statement(_narrowed(select(func.count().label("count")), subject=subject, action=action))


def _narrowed(query: Any, *, subject: bool, action: bool) -> Any:
    query = query.where(Event.account_id == bindparam("caller"))
    if subject:
        query = query.where(Event.subject == bindparam("subject"))
    if action:
        part = bindparam("action", type_=String)
        query = query.where(or_(Event.action == part, func.starts_with(Event.action, part + ".")))
    return query
