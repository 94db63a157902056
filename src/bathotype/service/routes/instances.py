"""Instances: which machine runs which version."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Annotated, Any

from fastapi import Query, Response
from sqlalchemy import select

from bathotype.core.lifecycle.instances import INSTANCE_VERBS
from bathotype.core.lifecycle.references import Reference, parse_reference
from bathotype.service.access.principals import Principal
from bathotype.service.answers.instances import COUNTS, COUNTS_OF_LINE, instance_answer, instances_counted, instances_of
from bathotype.service.answers.rendered import list_of
from bathotype.service.catalogue import find_line
from bathotype.service.database import Reads
from bathotype.service.instances import change_instance, find_instance
from bathotype.service.records import Account, Instance, Line, Version
from bathotype.service.routes.callers import Operator, Reader, ReadsOf, ServiceOf
from bathotype.service.routes.paging import REVERSED, Paged
from bathotype.service.routes.route import api_router, sent
from bathotype.service.state import Service
from bathotype.service.usable import usable
from bathotype.wire import fleet as wire
from bathotype.wire.common import Page

router = api_router("/instances", tags=["instances"])


@router.get("", response_model=Page[wire.Instance])
def list_instances(
    caller: Reader,
    service: ServiceOf,
    reads: ReadsOf,
    paging: Paged,
    version: Annotated[str | None, Query(description="A version, or a line for all of its versions.")] = None,
    state: Annotated[
        list[wire.InstanceState] | None,
        Query(description="May be repeated; by default all that exist or are being launched."),
    ] = None,
    region: str | None = None,
    behind: Annotated[bool, Query(description="Only those behind their line's newest release.")] = False,
    find: Annotated[
        str | None, Query(max_length=200, description="Part of the name, or an id, a machine's id, or an address.")
    ] = None,
    sort: Annotated[wire.InstanceSort, Query(description=REVERSED)] = "-launched",
) -> Response:
    """Instances, newest first unless sorted."""
    flags, given = asked_for(reads, caller, service, version, state, region, behind, find)
    last = paging.after_texts(2)
    after = {"after_key": last[0], "after": last[1]} if last else {}
    statement = instances_of(sort=sort, after=bool(after), most=paging.fetched, **flags)
    rows = statement.rows(reads.connection, caller=caller.account_id, **given, **after)
    if not rows and version and "number" in given:
        usable(reads, caller, parse_reference(version))  # which says what is missing
    return paging.answer(
        rows,
        lambda row: [row.key, row.id],
        lambda: instances_counted(**flags).first(reads.connection, caller=caller.account_id, **given).count,
    )


def asked_for(
    reads: Reads, caller: Principal, service: Service, version: str | None, state: Sequence[str] | None,
    region: str | None, behind: bool, find: str | None,
) -> tuple[dict[str, bool], dict[str, Any]]:  # fmt: skip
    """What is asked for, as `answers.instances` names it, and the values."""
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
    flags = {name: name in given for name in ("number", "versions", "states", "region", "find")}
    return {**flags, "behind": behind}, given


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
        return instance_answer(session, find_instance(session, caller.account_id, instance), caller.account_id)


@router.post("/{instance}/stop")
def stop_instance(instance: str, caller: Operator, service: ServiceOf) -> wire.Instance:
    """Switch an instance off."""
    return _act(instance, caller, service, "stop")


@router.post("/{instance}/start")
def start_instance(instance: str, caller: Operator, service: ServiceOf) -> wire.Instance:
    """Switch a stopped instance on."""
    return _act(instance, caller, service, "start")


@router.post("/{instance}/terminate")
def terminate_instance(instance: str, caller: Operator, service: ServiceOf) -> wire.Instance:
    """Remove an instance with its disks, but for those to keep.  It cannot be brought back."""
    return _act(instance, caller, service, "terminate")


def _act(name: str, caller: Principal, service: ServiceOf, verb: str) -> wire.Instance:
    with service.database.reads() as session:
        row = find_instance(session, caller.account_id, name)
    site = service.reach.site(row.region, caller.account)
    change_instance(service.database, site, row.id, INSTANCE_VERBS[verb], caller.actor)
    with service.database.reads() as session:
        return instance_answer(session, session.get_one(Instance, row.id), caller.account_id)
