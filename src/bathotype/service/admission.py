"""Whether a launch is admitted: launch rules and allowances, gathered from the records and decided in core."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from sqlalchemy import func, or_, select
from sqlalchemy.orm import Session

from bathotype.core.lifecycle.rules import Decision, LaunchFacts, LaunchRule, decide
from bathotype.core.units import plural
from bathotype.service.records import Account, Allowance, Finding, Instance, Line, PoolLine, RuleRow, Version
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.records.fleet import PRESENT
from bathotype.service.shares import owner_of
from bathotype.service.signatures import signed


@dataclass(frozen=True)
class Judged:
    """The rules that hold for an account, and what they decided; ``holds_for`` is by the rule's place."""

    decision: Decision
    holds_for: tuple[str | None, ...]


def rules_for(session: Session, account_id: str, *, only_general: bool = False) -> list[RuleRow]:
    """Rules for all accounts first, then the account's own, each by name."""
    mine = (
        RuleRow.account_id.is_(None)
        if only_general
        else or_(RuleRow.account_id.is_(None), RuleRow.account_id == account_id)
    )
    return list(session.scalars(select(RuleRow).where(mine).order_by(RuleRow.account_id.nulls_first(), RuleRow.name)))


def judge(
    session: Session,
    account: Account,
    version: Version,
    region: str,
    tags: Iterable[str],
    *,
    only_general: bool = False,
) -> Judged:
    """Decide by every rule that holds for an account."""
    rows = rules_for(session, account.id, only_general=only_general)
    rules = [LaunchRule.model_validate(row.body) for row in rows]
    decision = decide(rules, facts(session, account.name, version, region, tags, rules))
    return Judged(decision, tuple(account.name if row.account_id else None for row in rows))


def facts(
    session: Session, account: str, version: Version, region: str, tags: Iterable[str], rules: list[LaunchRule]
) -> LaunchFacts:
    """The facts about a launch that the rules need; facts that no rule uses are not looked up."""
    unaccepted = 0
    if any(r.residue_clean for r in rules):
        unaccepted = (
            session.scalar(
                select(func.count())
                .select_from(Finding)
                .where(Finding.version_id == version.id, Finding.accepted_by.is_(None), Finding.severity != "low")
            )
            or 0
        )
    return LaunchFacts(
        account=account,
        owner=owner_of(session, version),
        line=version.line.name,
        number=version.number,
        state=version.state,
        region=region,
        now=utcnow(),
        released_at=version.released_at,
        signed=signed(session, version) if any(r.signed for r in rules) else None,
        open_findings=unaccepted,
        tags=frozenset(tags),
    )


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
            f"Allowance {self.row.name}: {self.used} of {self.row.most} are in use, so {more}. "
            "Terminate others, or have the allowance raised."
        )


def rooms(session: Session, account_id: str, version: Version, *, lock: bool = False) -> list[Room]:
    """Every allowance that a launch counts in.

    With ``lock`` launches that count in the same one go one after another until each has committed: of a hundred at
    once for the last ten places exactly ten succeed.
    """
    pools = select(PoolLine.allowance_id).where(PoolLine.line_id == version.line_id)
    query = (
        select(Allowance)
        .where(
            or_(Allowance.consumer_id.is_(None), Allowance.consumer_id == account_id),
            or_(
                Allowance.line_id == version.line_id,
                Allowance.version_id == version.id,
                Allowance.id.in_(pools),
                (Allowance.kind == "account") & (Allowance.account_id == account_id),
            ),
        )
        .order_by(Allowance.id)
    )
    rows = session.scalars(query.with_for_update(**CHANGE) if lock else query).all()
    return [Room(row, used_of(session, row)) for row in rows]


def used_of(session: Session, row: Allowance) -> int:
    """Instances that count in an allowance now."""
    query = select(func.count()).select_from(Instance).where(Instance.state.in_(PRESENT))
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
