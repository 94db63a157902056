"""Findings that somebody has accepted in a version before.

They count in the new version too, as long as the file that each was found in has the same bytes: else a version that is
made every night would wait every morning for somebody who accepts the same again.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.disk.source import BlockSource
from bathotype.core.units import plural
from bathotype.service.catalogue import reference_of
from bathotype.service.kinds.descent import file_of, same_files
from bathotype.service.operations.context import WorkContext
from bathotype.service.records import Finding, Line, Replica, Version

if TYPE_CHECKING:
    from bathotype.service.kinds.making import MakingParams

#: Rules about the machine that was captured: of another machine, the same finding is another one.
_ITS_OWN = "source-"
_AS_IN = " (as in "


def still_accepted(
    context: WorkContext, params: MakingParams, parent: str | None, findings: Sequence[dict[str, Any]],
    image: BlockSource,
) -> dict[str, str]:  # fmt: skip
    """The ids of those findings that are accepted in a version before, in files that are the same there; with the id of
    that version.

    Versions before are the one that this is made from, and the highest of its line; of the same account, and with a sound
    replica in the region.
    """
    found: dict[str, str] = {}
    for before in _before(context, params, parent):
        with context.session() as session:
            accepted = _accepted(session, before, parent)
        alike = {f["id"]: file_of(f["path"]) for f in findings if accepted.get(f["id"]) == f["path"]}
        alike = {name: path for name, path in alike.items() if name not in found}
        if not alike:
            continue
        lost = "Nothing is accepted as in an earlier version"
        same = same_files(context, params.region, before, [*alike.values()], image, lost)
        found |= {name: before for name, path in alike.items() if path in same}
    if found:
        context.log(f"{plural(len(found), 'finding')} accepted as in an earlier version.")
    return found


def _before(context: WorkContext, params: MakingParams, parent: str | None) -> list[str]:
    """The versions before, in the order in which they are asked."""
    with context.session() as session:
        mine = (
            select(Version.id)
            .join(Line, Line.id == Version.line_id)
            .join(Replica, (Replica.version_id == Version.id) & (Replica.region == params.region))
            .where(Line.account_id == context.account_id, Replica.state == "ready")
        )
        made_from = session.scalars(mine.where(Version.id == parent)).all()
        in_line = mine.where(Version.line_id == params.line_id, Version.id != params.version_id)
        return [*made_from, *session.scalars(in_line.order_by(Version.sort_key.desc()).limit(1))]


def _accepted(session: Session, version: str, parent: str | None) -> dict[str, str]:
    """The paths of a version's accepted findings, by their ids; those about the machine that it was captured from where
    that machine left them to the version that is being made."""
    query = select(Finding.name, Finding.path).where(Finding.version_id == version, Finding.accepted_by.is_not(None))
    akin = parent is not None and parent in (version, session.get_one(Version, version).parent_id)
    if not akin:
        query = query.where(~Finding.rule.startswith(_ITS_OWN))
    return {row.name: row.path for row in session.execute(query)}


def accept_as_before(session: Session, version: Version, accepted: Mapping[str, str]) -> None:
    """Accept findings of a version in the words with which they are accepted in another."""
    for name, origin in accepted.items():
        mine, before = session.get(Finding, (version.id, name)), session.get(Finding, (origin, name))
        if mine is None or before is None or before.accepted_by is None:
            continue
        reason = before.accepted_reason or ""
        told = reason if _AS_IN in reason else f"{reason}{_AS_IN}{reference_of(session.get_one(Version, origin))})"
        mine.accepted_by, mine.accepted_at, mine.accepted_reason = before.accepted_by, before.accepted_at, told
