"""The API's answers about lines."""

from __future__ import annotations

from functools import cache

from sqlalchemy import bindparam, func, select
from sqlalchemy.orm import Session

from bathotype.core.lifecycle.states import VersionState
from bathotype.service.answers.rendered import body, counted, rendered
from bathotype.service.records import Account, Instance, Line, Version
from bathotype.service.records.fleet import IS_PRESENT
from bathotype.service.statements import Statement
from bathotype.wire import versions as wire

_NEWEST = (
    select(Version.number)
    .where(Version.line_id == Line.id, Version.state == VersionState.RELEASED, ~Version.pin_only)
    .order_by(Version.sort_key.desc())
    .limit(1)
)
# Counted for each version in the index of those that are present, and then added up: a third of what a join takes.
_RUNNING = select(counted(Instance.version_id == Version.id, IS_PRESENT).label("running")).where(
    Version.line_id == Line.id
)
_LINE = rendered(
    wire.Line,
    account=Account.name,
    name=Line.name,
    about=Line.about,
    demands=Line.demands,
    proven_first=Line.proven_first,
    newest=_NEWEST.scalar_subquery(),
    versions=counted(Version.line_id == Line.id),
    running=select(func.coalesce(func.sum(_RUNNING.correlate(Line).lateral().c.running), 0)).scalar_subquery(),
    created_at=Line.created_at,
)
_LINES = select(Line.name, body(_LINE)).join(Account, Account.id == Line.account_id)
_ONE = Statement(_LINES.where(Line.id == bindparam("line")))


#: What a list of lines can be sorted by, each different for all of an account.  Ids follow the time of their making.
_KEYS = {"name": Line.name, "made": Line.id}


@cache
def lines_of(*, sort: str, after: bool, most: int) -> Statement:
    """At most so many lines of the account ``caller``, in an order such as ``name`` or ``-made``; with ``after`` those that
    follow this ``key``."""
    key, descending = _KEYS[sort.removeprefix("-")], sort.startswith("-")
    query = _LINES.where(Line.account_id == bindparam("caller"))
    if after:
        query = query.where(key < bindparam("after") if descending else key > bindparam("after"))
    return Statement(query.add_columns(key.label("key")).order_by(key.desc() if descending else key).limit(most))


def line_answer(session: Session, line: Line) -> wire.Line:
    """A line, including uncommitted changes of the session."""
    session.flush()
    return wire.Line.model_validate_json(_ONE.first(session, line=line.id).body)
