"""The API's answers about instances."""

from __future__ import annotations

from functools import cache
from typing import Any

from sqlalchemy import (
    ARRAY,
    CTE,
    ColumnElement,
    Select,
    String,
    bindparam,
    case,
    func,
    literal_column,
    or_,
    select,
    true,
)
from sqlalchemy.orm import InstrumentedAttribute, Session, aliased

from bathotype.core.lifecycle.states import VersionState
from bathotype.service.answers.rendered import body, rendered
from bathotype.service.records import Account, Instance, Line, Version
from bathotype.service.records.fleet import IS_PRESENT
from bathotype.service.statements import Statement
from bathotype.wire import fleet as wire

_PAGE = select(
    Instance.id, Instance.name, Instance.version_id, Instance.region, Instance.zone, Instance.state, Instance.origin,
    Instance.site_machine, Instance.address, Instance.identity, Instance.reason, Instance.launched_at, Instance.ended_at,
)  # fmt: skip
_newer = aliased(Version)
_OFFERED = (_newer.line_id == Version.line_id, _newer.state == VersionState.RELEASED, ~_newer.pin_only)


_REFERENCE: ColumnElement[str] = Line.name + "@" + Version.number
#: How the account ``caller`` writes a version: with its owner before it where that is another.
_WRITTEN = case((Line.account_id == bindparam("caller"), _REFERENCE), else_=Account.name + "/" + _REFERENCE)


_OWN_LINE = (
    select(Line.id).where(Line.account_id == bindparam("caller"), Line.name == bindparam("line")).scalar_subquery()
)


def _highest(column: Any) -> Select[Any]:
    """Of the newest version that a version's line offers."""
    return select(column).where(*_OFFERED).order_by(_newer.sort_key.desc()).limit(1).correlate(Version)


def _told(page: CTE) -> Statement:
    """The instances of a page, each rendered, for the account that is given as ``caller``; newest first.

    How far a version is behind is counted once, however many of the instances run it.
    """
    standing = (
        select(
            Version.id,
            _WRITTEN.label("written"),
            select(func.count())
            .where(*_OFFERED, _newer.sort_key > Version.sort_key)
            .correlate(Version)
            .scalar_subquery()
            .label("behind"),
            _highest(_newer.number).scalar_subquery().label("newest"),
        )
        .select_from(select(page.c.version_id).distinct().subquery("seen"))
        .join(Version, Version.id == literal_column("seen.version_id"))
        .join(Line, Line.id == Version.line_id)
        .join(Account, Account.id == Line.account_id)
        .cte("standing")
        .prefix_with("MATERIALIZED")
    )
    instance = rendered(
        wire.Instance,
        id=page.c.id,
        name=page.c.name,
        reference=standing.c.written,
        behind=standing.c.behind,
        newest=standing.c.newest,
        region=page.c.region,
        zone=page.c.zone,
        state=page.c.state,
        origin=page.c.origin,
        machine_id=page.c.site_machine,
        address=page.c.address,
        identity=page.c.identity,
        reason=page.c.reason,
        launched_at=page.c.launched_at,
        ended_at=page.c.ended_at,
    )
    return Statement(
        select(page.c.id, body(instance)).join(standing, standing.c.id == page.c.version_id).order_by(page.c.id.desc())
    )


_ONE = _told(_PAGE.where(Instance.id == bindparam("instance")).cte("page"))


def instance_answer(session: Session, instance: Instance, account_id: str) -> wire.Instance:
    """An instance as an account sees it, including uncommitted changes of the session."""
    session.flush()
    return wire.Instance.model_validate_json(_ONE.first(session, instance=instance.id, caller=account_id).body)


@cache
def instances_of(
    *, number: bool, versions: bool, states: bool, region: bool, behind: bool, find: bool, after: bool, most: int
) -> Statement:
    """At most so many instances of the account ``caller``, newest first, narrowed by what is asked for.

    ``number`` is for one version of the account's own: its values are ``line`` and ``number``.  The other values have the
    names of what is asked for, with ``like`` as the pattern for ``find``; without ``states`` the instances that are there or coming are listed.
    """
    page = _PAGE.where(Instance.account_id == bindparam("caller"))
    page = page.where(_among(Instance.state, "states") if states else IS_PRESENT)
    if number:
        version = select(Version.id).where(Version.line_id == _OWN_LINE, Version.number == bindparam("number"))
        page = page.where(Instance.version_id == version.scalar_subquery())
    if versions:
        page = page.where(_among(Instance.version_id, "versions"))
    if region:
        page = page.where(Instance.region == bindparam("region"))
    if behind:
        newest = _highest(_newer.sort_key).lateral()
        page = page.join(Version, Version.id == Instance.version_id).join(newest, true())
        page = page.where(Version.sort_key < newest.c.sort_key)
    if find:
        text = bindparam("find", type_=String)
        exact = [column == text for column in (Instance.id, Instance.site_machine, Instance.address)]
        page = page.where(or_(Instance.name.like(bindparam("like", type_=String), escape="/"), *exact))
    if after:
        page = page.where(Instance.id < bindparam("after"))
    return _told(page.order_by(Instance.id.desc()).limit(most).cte("page"))


def _among(column: InstrumentedAttribute[str], name: str) -> ColumnElement[bool]:
    return column == func.any(bindparam(name, type_=ARRAY(String)))


def _counts(*where: Any) -> Statement:
    """Instances of an account (``caller``) by version and state."""
    states = (
        select(Instance.version_id, Instance.state, func.count().label("count"))
        .where(Instance.account_id == bindparam("caller"), *where)
        .group_by(Instance.version_id, Instance.state)
        .cte("states")
    )
    by_version = (
        select(states.c.version_id, func.json_object_agg(states.c.state, states.c.count).label("counts"))
        .group_by(states.c.version_id)
        .cte("by_version")
    )
    count = rendered(wire.VersionCount, reference=_WRITTEN, version_state=Version.state, states=by_version.c.counts)
    return Statement(
        select(body(count))
        .select_from(by_version)
        .join(Version, Version.id == by_version.c.version_id)
        .join(Line, Line.id == Version.line_id)
        .join(Account, Account.id == Line.account_id)
        .order_by(Line.name.desc(), Version.sort_key.desc())
    )


COUNTS = _counts()
#: The same for one line of the account's own, by name.
COUNTS_OF_LINE = _counts(Instance.version_id.in_(select(Version.id).where(Version.line_id == _OWN_LINE)))
