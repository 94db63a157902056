"""Whether a launch is admitted: launch rules and allowances, gathered from the records and decided in core."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from sqlalchemy import ColumnElement, Connection, String, Text, and_, bindparam, cast, func, literal_column, or_, select
from sqlalchemy.dialects.postgresql import aggregate_order_by, distinct_on
from sqlalchemy.orm import Session, aliased

from bathotype.core.errors import Refused
from bathotype.core.lifecycle.rules import Decision, LaunchFacts, LaunchRule, decide
from bathotype.core.units import plural
from bathotype.service.records import Account, Allowance, CheckRun, Finding, Instance, Line, PoolLine, RuleRow, Version
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.records.fleet import IS_PRESENT
from bathotype.service.signatures import signed
from bathotype.service.statements import Statement
from bathotype.service.usable import Lookup, Usable


@dataclass(frozen=True)
class Judged:
    """The rules that hold for an account, and what they decided; ``holds_for`` is by the rule's place.

    ``limited`` is whether some allowance counts the launch.
    """

    decision: Decision
    holds_for: tuple[str | None, ...]
    limited: bool


def rules_for(session: Session, account_id: str) -> list[RuleRow]:
    """Rules for all accounts first, then the account's own, each by name."""
    mine = or_(RuleRow.account_id.is_(None), RuleRow.account_id == account_id)
    return list(session.scalars(select(RuleRow).where(mine).order_by(RuleRow.account_id.nulls_first(), RuleRow.name)))


def _concerned(consumer: Any, version: Any, line: Any) -> ColumnElement[bool]:
    """Whether an allowance counts a launch of a version, of a line, by a consumer."""
    pools = select(PoolLine.allowance_id).where(PoolLine.line_id == line)
    return and_(
        or_(Allowance.consumer_id.is_(None), Allowance.consumer_id == consumer),
        or_(
            Allowance.line_id == line,
            Allowance.version_id == version,
            Allowance.id.in_(pools),
            (Allowance.kind == "account") & (Allowance.account_id == consumer),
        ),
    )


def _facts(account: Any, version: Any, line: Any) -> tuple[ColumnElement[Any], ...]:
    """The rules that hold for an account, and what they and its allowances may need of a version of a line."""
    judged, judged_line = aliased(Version), aliased(Line)  # the statement around this may have both itself
    own = RuleRow.account_id.is_not(None)
    rule = func.json_build_object("own", own, "body", RuleRow.body)
    rules = select(func.json_agg(aggregate_order_by(rule, own, RuleRow.name))).where(
        or_(RuleRow.account_id.is_(None), RuleRow.account_id == account)
    )
    findings = select(func.count()).where(
        Finding.version_id == version, Finding.accepted_by.is_(None), Finding.severity != "low"
    )
    place = (CheckRun.region, CheckRun.machine_size)
    runs = (
        select(CheckRun.judgements)
        .ext(distinct_on(*place))
        .join(judged, judged.id == CheckRun.version_id)
        .join(judged_line, judged_line.id == judged.line_id)
        .where(
            CheckRun.version_id == version,
            CheckRun.account_id == judged_line.account_id,
            CheckRun.instance_id.is_(None),
            CheckRun.passed.is_not(None),
        )
        .order_by(*place, CheckRun.operation_id.desc())
        .subquery()
    )
    last = select(func.json_agg(runs.c.judgements))
    limited = select(Allowance.id).where(_concerned(account, version, line)).exists()
    return (
        cast(rules.scalar_subquery(), Text).label("rules"),
        findings.scalar_subquery().label("findings"),
        last.scalar_subquery().label("checks"),
        limited.label("limited"),
    )


_FACTS = Statement(select(*_facts(*(bindparam(name, type_=String) for name in ("account", "version", "line")))))
#: Finds a version, and what its caller's launch of it is judged by.
JUDGED = Lookup(*_facts(bindparam("caller", type_=String), *map(literal_column, ("versions.id", "versions.line_id"))))


@lru_cache(maxsize=256)
def _rules(text: str) -> tuple[tuple[bool, LaunchRule], ...]:
    """Rules as the database gives them, each with whether it is the account's own."""
    return tuple((rule["own"], LaunchRule.model_validate(rule["body"])) for rule in json.loads(text))


