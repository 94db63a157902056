"""Finding lines and versions by what people write, and telling about them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from typing import Any

from sqlalchemy import Select, func, select
from sqlalchemy.orm import Session, aliased

from bathotype.core.errors import NotFound, Refused
from bathotype.core.lifecycle.references import Reference, check_name, parse_reference
from bathotype.core.lifecycle.retirement import Usage
from bathotype.core.lifecycle.states import VersionState
from bathotype.service.auth import Principal
from bathotype.service.records import Account, BaseDisk, Finding, Hold, Instance, Line, Mark, Replica, Version
from bathotype.service.records.base import CHANGE, REST
from bathotype.service.records.fleet import PRESENT
from bathotype.wire import versions as wire

#: What ``lock`` means where a version is looked for.
LOCKS = {"update": CHANGE, "share": REST}


def find_line(session: Session, principal: Principal, name: str, *, lock: bool = False) -> Line:
    """A line of the caller's account.  Raises `NotFound`."""
    check_name(name, "line")
    query = select(Line).where(Line.account_id == principal.account_id, Line.name == name)
    line = session.scalar(query.with_for_update(**CHANGE) if lock else query)
    if line is None:
        raise NotFound(
            f"{principal.account} has no line {name!r}.",
            advice=f"`bathotype lines list` shows them; `bathotype lines create {name}` makes it.",
        )
    return line


def find_version(session: Session, principal: Principal, text: str | Reference, *, lock: str | None = None) -> Version:
    """The version that a reference names.

    ``lock`` is ``update`` for changing it or ``share`` for depending on its state.  A bare line means its newest
    released version that is not pin-only.  Raises `NotFound`, saying what there is.
    """
    reference = parse_reference(text) if isinstance(text, str) else text
    if reference.account not in (None, principal.account):
        raise NotFound(f"{reference} is not shared with {principal.account}.")
    line = find_line(session, principal, reference.line)
    query = named(select(Version), line.id, reference)
    if lock:
        query = query.with_for_update(**LOCKS[lock], of=Version)
    version = session.scalar(query)
    if version is None:
        raise NotFound(_missing(session, line, reference), advice=f"`bathotype versions list {line.name}` shows them.")
    return version


def named(query: Select[tuple[Version]], line_id: str, reference: Reference) -> Select[tuple[Version]]:
    """Narrow a query to the version of a line that a reference names."""
    query = query.where(Version.line_id == line_id)
    if reference.number:
        return query.where(Version.number == reference.number)
    if reference.mark:
        joined = query.join(Mark, Mark.version_id == Version.id)
        return joined.where(Mark.line_id == line_id, Mark.name == reference.mark)
    offered = query.where(Version.state == VersionState.RELEASED, ~Version.pin_only)
    return offered.order_by(Version.sort_key.desc()).limit(1)


def _missing(session: Session, line: Line, reference: Reference) -> str:
    if reference.mark:
        marks = ", ".join(session.scalars(select(Mark.name).where(Mark.line_id == line.id).order_by(Mark.name)))
        return f"{line.name} has no mark {reference.mark!r} (it has: {marks or 'none'})."
    if reference.number:
        return f"{line.name} has no version {reference.number}."
    return f"{line.name} has no released version yet that is not pin-only."


def reference_of(version: Version) -> str:
    """``line@number``."""
    return f"{version.line.name}@{version.number}"


def _grouped(session: Session, key: Any, value: Any, *where: Any) -> dict[str, list[Any]]:
    found: dict[str, list[Any]] = defaultdict(list)
    for version, item in session.execute(select(key, value).where(*where).order_by(value)):
        found[version].append(item)
    return found


def running_counts(session: Session, versions: Iterable[str]) -> dict[str, int]:
    """Instances of each version that are there or coming."""
    query = select(Instance.version_id, func.count()).where(
        Instance.version_id.in_(list(versions)), Instance.state.in_(PRESENT)
    )
    return dict(session.execute(query.group_by(Instance.version_id)).all())  # type: ignore[arg-type]


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


def usage_of(session: Session, version: Version) -> Usage:
    """The facts on which a version's end depends."""
    children = session.scalars(select(Version).where(Version.parent_id == version.id).order_by(Version.sort_key))
    return Usage(
        reference=reference_of(version),
        state=VersionState(version.state),
        retired_at=version.retired_at,
        running=running_counts(session, [version.id]).get(version.id, 0),
        marks=tuple(session.scalars(select(Mark.name).where(Mark.version_id == version.id).order_by(Mark.name))),
        holds=tuple(session.scalars(select(Hold.name).where(Hold.version_id == version.id).order_by(Hold.name))),
        children=tuple(reference_of(child) for child in children),
        base_disks=session.scalar(
            select(func.count())
            .select_from(BaseDisk)
            .where(BaseDisk.version_id == version.id, BaseDisk.state == "ready")
        )
        or 0,
        stored_bytes=version.stored_bytes,
    )


def written(line: str, number: str, owner: tuple[str, str], account_id: str) -> str:
    """How an account writes a version: with its owner, given by id and name, before it where that is another."""
    return f"{line}@{number}" if owner[0] == account_id else f"{owner[1]}/{line}@{number}"


def _standings() -> Select[Any]:
    newer = aliased(Version)
    offered = (newer.line_id == Version.line_id, newer.state == VersionState.RELEASED, ~newer.pin_only)
    behind = select(func.count()).where(*offered, newer.sort_key > Version.sort_key).correlate(Version)
    newest = select(newer.number).where(*offered).order_by(newer.sort_key.desc()).limit(1).correlate(Version)
    return (
        select(
            Version.id, Line.name, Version.number, Line.account_id, Account.name,
            behind.scalar_subquery(), newest.scalar_subquery(),
        )
        .join(Line, Line.id == Version.line_id)
        .join(Account, Account.id == Line.account_id)
    )  # fmt: skip


_STANDINGS = _standings()  # made once: making it takes longer than what it asks


def standings(session: Session, versions: Iterable[str], account_id: str) -> dict[str, tuple[str, int, str | None]]:
    """Of each version: how an account writes it, how many newer ones its line offers, and the line's newest number."""
    rows = session.execute(_STANDINGS.where(Version.id.in_(list(versions))))
    return {
        version: (written(line, number, (owner, owner_name), account_id), count, newest)
        for version, line, number, owner, owner_name, count, newest in rows
    }


def require_replica(session: Session, version: Version, region: str, *, allowed: set[str] | None = None) -> Replica:
    """A version's sound replica in a region.  Raises `Refused`, saying where there is one (of those ``allowed``)."""
    replicas = {r.region: r for r in session.scalars(select(Replica).where(Replica.version_id == version.id))}
    here = replicas.get(region)
    sound = sorted(n for n, r in replicas.items() if r.state == "ready" and (allowed is None or n in allowed))
    if here is not None and here.state == "ready":
        return here
    if here is not None and here.state == "damaged":
        raise Refused(
            f"The replica of {reference_of(version)} in {region} is damaged.",
            advice=f"It is sound in {', '.join(sound)}; launch there while this one is healed."
            if sound
            else "Restore the named pack and verify the version again, or launch another version.",
            code="replica-damaged",
        )
    raise Refused(
        f"{reference_of(version)} is not in {region}.",
        advice=f"It is in {', '.join(sound) or 'no region'}; launch there, or `bathotype replicate` it.",
        code="no-replica",
    )
