"""The API's answers about versions: to their owner, and to an account that they are shared with."""

from __future__ import annotations

from functools import cache
from typing import Any

from sqlalchemy import ColumnElement, Integer, Text, and_, bindparam, cast, func, literal_column, or_, select
from sqlalchemy.orm import Session, aliased

from bathotype.service.access.principals import Principal
from bathotype.service.answers.rendered import body, counted, listed, rendered
from bathotype.service.records import Account, Finding, Hold, Instance, Line, Mark, Replica, Share, Version
from bathotype.service.records.fleet import IS_PRESENT
from bathotype.service.shares import in_regions, owner_of, shares_of_version
from bathotype.service.statements import Statement
from bathotype.wire import versions as wire

_parent, _parent_line = aliased(Version), aliased(Line)


def blocks_release() -> ColumnElement[bool]:
    """Whether a finding keeps its version from a release, unless it is accepted: by what the line demands."""
    return or_(
        Finding.severity == "high",
        and_(Finding.severity == "medium", Line.demands != "high"),
        Line.demands == "low",
    )


def _findings() -> Any:
    def of(severity: str, *more: Any) -> ColumnElement[int]:
        return func.count().filter(and_(Finding.severity == severity, *more))

    counts = rendered(
        wire.FindingCounts,
        high=of("high"),
        medium=of("medium"),
        low=of("low"),
        open_high=of("high", Finding.accepted_by.is_(None)),
        blocking=func.count().filter(Finding.accepted_by.is_(None), blocks_release()),
    )
    return select(counts).where(Finding.version_id == Version.id).scalar_subquery()


def _content(key: str, otherwise: str) -> ColumnElement[Any]:
    return func.coalesce(Version.contents[key], literal_column(f"'{otherwise}'::jsonb"))


_REVISION = func.left(
    func.md5(func.concat(Version.pin_only, " ", Version.notes, " ", Version.purpose, " ", Version.retire_on)), 16
)
_VERSION = rendered(
    wire.Version,
    id=Version.id,
    reference=Line.name + "@" + Version.number,
    account=Account.name,
    line=Line.name,
    number=Version.number,
    state=Version.state,
    pin_only=Version.pin_only,
    notes=Version.notes,
    revision=_REVISION,
    content_digest=Version.content_digest,
    sizes=rendered(
        wire.Sizes,
        virtual=Version.virtual_bytes,
        used=Version.used_bytes,
        stored=Version.stored_bytes,
        new=Version.new_bytes,
    ),
    disks=Version.disks,
    mode=Version.mode,
    source=Version.source,
    parent=select(_parent_line.name + "@" + _parent.number)
    .select_from(_parent)
    .join(_parent_line, _parent_line.id == _parent.line_id)
    .where(_parent.id == Version.parent_id)
    .scalar_subquery(),
    adopted_from=Version.source["adopted_from"].astext,
    signed_with=func.jsonb_extract_path_text(Version.signature, "signatures", "0", "keyid"),
    profile=Version.profile,
    steps=Version.steps,
    os=_content("os", "{}"),
    packages=cast(cast(Version.contents["package_count"], Text), Integer),
    services=_content("services", "[]"),
    users=_content("users", "[]"),
    needs=Version.contents["needs"],
    purpose=Version.purpose,
    findings=_findings(),
    marks=listed(Mark.name, Mark.version_id == Version.id),
    holds=listed(Hold.name, Hold.version_id == Version.id),
    regions=listed(Replica.region, Replica.version_id == Version.id, Replica.state == "ready"),
    running=counted(Instance.version_id == Version.id, IS_PRESENT),
    sunset_on=Version.sunset_on,
    retire_on=Version.retire_on,
    created_at=Version.created_at,
    released_at=Version.released_at,
    retired_at=Version.retired_at,
    purged_at=Version.purged_at,
)
#: Versions with their lines and accounts, each a rendered `wire.Version`; narrow it and make it a `Statement`.
VERSIONS = (
    select(body(_VERSION))
    .select_from(Version)
    .join(Line, Line.id == Version.line_id)
    .join(Account, Account.id == Line.account_id)
)
_ONE = Statement(VERSIONS.where(Version.id == bindparam("version")))
_OF_LINE = VERSIONS.where(Line.account_id == bindparam("caller"), Line.name == bindparam("line"))
#: A version of the account ``caller`` by its ``line`` and ``number``.
OWN = Statement(_OF_LINE.where(Version.number == bindparam("number")).add_columns(_REVISION.label("revision")))


#: What a line's versions can be sorted by, each different for all of a line.  Ids follow the time of their making.
_KEYS = {"number": Version.sort_key, "made": Version.id}


@cache
def versions_of(*, sort: str, state: bool, after: bool, most: int) -> Statement:
    """At most so many versions of a ``line`` of the account ``caller``, in an order such as ``-number`` or ``made``; with
    ``state`` only those in it, with ``after`` those that follow this ``key``."""
    key, descending = _KEYS[sort.removeprefix("-")], sort.startswith("-")
    query = _OF_LINE.where(Version.state == bindparam("state")) if state else _OF_LINE
    if after:
        query = query.where(key < bindparam("after") if descending else key > bindparam("after"))
    return Statement(query.add_columns(key.label("key")).order_by(key.desc() if descending else key).limit(most))


def version_answer(session: Session, version: Version) -> wire.Version:
    """A version as its owner sees it, including uncommitted changes of the session."""
    session.flush()
    return wire.Version.model_validate_json(_ONE.first(session, version=version.id).body)


def shown(session: Session, caller: Principal, version: Version, shares: list[Share] | None) -> wire.Version:
    """A version as the caller may see it.  Of another account's version only what a launch needs: state, contents,
    sizes, findings in numbers, the regions that are shared; not its source, its holds, or who else runs it."""
    full = version_answer(session, version)
    if shares is None:
        return full
    owner = owner_of(session, version)
    allowed = in_regions(shares)
    parent = session.get(Version, version.parent_id) if version.parent_id else None
    seen = parent is not None and bool(shares_of_version(session, caller.account_id, parent))
    mine = session.scalar(
        select(func.count())
        .select_from(Instance)
        .where(Instance.version_id == version.id, Instance.account_id == caller.account_id, IS_PRESENT)
    )
    return full.model_copy(
        update={
            "reference": f"{owner}/{full.reference}",
            "source": {},
            "steps": [],
            "profile": None,
            "holds": [],
            "adopted_from": None,
            "parent": f"{owner}/{full.parent}" if seen else None,
            "regions": [r for r in full.regions if allowed is None or r in allowed],
            "running": mine or 0,
        }
    )
