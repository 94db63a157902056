"""Finding lines and versions by what people write, and the facts about them that decisions need."""

from __future__ import annotations

from collections.abc import Iterable, Set
from typing import Literal

from sqlalchemy import ColumnElement, Select, and_, func, or_, select
from sqlalchemy.dialects.postgresql import distinct_on
from sqlalchemy.orm import Session

from bathotype.core.contents.platform import Platform
from bathotype.core.errors import Forbidden, NotFound, Refused
from bathotype.core.lifecycle.references import Reference, check_name, parse_reference
from bathotype.core.lifecycle.retirement import Usage
from bathotype.core.lifecycle.states import VersionState
from bathotype.service.access.principals import Principal
from bathotype.service.records import (
    Account,
    BaseDisk,
    CheckRun,
    Hold,
    Instance,
    Line,
    Mark,
    Operation,
    Placement,
    Replica,
    Share,
    Version,
)
from bathotype.service.records.base import CHANGE, REST, utcnow
from bathotype.service.records.fleet import IS_PRESENT

#: What ``lock`` means where a version is looked for.
LOCKS = {"update": CHANGE, "share": REST}


def find_line(session: Session, principal: Principal, name: str, *, lock: bool | Literal["drop"] = False) -> Line:
    """A line of the caller's account, locked for a change, or so that nothing comes to refer to it.  Raises `NotFound`."""
    check_name(name, "line")
    query = select(Line).where(Line.account_id == principal.account_id, Line.name == name)
    if lock:
        query = query.with_for_update(**({} if lock == "drop" else CHANGE))
    line: Line | None = session.scalar(query)
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
        if _is_shared(session, principal, reference):
            raise Forbidden(
                f"{reference} is shared with {principal.account} to be launched and looked at; not this, which its owner "
                "alone may do.",
                advice="Ask its owner, or take it over into a line of your own: `bathotype adopt`.",
            )
        raise NotFound(
            f"There is no {reference} here.",
            advice="`bathotype shares list` shows what is shared with this account.",
        )
    line = find_line(session, principal, reference.line)
    query = named(select(Version), line.id, reference)
    if lock:
        query = query.with_for_update(**LOCKS[lock], of=Version)
    version: Version | None = session.scalar(query)
    if version is None:
        raise NotFound(_missing(session, line, reference), advice=f"`bathotype versions list {line.name}` shows them.")
    return version


def holds_now() -> ColumnElement[bool]:
    """Whether a share grants something at this moment."""
    return and_(Share.state == "active", or_(Share.until.is_(None), Share.until >= utcnow().date()))


def reaches(account_id: str) -> ColumnElement[bool]:
    """Whether a share is with an account, or with every one."""
    return or_(Share.consumer_id == account_id, Share.consumer_id.is_(None))


def _is_shared(session: Session, principal: Principal, reference: Reference) -> bool:
    """Whether an active share grants the caller something of a line."""
    query = (
        select(Share.id)
        .join(Line, Line.id == Share.line_id)
        .join(Account, Account.id == Line.account_id)
        .where(
            Account.name == reference.account,
            Line.name == reference.line,
            holds_now(),
            reaches(principal.account_id),
        )
    )
    return session.scalar(query.limit(1)) is not None


def named(query: Select[Version], line_id: str, reference: Reference) -> Select[Version]:
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
    released = (Version.line_id == line.id, Version.state == VersionState.RELEASED)
    if session.scalar(select(Version.id).where(*released).limit(1)):
        return f"Every released version of {line.name} is pin-only: name one exactly."
    return f"{line.name} has no released version."


def reference_of(version: Version) -> str:
    """``line@number``."""
    return f"{version.line.name}@{version.number}"


def machine_size_of(version: Version) -> str:
    """The machine size of a version's source, at its site; versions of earlier releases name it ``size``."""
    return str(version.source.get("machine_size") or version.source.get("size") or "small")


def needs_of(version: Version) -> Platform:
    """What a version's disk needs of a machine, as far as it is known."""
    found = version.contents.get("needs") or {}
    return Platform(
        tuple(found.get("boot", ())),
        str(found.get("architecture", "")),
        bool(found.get("signed_loader")),
        bool(found.get("trusted_module")),
        tuple(found.get("disk_drivers", ())),
        tuple(found.get("network_drivers", ())),
    )


