"""What the API tells about versions: to their owner, and to an account that they are shared with."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from bathotype.service.access.principals import Principal
from bathotype.service.catalogue import reference_of, running_counts
from bathotype.service.records import Finding, Hold, Instance, Mark, Replica, Share, Version
from bathotype.service.records.fleet import PRESENT
from bathotype.service.shares import in_regions, owner_of, shares_of_version
from bathotype.wire import versions as wire


def _grouped(session: Session, key: Any, value: Any, *where: Any) -> dict[str, list[Any]]:
    found: dict[str, list[Any]] = defaultdict(list)
    for version, item in session.execute(select(key, value).where(*where).order_by(value)):
        found[version].append(item)
    return found


def version_answers(session: Session, account: str, versions: Sequence[Version]) -> list[wire.Version]:
    """What the API tells about versions: a handful of queries, however many there are."""
    ids = [v.id for v in versions]
    running = running_counts(session, ids)
    marks = _grouped(session, Mark.version_id, Mark.name, Mark.version_id.in_(ids))
    holds = _grouped(session, Hold.version_id, Hold.name, Hold.version_id.in_(ids))
    regions = _grouped(
        session, Replica.version_id, Replica.region, Replica.version_id.in_(ids), Replica.state == "ready"
    )
    counts: dict[str, dict[str, int]] = defaultdict(dict)
    accepted = Finding.accepted_by.is_not(None)
    for version, severity, done, count in session.execute(
        select(Finding.version_id, Finding.severity, accepted, func.count())
        .where(Finding.version_id.in_(ids))
        .group_by(Finding.version_id, Finding.severity, accepted)
    ):
        counts[version][severity] = counts[version].get(severity, 0) + count
        if severity == "high" and not done:
            counts[version]["open_high"] = count
    parents = [v.parent_id for v in versions if v.parent_id]
    named = {v.id: reference_of(v) for v in session.scalars(select(Version).where(Version.id.in_(parents)))}
    return [
        wire.Version(
            id=v.id,
            reference=reference_of(v),
            account=account,
            line=v.line.name,
            number=v.number,
            state=v.state,  # type: ignore[arg-type]
            pin_only=v.pin_only,
            notes=v.notes,
            content_digest=v.content_digest,
            sizes=wire.Sizes(virtual=v.virtual_bytes, used=v.used_bytes, stored=v.stored_bytes, new=v.new_bytes),
            mode=v.mode,
            source=v.source,
            parent=named.get(v.parent_id or ""),
            adopted_from=v.source.get("adopted_from"),
            signed_with=v.signature["signatures"][0]["keyid"] if v.signature else None,
            profile=v.profile,
            steps=v.steps,
            os=v.contents.get("os", {}),
            packages=v.contents.get("package_count", 0),
            services=v.contents.get("services", []),
            users=v.contents.get("users", []),
            findings=wire.FindingCounts(
                high=counts[v.id].get("high", 0),
                medium=counts[v.id].get("medium", 0),
                low=counts[v.id].get("low", 0),
                open_high=counts[v.id].get("open_high", 0),
            ),
            marks=marks.get(v.id, []),
            holds=holds.get(v.id, []),
            regions=regions.get(v.id, []),
            running=running.get(v.id, 0),
            sunset_on=v.sunset_on,
            retire_on=v.retire_on,
            created_at=v.created_at,
            released_at=v.released_at,
            retired_at=v.retired_at,
            purged_at=v.purged_at,
        )
        for v in versions
    ]


def version_answer(session: Session, account: str, version: Version) -> wire.Version:
    """What the API tells about one version."""
    return version_answers(session, account, [version])[0]


def shown(session: Session, caller: Principal, version: Version, shares: list[Share] | None) -> wire.Version:
    """What the caller is told of a version.  Of another account's it is what launching it takes: state, contents,
    sizes, findings in numbers, the regions that are shared; not its source, its holds, or who else runs it."""
    if shares is None:
        return version_answer(session, caller.account, version)
    owner = owner_of(session, version)
    full = version_answer(session, owner, version)
    allowed = in_regions(shares)
    parent = session.get(Version, version.parent_id) if version.parent_id else None
    seen = parent is not None and bool(shares_of_version(session, caller.account_id, parent))
    mine = session.scalar(
        select(func.count())
        .select_from(Instance)
        .where(Instance.version_id == version.id, Instance.account_id == caller.account_id, Instance.state.in_(PRESENT))
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
