"""Launch rules and allowances."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query
from sqlalchemy import or_, select
from sqlalchemy.orm import Session

from bathotype.core.errors import Forbidden, Invalid, NotFound, Refused
from bathotype.core.lifecycle.references import check_name, parse_reference
from bathotype.core.lifecycle.rules import LaunchRule
from bathotype.service import audit
from bathotype.service.access.principals import Principal
from bathotype.service.admission import JUDGED, judge, rooms
from bathotype.service.answers.rules import allowance_answer, verdicts_of
from bathotype.service.catalogue import find_line, find_version
from bathotype.service.records import Account, Allowance, Line, PoolLine, RuleRow, Version
from bathotype.service.records.base import CHANGE, new_id, utcnow
from bathotype.service.routes.callers import Reader, ReadsOf, Ruler, ServiceOf
from bathotype.service.routes.conditions import Conditional
from bathotype.service.routes.paging import REVERSED, Ordering, Paged
from bathotype.service.routes.route import api_router
from bathotype.service.shares import shares_of_version
from bathotype.service.state import Service
from bathotype.service.usable import found, usable_of
from bathotype.wire import rules as wire
from bathotype.wire.common import Page

router = api_router(tags=["rules"])
ForAll = Annotated[bool, Query(alias="all", description="The rule holds for every account.")]


def _holder(service: Service, caller: Principal, for_all: bool) -> str | None:
    """The account that a rule is of; rules for all are set by stewards of the hosting account."""
    if not for_all:
        return caller.account_id
    host = service.settings.places.host_account
    if caller.account != host:
        raise Forbidden(
            "Rules for all accounts are set by the stewards of the hosting account.",
            advice=f"That is {host}." if host else "None is named in the regions file: set `host_account` there.",
        )
    return None


def _set_rule(session: Session, row: RuleRow) -> wire.SetRule:
    account = session.get(Account, row.account_id) if row.account_id else None
    return wire.SetRule(
        holds_for=account.name if account else None,
        rule=LaunchRule.model_validate(row.body),
        set_by=row.set_by,
        set_at=row.set_at,
    )


_RULES = Ordering(RuleRow.id, name=RuleRow.name, set=RuleRow.set_at)


@router.get("/rules")
def list_rules(
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    sort: Annotated[wire.RuleSort, Query(description=REVERSED)] = "name",
) -> Page[wire.SetRule]:
    """The rules that hold for launches of this account: its own, and those for every account."""
    query = select(RuleRow).where(or_(RuleRow.account_id.is_(None), RuleRow.account_id == caller.account_id))
    with reads.session() as session:
        rows, following, total = paging.in_order(session, query, _RULES, sort)
        return Page(items=[_set_rule(session, row[0]) for row in rows], next=following, total=total)


@router.put("/rules/{name}")
def set_rule(
    name: str, body: LaunchRule, caller: Ruler, service: ServiceOf, conditions: Conditional, for_all: ForAll = False
) -> wire.SetRule:
    """Set a rule, replacing one of the same name."""
    check_name(name, "launch rule")
    if body.name != name:
        raise Invalid(f"The rule is named {body.name!r} in its body.", advice=f"Put {name!r} there.")
    holder = _holder(service, caller, for_all)
    for region in body.regions or ():
        service.reach.check_region(region)
    with service.database.sessions.begin() as session:
        row = _find_rule(session, holder, name, lock=True)
        conditions.check(f"The rule {name}", _set_rule(session, row) if row else None)
        before = row.body if row else None
        if row is None:
            row = RuleRow(id=new_id("lr"), account_id=holder, name=name)
            session.add(row)
        row.body, row.set_by, row.set_at = body.model_dump(mode="json"), caller.actor, utcnow()
        session.flush()
        audit.record(session, caller.account_id, caller.actor, "rule.set", name, before=before, after=row.body)
        return _set_rule(session, row)


def _find_rule(session: Session, holder: str | None, name: str, *, lock: bool = False) -> RuleRow | None:
    mine = RuleRow.account_id.is_(None) if holder is None else RuleRow.account_id == holder
    query = select(RuleRow).where(mine, RuleRow.name == name)
    row: RuleRow | None = session.scalar(query.with_for_update(**CHANGE) if lock else query)
    return row


def _no_rule(name: str) -> NotFound:
    return NotFound(f"There is no rule {name!r}.", advice="`bathotype rules list` shows them.")


@router.delete("/rules/{name}", status_code=204)
def drop_rule(name: str, caller: Ruler, service: ServiceOf, conditions: Conditional, for_all: ForAll = False) -> None:
    """Remove a rule."""
    holder = _holder(service, caller, for_all)
    with service.database.sessions.begin() as session:
        row = _find_rule(session, holder, name, lock=True)
        if row is None:
            raise _no_rule(name)
        conditions.check(f"The rule {name}", _set_rule(session, row))
        session.delete(row)
        audit.record(session, caller.account_id, caller.actor, "rule.removed", name, before=row.body)


@router.get("/rules/explanation")
def explain(
    caller: Reader,
    service: ServiceOf,
    reads: ReadsOf,
    reference: str,
    region: str,
    account: Annotated[str | None, Query(description="Who would launch; your own account if left out.")] = None,
    tag: Annotated[list[str] | None, Query(description="Names of tags that the launch would carry.")] = None,
) -> wire.Explanation:
    """Each rule's verdict on a launch, and what would satisfy it.

    The owner of a line may ask for another account; the answer then has the rules for all, not that account's own.
    """
    service.reach.check_region(region)
    version, row = found(JUDGED, reads, caller, reference)
    who, seen, blockers = (caller.account_id, caller.account), version, []
    own = not account or account == caller.account
    if not own:
        with reads.session() as session:
            other = session.scalar(select(Account).where(Account.name == account))
            if other is None or version.owner_id != caller.account_id:
                raise NotFound(f"There is no account {account!r} here.")
            record = session.get_one(Version, version.id)
            shares = shares_of_version(session, other.id, record)
            who, seen = (other.id, other.name), usable_of(session, record, shares)
            blockers = [] if shares else [f"{reference} is not shared with {other.name}."]
    tags = {*service.reach.account_tags(who[1]), *(t.partition("=")[0] for t in tag or ())}
    judged = judge(reads.connection, who, version, region, tags, only_general=not own, row=row if own else None)
    try:
        if not blockers:
            seen.require_region(region)
    except Refused as error:
        blockers.append(str(error))
    if judged.limited:
        with reads.session() as session:
            counted = rooms(session, who[0], version.id, version.line_id)
        blockers += [b for room in counted if (b := room.blocker(1))]
    return wire.Explanation(
        reference=version.written_by(caller.account_id),
        account=who[1],
        region=region,
        admitted=judged.decision.admitted and not blockers,
        verdicts=verdicts_of(judged),
        blockers=blockers,
    )


@router.get("/rules/{name}")
def show_rule(name: str, caller: Reader, reads: ReadsOf, for_all: ForAll = False) -> wire.SetRule:
    """One rule of this account, or of those for all."""
    with reads.session() as session:
        row = _find_rule(session, None if for_all else caller.account_id, name)
        if row is None:
            raise _no_rule(name)
        return _set_rule(session, row)


# Allowances


_ALLOWANCES = Ordering(Allowance.id, name=Allowance.name, kind=Allowance.kind, most=Allowance.most)


@router.get("/allowances")
def list_allowances(
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    sort: Annotated[wire.AllowanceSort, Query(description=REVERSED)] = "name",
) -> Page[wire.Allowance]:
    """Allowances of this account, and those of others that limit it by name."""
    query = select(Allowance).where(
        or_(Allowance.account_id == caller.account_id, Allowance.consumer_id == caller.account_id)
    )
    with reads.session() as session:
        rows, following, total = paging.in_order(session, query, _ALLOWANCES, sort)
        return Page(items=[allowance_answer(session, row[0]) for row in rows], next=following, total=total)


@router.get("/allowances/{name}")
def show_allowance(name: str, caller: Reader, reads: ReadsOf) -> wire.Allowance:
    """One allowance of this account."""
    with reads.session() as session:
        return allowance_answer(session, _find_allowance(session, caller, name))


@router.put("/allowances/{name}")
def set_allowance(
    name: str, body: wire.AllowanceRequest, caller: Ruler, service: ServiceOf, conditions: Conditional
) -> wire.Allowance:
    """Set an allowance, replacing one of the same name.  What runs beyond it keeps running."""
    check_name(name, "allowance")
    given = {"line": body.line, "version": body.version, "pool": body.lines}
    if [k for k, v in given.items() if v] != ([body.kind] if body.kind in given else []):
        raise Invalid(
            f"An allowance of kind {body.kind} names {'nothing else' if body.kind == 'account' else body.kind}.",
            advice="Give --line, --version or --pool, one of them.",
        )
    with service.database.sessions.begin() as session:
        other = None
        if body.consumer:
            other = session.scalar(select(Account).where(Account.name == body.consumer))
            if other is None:
                raise NotFound(f"There is no account {body.consumer!r}.")
        row = session.scalar(
            select(Allowance)
            .where(Allowance.account_id == caller.account_id, Allowance.name == name)
            .with_for_update(**CHANGE)
        )
        seen = allowance_answer(session, row) if row else None
        conditions.check(f"The allowance {name}", seen)
        before = seen.model_dump() if seen else None
        if row is None:
            row = Allowance(id=new_id("aw"), account_id=caller.account_id, name=name)
            session.add(row)
        row.kind, row.most, row.set_by, row.set_at = body.kind, body.most, caller.actor, utcnow()
        row.line_id = find_line(session, caller, body.line).id if body.line else None
        row.version_id = _version(session, caller, body.version).id if body.version else None
        row.consumer_id = other.id if other else None
        session.flush()
        _pool(session, row, [find_line(session, caller, line) for line in body.lines or ()])
        answer = allowance_answer(session, row)
        audit.record(
            session, caller.account_id, caller.actor, "allowance.set", name, before=before, after=answer.model_dump()
        )
        return answer


def _version(session: Session, caller: Principal, text: str) -> Version:
    if not parse_reference(text).exact:
        raise Invalid(f"{text!r} names no one version.", advice="Write line@1.4.0.")
    return find_version(session, caller, text)


def _pool(session: Session, row: Allowance, lines: list[Line]) -> None:
    for old in session.scalars(select(PoolLine).where(PoolLine.allowance_id == row.id)).all():
        session.delete(old)
    session.flush()
    session.add_all(PoolLine(allowance_id=row.id, line_id=i) for i in {line.id for line in lines})
    session.flush()


def _find_allowance(session: Session, caller: Principal, name: str) -> Allowance:
    row = session.scalar(select(Allowance).where(Allowance.account_id == caller.account_id, Allowance.name == name))
    if row is None:
        raise NotFound(f"There is no allowance {name!r}.", advice="`bathotype allowances list` shows them.")
    return row


@router.delete("/allowances/{name}", status_code=204)
def drop_allowance(name: str, caller: Ruler, service: ServiceOf, conditions: Conditional) -> None:
    """Remove an allowance."""
    with service.database.sessions.begin() as session:
        row = _find_allowance(session, caller, name)
        conditions.check(f"The allowance {name}", allowance_answer(session, row))
        audit.record(session, caller.account_id, caller.actor, "allowance.removed", name, before={"most": row.most})
        session.delete(row)