def running_counts(session: Session, versions: Iterable[str]) -> dict[str, int]:
    """Instances of each version that are there or coming."""
    query = select(Instance.version_id, func.count()).where(Instance.version_id.in_(list(versions)), IS_PRESENT)
    return dict(session.execute(query.group_by(Instance.version_id)).all())


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
        retire_on=version.retire_on,
    )


def written(line: str, number: str, owner: tuple[str, str], account_id: str) -> str:
    """How an account writes a version: with its owner, given by id and name, before it where that is another."""
    return f"{line}@{number}" if owner[0] == account_id else f"{owner[1]}/{line}@{number}"


def ready_regions(session: Session, version: Version) -> list[str]:
    """Regions that hold a sound replica of a version, by name."""
    query = select(Replica.region).where(Replica.version_id == version.id, Replica.state == "ready")
    return list(session.scalars(query.order_by(Replica.region)))


def require_replica(
    session: Session, version_id: str, reference: str, region: str, *, allowed: Set[str] | None = None
) -> Replica:
    """A version's sound replica in a region.  Raises `Refused`, saying where there is one (of those ``allowed``)."""
    replicas = {r.region: r for r in session.scalars(select(Replica).where(Replica.version_id == version_id))}
    here = replicas.get(region)
    sound = sorted(n for n, r in replicas.items() if r.state == "ready" and (allowed is None or n in allowed))
    if here is not None and here.state == "ready":
        return here
    if here is not None and here.state == "damaged":
        raise Refused(
            f"The replica of {reference} in {region} is damaged.",
            advice=f"It is sound in {', '.join(sound)}; launch there while this one is healed."
            if sound
            else "Restore the named pack and verify the version again, or launch another version.",
            code="replica-damaged",
        )
    raise Refused(
        f"{reference} is not in {region}.",
        advice=f"It is in {', '.join(sound)}: use it there, or `bathotype replicate` it."
        if sound
        else "No region holds a sound replica of it.",
        code="no-replica",
    )


def regions_from_home(session: Session, version: Version) -> list[str]:
    """Regions that hold a sound replica of a version: first the one that its line's placement names first, else the one
    where it was made."""
    held = ready_regions(session, version)
    placed = session.scalars(
        select(Placement.region)
        .where(Placement.line_id == version.line_id, ~Placement.leaving)
        .order_by(Placement.position, Placement.region)
    )
    made = session.get_one(Operation, version.operation_id).params.get("region")
    home = next((region for region in [*placed, made] if region in held), None)
    return held if home is None else [home, *(region for region in held if region != home)]


def last_checks(session: Session, version_id: str, account_id: str) -> CheckRun | None:
    """The last run of checks of a version, on a throwaway instance, that has ended."""
    query = (
        select(CheckRun)
        .where(
            CheckRun.version_id == version_id,
            CheckRun.account_id == account_id,
            CheckRun.instance_id.is_(None),
            CheckRun.passed.is_not(None),
        )
        .order_by(CheckRun.operation_id.desc())
        .limit(1)
    )
    return session.scalar(query)


def place_checks(session: Session, version_id: str, account_id: str) -> list[CheckRun]:
    """The last run of checks of a version that has ended, in each region and machine size where it was judged."""
    place = (CheckRun.region, CheckRun.machine_size)
    query = (
        select(CheckRun)
        .ext(distinct_on(*place))
        .where(
            CheckRun.version_id == version_id,
            CheckRun.account_id == account_id,
            CheckRun.instance_id.is_(None),
            CheckRun.passed.is_not(None),
        )
        .order_by(*place, CheckRun.operation_id.desc())
    )
    return list(session.scalars(query))


def passes(session: Session, version_id: str, account_id: str) -> bool | None:
    """Whether the last checks have passed in each region and machine size where it was judged; None where it was not."""
    runs = place_checks(session, version_id, account_id)
    return all(run.passed for run in runs) if runs else None


def proven(session: Session, version: Version) -> bool:
    """Whether the last checks of a version, by its owner, have passed wherever it was judged."""
    return bool(passes(session, version.id, version.line.account_id))
