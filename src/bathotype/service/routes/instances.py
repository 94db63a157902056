"""Instances: which machine runs which version."""

from __future__ import annotations

from collections import Counter
from typing import Annotated

from fastapi import Query
from sqlalchemy import func, select, true
from sqlalchemy.orm import Session, aliased

from bathotype.core.errors import NotFound, Refused
from bathotype.core.lifecycle.references import parse_reference
from bathotype.core.lifecycle.states import VersionState
from bathotype.service import audit
from bathotype.service.access.principals import Principal
from bathotype.service.answers.instances import LISTED, instance_answers
from bathotype.service.catalogue import find_line, written
from bathotype.service.identities import forget_identity
from bathotype.service.records import Account, Instance, Line, Version
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.records.fleet import PRESENT
from bathotype.service.routes.common import (
    Operator,
    Paged,
    Reader,
    ServiceOf,
    api_router,
)
from bathotype.service.shares import find_usable
from bathotype.wire import fleet as wire
from bathotype.wire.common import Page

router = api_router("/instances", tags=["instances"])

_newer = aliased(Version)
#: A version's line's newest release; PostgreSQL looks each line's up once and remembers it.
_NEWEST = (
    select(_newer.sort_key)
    .where(_newer.line_id == Version.line_id, _newer.state == VersionState.RELEASED, ~_newer.pin_only)
    .order_by(_newer.sort_key.desc())
    .limit(1)
    .correlate(Version)
    .lateral()
)


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
        row = next(iter(present or found), None)
    if row is None:
        raise NotFound(f"There is no instance {name!r}.", advice="`bathotype instances list` shows them.")
    return row


@router.get("")
def list_instances(
    caller: Reader,
    service: ServiceOf,
    paging: Paged,
    version: Annotated[str | None, Query(description="A version, or a line for all of its versions.")] = None,
    state: Annotated[
        list[wire.InstanceState] | None, Query(description="May be repeated; by default all that are there or coming.")
    ] = None,
    region: str | None = None,
    behind: Annotated[bool, Query(description="Only those behind their line's newest release.")] = False,
) -> Page[wire.Instance]:
    """Instances, newest first."""
    with service.database.reads() as session:
        query = select(*LISTED).where(Instance.account_id == caller.account_id).order_by(Instance.id.desc())
        query = query.where(Instance.state.in_(state or PRESENT))
        if version:
            query = query.where(Instance.version_id.in_(_versions(session, caller, version)))
        if region:
            query = query.where(Instance.region == service.reach.check_region(region))
        if behind:
            query = query.join(Version, Version.id == Instance.version_id).join(_NEWEST, true())
            query = query.where(Version.sort_key < _NEWEST.c.sort_key)
        if (after := paging.after(str)) is not None:
            query = query.where(Instance.id < after)
        rows = session.execute(query.limit(paging.fetched)).all()
        page, following = paging.cut(rows, lambda row: row.id)
        return Page[wire.Instance](items=instance_answers(session, page, caller.account_id), next=following)


def _versions(session: Session, caller: Principal, text: str) -> list[str]:
    reference = parse_reference(text)
    if reference.number or reference.mark:
        return [find_usable(session, caller, reference)[0].id]
    if reference.account in (None, caller.account):
        line = find_line(session, caller, reference.line)
        return list(session.scalars(select(Version.id).where(Version.line_id == line.id)))
    # Of another's line what this account runs counts, also where the share has ended meanwhile.
    line_of = select(Line.id).join(Account).where(Account.name == reference.account, Line.name == reference.line)
    mine = select(Instance.version_id).where(Instance.account_id == caller.account_id)
    return list(session.scalars(select(Version.id).where(Version.line_id.in_(line_of), Version.id.in_(mine))))


@router.get("/counts")
def counts(caller: Reader, service: ServiceOf, line: str | None = None) -> list[wire.VersionCount]:
    """Instances per version and state."""
    with service.database.reads() as session:
        query = select(Instance.version_id, Instance.state, func.count()).where(
            Instance.account_id == caller.account_id
        )
        if line:
            of_line = select(Version.id).where(Version.line_id == find_line(session, caller, line).id)
            query = query.where(Instance.version_id.in_(of_line))
        states: dict[str, Counter[str]] = {}
        for version, state, count in session.execute(query.group_by(Instance.version_id, Instance.state)):
            states.setdefault(version, Counter())[state] = count
        known = session.execute(
            select(Version.id, Version.state, Line.name, Version.number, Line.account_id, Account.name)
            .join(Line, Line.id == Version.line_id)
            .join(Account, Account.id == Line.account_id)
            .where(Version.id.in_(states))
            .order_by(Line.name.desc(), Version.sort_key.desc())
        )
        return [
            wire.VersionCount(
                reference=written(name, number, (owner, owner_name), caller.account_id),
                version_state=state,
                states=dict(states[version]),
            )
            for version, state, name, number, owner, owner_name in known
        ]


@router.get("/{instance}")
def show_instance(instance: str, caller: Reader, service: ServiceOf) -> wire.Instance:
    """One instance by id or name."""
    with service.database.reads() as session:
        return instance_answers(session, [_find(session, caller, instance)], caller.account_id)[0]


@router.post("/{instance}/stop")
def stop_instance(instance: str, caller: Operator, service: ServiceOf) -> wire.Instance:
    """Switch an instance off."""
    return _act(instance, caller, service, "stopped")


@router.post("/{instance}/start")
def start_instance(instance: str, caller: Operator, service: ServiceOf) -> wire.Instance:
    """Switch a stopped instance on."""
    return _act(instance, caller, service, "running")


@router.post("/{instance}/terminate")
def terminate_instance(instance: str, caller: Operator, service: ServiceOf) -> wire.Instance:
    """Remove an instance with its disks.  It cannot be brought back."""
    return _act(instance, caller, service, "terminated")


def _act(name: str, caller: Principal, service: ServiceOf, wanted: str) -> wire.Instance:
    with service.database.sessions.begin() as session:
        row = _find(session, caller, name)
        session.refresh(row, with_for_update=CHANGE)
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
        row.acted_at = func.clock_timestamp()
        audit.record(
            session,
            caller.account_id,
            caller.actor,
            f"instance.{wanted}",
            row.name,
            before={"state": before},
            after={"state": wanted, "instance": row.id},
        )
        return instance_answers(session, [row], caller.account_id)[0]
