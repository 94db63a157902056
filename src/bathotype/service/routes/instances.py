"""Instances: which machine runs which version."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import Annotated

from fastapi import APIRouter, Query
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from bathotype.core.errors import NotFound, Refused
from bathotype.core.lifecycle.references import parse_reference
from bathotype.core.lifecycle.states import VersionState
from bathotype.service import audit
from bathotype.service.auth import Principal
from bathotype.service.catalogue import find_line, find_version, newest_released, reference_of
from bathotype.service.identity import forget_identity
from bathotype.service.records import Instance, Line, Version
from bathotype.service.records.base import utcnow
from bathotype.service.records.fleet import PRESENT
from bathotype.service.routes.common import PROBLEMS, Caller, Cursor, Limit, ServiceOf, decode_cursor, encode_cursor
from bathotype.wire import fleet as wire
from bathotype.wire.common import Answer, Page

router = APIRouter(prefix="/instances", tags=["instances"], responses=PROBLEMS)


class VersionCount(Answer):
    """How many instances of a version are in which state."""

    reference: str
    version_state: str
    states: dict[str, int]


def instance_answers(session: Session, rows: Sequence[Instance]) -> list[wire.Instance]:
    """What the API tells about instances: two queries, however many there are."""
    versions = {v.id: v for v in session.scalars(select(Version).where(Version.id.in_({r.version_id for r in rows})))}
    newest = newest_released(session, {v.line_id for v in versions.values()})
    numbers: dict[str, str] = {}
    for line_id, keys in newest.items():
        if keys:
            numbers[line_id] = (
                session.scalar(select(Version.number).where(Version.line_id == line_id, Version.sort_key == keys[0]))
                or ""
            )
    out = []
    for row in rows:
        version = versions[row.version_id]
        behind = sum(key > version.sort_key for key in newest.get(version.line_id, []))
        out.append(
            wire.Instance(
                id=row.id,
                name=row.name,
                reference=reference_of(version),
                behind=behind,
                newest=numbers.get(version.line_id),
                region=row.region,
                zone=row.zone,
                state=row.state,
                origin=row.origin,
                machine_id=row.site_machine,
                address=row.address,
                identity=row.identity,
                reason=row.reason,
                launched_at=row.launched_at,
                ended_at=row.ended_at,
            )
        )
    return out


def _find(session: Session, caller: Principal, name: str) -> Instance:
    query = select(Instance).where(Instance.account_id == caller.account_id)
    row = session.scalar(query.where(Instance.id == name))
    if row is None:
        found = list(session.scalars(query.where(Instance.name == name).order_by(Instance.id.desc())))
        present = [r for r in found if r.state in PRESENT]
        if len(present) > 1:
            raise Refused(
                f"Several instances are named {name!r}.",
                advice=f"Name one by its id: {', '.join(r.id for r in present)}.",
            )
        row = (present or found or [None])[0]
    if row is None:
        raise NotFound(f"There is no instance {name!r}.", advice="`bathotype instances list` shows them.")
    return row


@router.get("")
def list_instances(
    caller: Caller,
    service: ServiceOf,
    version: Annotated[str | None, Query(description="A version, or a line for all of its versions.")] = None,
    state: Annotated[
        list[wire.InstanceState] | None, Query(description="May be repeated; by default all that are there or coming.")
    ] = None,
    region: str | None = None,
    behind: Annotated[bool, Query(description="Only those behind their line's newest release.")] = False,
    limit: Limit = 100,
    cursor: Cursor = None,
) -> Page[wire.Instance]:
    """Instances, newest first."""
    with service.database.sessions() as session:
        query = select(Instance).where(Instance.account_id == caller.account_id).order_by(Instance.id.desc())
        query = query.where(Instance.state.in_(state or PRESENT))
        if version:
            query = query.where(Instance.version_id.in_(_versions(session, caller, version)))
        if region:
            query = query.where(Instance.region == service.reach.check_region(region))
        if behind:
            query = query.where(_is_behind())
        if cursor:
            query = query.where(Instance.id < str(decode_cursor(cursor)))
        rows = list(session.scalars(query.limit(limit + 1)))
        following = encode_cursor(rows[limit - 1].id) if len(rows) > limit else None
        return Page[wire.Instance](items=instance_answers(session, rows[:limit]), next=following)


def _versions(session: Session, caller: Principal, text: str) -> list[str]:
    reference = parse_reference(text)
    if reference.number or reference.mark:
        return [find_version(session, caller, reference).id]
    line = find_line(session, caller, reference.line)
    return list(session.scalars(select(Version.id).where(Version.line_id == line.id)))


def _is_behind() -> object:
    own = (
        select(Version.line_id, Version.sort_key)
        .where(Version.id == Instance.version_id)
        .correlate(Instance)
        .subquery()
    )
    newer = select(Version.id).where(
        Version.line_id == own.c.line_id,
        Version.sort_key > own.c.sort_key,
        Version.state == VersionState.RELEASED,
        Version.pin_only.is_(False),
    )
    return newer.exists()


@router.get("/counts")
def counts(caller: Caller, service: ServiceOf, line: str | None = None) -> list[VersionCount]:
    """Instances per version and state."""
    with service.database.sessions() as session:
        query = (
            select(Version, Instance.state, func.count())
            .join(Instance, Instance.version_id == Version.id)
            .join(Line, Line.id == Version.line_id)
            .where(Instance.account_id == caller.account_id)
            .group_by(Version, Line, Instance.state)
        )
        if line:
            query = query.where(Version.line_id == find_line(session, caller, line).id)
        states: dict[str, Counter[str]] = {}
        versions: dict[str, Version] = {}
        for version, state, count in session.execute(query):
            versions[version.id] = version
            states.setdefault(version.id, Counter())[state] = count
        ordered = sorted(versions.values(), key=lambda v: (v.line.name, v.sort_key), reverse=True)
        return [
            VersionCount(reference=reference_of(v), version_state=v.state, states=dict(states[v.id])) for v in ordered
        ]


@router.get("/{instance}")
def show_instance(instance: str, caller: Caller, service: ServiceOf) -> wire.Instance:
    """One instance by id or name."""
    with service.database.sessions() as session:
        return instance_answers(session, [_find(session, caller, instance)])[0]


@router.post("/{instance}/stop")
def stop_instance(instance: str, caller: Caller, service: ServiceOf) -> wire.Instance:
    """Switch an instance off."""
    return _act(instance, caller, service, "stopped")


@router.post("/{instance}/start")
def start_instance(instance: str, caller: Caller, service: ServiceOf) -> wire.Instance:
    """Switch a stopped instance on."""
    return _act(instance, caller, service, "running")


@router.post("/{instance}/terminate")
def terminate_instance(instance: str, caller: Caller, service: ServiceOf) -> wire.Instance:
    """Remove an instance with its disks.  It cannot be brought back."""
    return _act(instance, caller, service, "terminated")


def _act(name: str, caller: Principal, service: ServiceOf, wanted: str) -> wire.Instance:
    with service.database.sessions.begin() as session:
        row = _find(session, caller, name)
        session.refresh(row, with_for_update=True)
        if row.state not in ("running", "stopped", "lost") or row.site_machine is None:
            raise Refused(
                f"{row.name} is {row.state}.",
                advice="Wait until it runs, or cancel its launch." if row.state in ("pending", "starting") else "",
                code="state-forbids",
            )
        site = service.reach.site(row.region, caller.account)
        if wanted == "terminated":
            site.delete_machine(row.site_machine)
            row.ended_at = utcnow()
            forget_identity(session, caller.account_id, row.site_machine)
        else:
            site.power(row.site_machine, "on" if wanted == "running" else "off")
        before, row.state, row.reason = row.state, wanted, None
        audit.record(
            session,
            caller.account_id,
            caller.actor,
            f"instance.{wanted}",
            row.name,
            before={"state": before},
            after={"state": wanted, "instance": row.id},
        )
        return instance_answers(session, [row])[0]
