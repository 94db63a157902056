"""Instances: which machine runs which version."""

from __future__ import annotations

import re
from typing import Annotated, Any

from fastapi import Query, Response
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from bathotype.core.errors import NotFound, Refused
from bathotype.core.lifecycle.references import Reference, parse_reference
from bathotype.service import audit
from bathotype.service.access.principals import Principal
from bathotype.service.answers.instances import COUNTS, COUNTS_OF_LINE, instance_answer, instances_of
from bathotype.service.answers.rendered import list_of
from bathotype.service.catalogue import find_line
from bathotype.service.database import Reads
from bathotype.service.identities import forget_identity
from bathotype.service.records import Account, Instance, Line, Version
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.records.fleet import PRESENT
from bathotype.service.routes.callers import Operator, Reader, ReadsOf, ServiceOf
from bathotype.service.routes.common import Paged
from bathotype.service.routes.route import api_router, sent
from bathotype.service.usable import usable
from bathotype.wire import fleet as wire
from bathotype.wire.common import Page

router = api_router("/instances", tags=["instances"])


def find_instance(session: Session, caller: Principal, name: str) -> Instance:
    """An instance of the caller's account by id or name.  Raises `NotFound`, or `Refused` where several have the name."""
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


@router.get("", response_model=Page[wire.Instance])
def list_instances(
    caller: Reader,
    service: ServiceOf,
    reads: ReadsOf,
    paging: Paged,
    version: Annotated[str | None, Query(description="A version, or a line for all of its versions.")] = None,
    state: Annotated[
        list[wire.InstanceState] | None, Query(description="May be repeated; by default all that are there or coming.")
    ] = None,
    region: str | None = None,
    behind: Annotated[bool, Query(description="Only those behind their line's newest release.")] = False,
    find: Annotated[
        str | None, Query(max_length=200, description="Part of the name, or an id, a machine's id, or an address.")
    ] = None,
) -> Response:
    """Instances, newest first."""
    named = parse_reference(version) if version else None
    given: dict[str, Any] = {}
    if named and named.number and named.account in (None, caller.account):
        given |= {"line": named.line, "number": named.number}
    elif named:
        given["versions"] = _versions(reads, caller, named)
    if state:
        given["states"] = list(state)
    if region:
        given["region"] = service.reach.check_region(region)
    if find:
        given |= {"find": find, "like": "%" + re.sub("([%_/])", r"/\1", find) + "%"}
    if (after := paging.after(str)) is not None:
        given["after"] = after
    asked = {name: name in given for name in ("number", "versions", "states", "region", "find", "after")}
    rows = instances_of(**asked, behind=behind, most=paging.fetched).rows(
        reads.connection, caller=caller.account_id, **given
    )
    if not rows and named and "number" in given:
        usable(reads, caller, named)  # which says what is missing
    return paging.answer(rows, lambda row: row.id)


def _versions(reads: Reads, caller: Principal, reference: Reference) -> list[str]:
    if reference.number or reference.mark:
        return [usable(reads, caller, reference).id]
    with reads.session() as session:
        if reference.account in (None, caller.account):
            line = find_line(session, caller, reference.line)
            return list(session.scalars(select(Version.id).where(Version.line_id == line.id)))
        # Of another's line what this account runs counts, also where the share has ended meanwhile.
        line_of = select(Line.id).join(Account).where(Account.name == reference.account, Line.name == reference.line)
        mine = select(Instance.version_id).where(Instance.account_id == caller.account_id)
        return list(session.scalars(select(Version.id).where(Version.line_id.in_(line_of), Version.id.in_(mine))))


@router.get("/counts", response_model=list[wire.VersionCount])
def counts(caller: Reader, reads: ReadsOf, line: str | None = None) -> Response:
    """Instances per version and state."""
    if not line:
        return sent(list_of(COUNTS.rows(reads.connection, caller=caller.account_id)))
    rows = COUNTS_OF_LINE.rows(reads.connection, caller=caller.account_id, line=line)
    if not rows:
        with reads.session() as session:
            find_line(session, caller, line)
    return sent(list_of(rows))


@router.get("/{instance}")
def show_instance(instance: str, caller: Reader, reads: ReadsOf) -> wire.Instance:
    """One instance by id or name."""
    with reads.session() as session:
        return instance_answer(session, find_instance(session, caller, instance), caller.account_id)


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
        row = find_instance(session, caller, name)
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
        return instance_answer(session, row, caller.account_id)
