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
    tuple_,
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
    Instance.site_machine, Instance.address, Instance.identity, Instance.reason, Instance.differences, Instance.disks, Instance.attach, Instance.launched_at, Instance.ended_at,
)  # fmt: skip
_newer, _own = aliased(Version), aliased(Version)
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


def _told(page: CTE, *, descending: bool) -> Statement:
    """The instances of a page, each rendered, for the account that is given as ``caller``, in the order of the page.

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
        differences=page.c.differences,
        disks=page.c.disks,
        subnet=page.c.attach["subnet"].astext,
        firewalls=func.coalesce(page.c.attach["firewalls"], literal_column("'[]'::jsonb")),
        public_address=func.nullif(page.c.attach["public_address"].astext, "false"),
        launched_at=page.c.launched_at,
        ended_at=page.c.ended_at,
    )
    order = (page.c.key.desc(), page.c.id.desc()) if descending else (page.c.key, page.c.id)
    listed = select(page.c.id, page.c.key, body(instance)).join(standing, standing.c.id == page.c.version_id)
    return Statement(listed.order_by(*order))


_ONE = _told(
    _PAGE.add_columns(Instance.id.label("key")).where(Instance.id == bindparam("instance")).cte("page"), descending=True
)


def instance_answer(session: Session, instance: Instance, account_id: str) -> wire.Instance:
    """An instance as an account sees it, including uncommitted changes of the session."""
    session.flush()
    return wire.Instance.model_validate_json(_ONE.first(session, instance=instance.id, caller=account_id).body)


#: What a list of instances can be sorted by.  Ids follow the time of the launch.
_KEYS: dict[str, Any] = {
    "launched": Instance.id,
    "name": Instance.name,
    "state": Instance.state,
    "region": Instance.region,
    "version": Line.name + "@" + Version.sort_key,
}


@cache
def instances_of(*, sort: str, after: bool, most: int, **asked: bool) -> Statement:
    """At most so many instances of the account ``caller``, in an order such as ``name`` or ``-launched``, narrowed by what
    is asked for (see `_narrowed`).

    With ``after`` those that follow an instance: ``after_key``, what it is sorted by, and its id, ``after``.
    """
    descending, key = sort.startswith("-"), _KEYS[sort.removeprefix("-")]
    page = _narrowed(_PAGE, **asked)
    if sort.endswith("version"):
        page = page.join(Version, Version.id == Instance.version_id).join(Line, Line.id == Version.line_id)
    if after:
        there, last = tuple_(key, Instance.id), tuple_(bindparam("after_key"), bindparam("after"))
        page = page.where(there < last if descending else there > last)
    order = (key.desc(), Instance.id.desc()) if descending else (key, Instance.id)
    return _told(page.add_columns(key.label("key")).order_by(*order).limit(most).cte("page"), descending=descending)


@cache
def instances_counted(**asked: bool) -> Statement:
    """How many instances there are of which `instances_of` lists a page."""
    return Statement(_narrowed(select(func.count().label("count")).select_from(Instance), **asked))


@cache
def instances_chosen(*, ids: bool = False, most: int, **asked: bool) -> Statement:
    """At most so many instances as a change of many looks at them: those with ``ids``, or narrowed as in a list."""
    newest = _highest(_newer.sort_key).scalar_subquery()
    query = (
        select(
            Instance.id, Instance.name, _WRITTEN.label("reference"), Instance.region, Instance.state,
            func.coalesce(Version.sort_key >= newest, False).label("newest"),
        )
        .join(Version, Version.id == Instance.version_id)
        .join(Line, Line.id == Version.line_id)
        .join(Account, Account.id == Line.account_id)
        .order_by(Instance.name, Instance.id)
        .limit(most)
    )  # fmt: skip
    if ids:
        return Statement(query.where(Instance.account_id == bindparam("caller"), _among(Instance.id, "ids")))
    return Statement(_narrowed(query, **asked))


def _narrowed(
    query: Select[Any], *, number: bool, versions: bool, states: bool, region: bool, behind: bool, find: bool
) -> Select[Any]:
    """Instances of the account ``caller``, narrowed by what is asked for.

    ``number`` is for one version of the account's own: its values are ``line`` and ``number``.  The other values have the
    names of what is asked for, with ``like`` as the pattern for ``find``; without ``states`` the instances that are there
    or coming are listed.
    """
    query = query.where(Instance.account_id == bindparam("caller"))
    query = query.where(_among(Instance.state, "states") if states else IS_PRESENT)
    if number:
        version = select(Version.id).where(Version.line_id == _OWN_LINE, Version.number == bindparam("number"))
        query = query.where(Instance.version_id == version.scalar_subquery())
    if versions:
        query = query.where(_among(Instance.version_id, "versions"))
    if region:
        query = query.where(Instance.region == bindparam("region"))
    if behind:
        newer = (_newer.line_id == _own.line_id, _newer.state == VersionState.RELEASED, ~_newer.pin_only)
        newest = select(_newer.sort_key).where(*newer).order_by(_newer.sort_key.desc()).limit(1).correlate(_own)
        older = select(_own.id).where(_own.id == Instance.version_id, _own.sort_key < newest.scalar_subquery())
        query = query.where(older.correlate(Instance).exists())
    if find:
        text = bindparam("find", type_=String)
        exact = [column == text for column in (Instance.id, Instance.site_machine, Instance.address)]
        query = query.where(or_(Instance.name.like(bindparam("like", type_=String), escape="/"), *exact))
    return query


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