def judge(
    over: Connection | Session,
    account: tuple[str, str],
    version: Usable,
    region: str,
    tags: Iterable[str],
    *,
    subnet: str = "",
    firewalls: Iterable[str] = (),
    public: bool = False,
    only_general: bool = False,
    row: Any = None,
) -> Judged:
    """Decide by every rule that holds for an account, given by id and name; ``subnet``, ``firewalls`` and ``public`` say
    where an instance attaches.  ``row`` is what `JUDGED` found, where the account was its caller."""
    row = row or _FACTS.first(over, account=account[0], version=version.id, line=version.line_id)
    held = [(own, rule) for own, rule in _rules(row.rules or "[]") if not (only_general and own)]
    rules = [rule for _, rule in held]
    valid = None
    if version.has_signature and any(rule.signed for rule in rules):
        with Session(over.connection() if isinstance(over, Session) else over) as session:
            valid = signed(session, session.get_one(Version, version.id))
    facts = LaunchFacts(
        account=account[1],
        owner=version.owner,
        line=version.line,
        number=version.number,
        state=version.state,
        region=region,
        now=utcnow(),
        released_at=version.released_at,
        signed=valid,
        open_findings=row.findings,
        checks=_passed(row.checks or ()),
        tags=frozenset(tags),
        subnet=subnet,
        firewalls=frozenset(firewalls),
        public=public,
    )
    holders = tuple(account[1] if own else None for own, _ in held)
    return Judged(decide(rules, facts), holders, row.limited)


def _passed(places: Sequence[Sequence[dict[str, Any]]]) -> frozenset[str]:
    """The checks that have passed in each place where they were judged last."""
    judged = [one for judgements in places for one in judgements]
    return frozenset(one["id"] for one in judged) - {one["id"] for one in judged if not one["passed"]}


@dataclass(frozen=True)
class Room:
    """An allowance that concerns a launch, and what is used of it."""

    row: Allowance
    used: int

    def blocker(self, count: int) -> str | None:
        """The reason why so many more instances may not run, or None."""
        if self.used + count <= self.row.most:
            return None
        left = max(0, self.row.most - self.used)
        more = f"{plural(left, 'more instance')} may run, not {count}" if left else "no more instances may run"
        return (
            f"Allowance {self.row.name}: {self.used} of {self.row.most} in use, so {more}. "
            "Terminate others, or have the allowance raised."
        )


def rooms(session: Session, account_id: str, version_id: str, line_id: str, *, lock: bool = False) -> list[Room]:
    """Every allowance that a launch counts in.

    With ``lock`` launches that count in the same one go one after another until each has committed: of a hundred at
    once for the last ten places exactly ten succeed.
    """
    query = select(Allowance).where(_concerned(account_id, version_id, line_id)).order_by(Allowance.id)
    rows = session.scalars(query.with_for_update(**CHANGE) if lock else query).all()
    return [Room(row, used_of(session, row)) for row in rows]


def need_room(session: Session, account_id: str, version_id: str, line_id: str, count: int = 1) -> None:
    """Raises `Refused` where an allowance has no room for so many machines that are thrown away again.

    They hold no place in it: what is launched meanwhile counts, they do not.
    """
    if full := [b for room in rooms(session, account_id, version_id, line_id) if (b := room.blocker(count))]:
        raise Refused(" ".join(full), code="launch-refused")


def used_of(session: Session, row: Allowance) -> int:
    """Instances that count in an allowance now."""
    query = select(func.count()).select_from(Instance).where(IS_PRESENT)
    if row.kind == "account":
        query = query.where(Instance.account_id == row.account_id)
    elif row.kind == "version":
        query = query.where(Instance.version_id == row.version_id)
    else:
        lines = [row.line_id] if row.kind == "line" else select(PoolLine.line_id).where(PoolLine.allowance_id == row.id)
        query = query.where(Instance.version_id.in_(select(Version.id).where(Version.line_id.in_(lines))))
    if row.consumer_id:
        query = query.where(Instance.account_id == row.consumer_id)
    return session.scalar(query) or 0


def subject_of(session: Session, row: Allowance) -> str:
    """What an allowance counts, as people write it."""
    if row.kind == "account":
        return session.get_one(Account, row.account_id).name
    if row.kind == "version":
        version = session.get_one(Version, row.version_id)
        return f"{version.line.name}@{version.number}"
    if row.kind == "line":
        return session.get_one(Line, row.line_id).name
    names = session.scalars(select(Line.name).join(PoolLine).where(PoolLine.allowance_id == row.id).order_by(Line.name))
    return ", ".join(names)
