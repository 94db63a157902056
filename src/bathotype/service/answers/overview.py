"""What a person sees first of an account, a line, a version, an instance."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from sqlalchemy import exists, func, or_, select
from sqlalchemy.orm import Session, aliased

from bathotype.core.lifecycle import sentences
from bathotype.core.lifecycle.offers import (
    Caller,
    LineFacts,
    VersionFacts,
    instance_offers,
    line_offers,
    version_offers,
)
from bathotype.core.lifecycle.states import VersionState
from bathotype.core.units import plural
from bathotype.service.access.principals import Principal
from bathotype.service.answers.calendar import dates_of
from bathotype.service.answers.events import events_of
from bathotype.service.answers.instances import instance_answer
from bathotype.service.answers.lines import line_answer
from bathotype.service.answers.operations import offers_answer, operation_answers
from bathotype.service.answers.rules import allowance_answer
from bathotype.service.answers.versions import shown
from bathotype.service.catalogue import holds_now, last_checks, ready_regions, reference_of, usage_of
from bathotype.service.history import Course, course_of
from bathotype.service.records import (
    Account,
    Alert,
    Allowance,
    Finding,
    Instance,
    Line,
    Operation,
    Placement,
    Share,
    Version,
)
from bathotype.service.records.base import utcnow
from bathotype.service.records.fleet import IS_PRESENT
from bathotype.wire import overview as wire
from bathotype.wire.fleet import Event
from bathotype.wire.sharing import Due

HISTORY = timedelta(days=120)
_FAILED_WITHIN = timedelta(days=7)
_NEAR = timedelta(days=60)
_USED = 0.9


def sentence_answer(sentence: sentences.Sentence) -> list[wire.Part]:
    """A sentence as it is sent."""
    return [wire.Part.model_validate(part, from_attributes=True) for part in sentence]


def offers_caller(caller: Principal) -> Caller:
    """Who asks, as offers are judged for."""
    return Caller(caller.actor, str(caller.role), caller.account, caller.verbs)


# An account


@dataclass(frozen=True)
class _Count:
    """A version of the account's own, and how many instances of any account run it."""

    line_id: str
    version_id: str
    number: str
    offered: bool
    running: int


def _counts(session: Session, lines: Iterable[str]) -> dict[str, list[_Count]]:
    """The versions of lines, lowest first, each with what runs of it."""
    of_lines = Version.line_id.in_(list(lines))
    present = (
        select(Instance.version_id, func.count().label("running"))
        .where(IS_PRESENT, Instance.version_id.in_(select(Version.id).where(of_lines)))
        .group_by(Instance.version_id)
        .subquery()
    )
    rows = session.execute(
        select(Version.line_id, Version.id, Version.number, Version.state, Version.pin_only, present.c.running)
        .outerjoin(present, present.c.version_id == Version.id)
        .where(of_lines)
        .order_by(Version.sort_key)
    )
    out: dict[str, list[_Count]] = {}
    for line, version, number, state, pin_only, running in rows:
        offered = state == VersionState.RELEASED and not pin_only
        out.setdefault(line, []).append(_Count(line, version, number, offered, running or 0))
    return out


def _newest(counts: list[_Count]) -> int | None:
    """The place of the newest version that a bare line means."""
    return next((n for n in range(len(counts) - 1, -1, -1) if counts[n].offered), None)


def _behind(counts: list[_Count]) -> int:
    newest = _newest(counts)
    return sum(c.running for c in counts[:newest]) if newest is not None else 0


def account_overview(session: Session, caller: Principal) -> wire.Overview:
    """What is seen first of an account."""
    now = utcnow()
    lines = session.scalars(select(Line).where(Line.account_id == caller.account_id).order_by(Line.name)).all()
    counts = _counts(session, [line.id for line in lines])
    course = course_of(session, [line.id for line in lines], (now - HISTORY).date())
    mine = Instance.account_id == caller.account_id
    states = _grouped(session, Instance.state, mine, IS_PRESENT)
    dates = [d for d in dates_of(session, caller) if _near(d)]
    needs = list(_needs(session, caller, dates))
    running = session.scalars(
        select(Operation)
        .where(Operation.account_id == caller.account_id, Operation.state.in_(("queued", "running")))
        .order_by(Operation.id.desc())
        .limit(20)
    ).all()
    run = session.scalar(select(func.count(Instance.version_id.distinct())).where(mine, IS_PRESENT)) or 0
    sentence = sentences.of_today(
        needs=len(needs),
        dates=len(dates),
        running=sum(states.values()),
        versions=run,
        failed=sum(need.kind == "operation" for need in needs),
    )
    return wire.Overview(
        account=caller.account,
        sentence=sentence_answer(sentence),
        needs=needs,
        running_operations=operation_answers(session, running),
        dates=dates,
        lines=[_summary(line, counts.get(line.id, []), course) for line in lines],
        days=course.days,
        regions=_grouped(session, Instance.region, mine, IS_PRESENT),
        states=states,
        versions=_grouped(session, Version.state, Version.line_id.in_([line.id for line in lines])),
        last_events=events(session, caller, most=8),
    )


def _grouped(session: Session, column: Any, *where: Any) -> dict[str, int]:
    return dict(session.execute(select(column, func.count()).where(*where).group_by(column).order_by(column)).all())


def events(session: Session, caller: Principal, *, most: int, subject: str = "") -> list[Event]:
    """The newest events of an account, or of one thing."""
    statement = events_of(subject=bool(subject), action=False, after=False, most=most)
    given = {"subject": subject} if subject else {}
    return [Event.model_validate_json(row.body) for row in statement.rows(session, caller=caller.account_id, **given)]


def _summary(line: Line, counts: list[_Count], course: Course) -> wire.LineSummary:
    newest = _newest(counts)
    current = [0] * len(course.days)
    older = [0] * len(course.days)
    for number, count in enumerate(counts):
        into = current if number == newest else older
        for day, running in enumerate(course.counts.get(count.version_id, ())):
            into[day] += running
    return wire.LineSummary(
        name=line.name,
        about=line.about,
        newest=counts[newest].number if newest is not None else None,
        versions=len(counts),
        running=sum(c.running for c in counts),
        behind=_behind(counts),
        older=older,
        current=current,
    )


def _near(due: Due) -> bool:
    runs = due.running or due.elsewhere
    return (
        bool(runs)
        and due.retire_on is not None
        and due.state == "sunset"
        and due.retire_on <= (utcnow() + _NEAR).date()
    )


# What needs somebody


def _needs(session: Session, caller: Principal, dates: list[Due]) -> Iterable[wire.Need]:
    yield from _alerts(session, caller)
    yield from _failed(session, caller)
    yield from _open_findings(session, caller)
    yield from _proposed(session, caller)
    yield from _ending(dates)
    yield from _nearly_used(session, caller)


_ALERTS = {
    "identity-twice": ("One identity occurs twice", "See who has it"),
    "replica-damaged": ("A replica is damaged", "Look at it"),
    "deleted-at-site": ("Deleted at the site", "Look at it"),
    "first-boot-differs": ("Not as its first-boot settings say", "Look at it"),
    "not-admitted": ("A machine runs that no rule admits", "Look at the rules"),
    "mark-dropped": ("A mark points nowhere any more", "Set it on another version"),
    "site-silent": ("A site does not answer", "See the regions"),
}


def _alerts(session: Session, caller: Principal) -> Iterable[wire.Need]:
    query = select(Alert).where(
        Alert.account_id == caller.account_id, Alert.cleared_at.is_(None), Alert.acknowledged_at.is_(None)
    )
    for row in session.scalars(query.order_by(Alert.raised_at.desc()).limit(50)):
        title, step = _ALERTS.get(row.kind, (row.kind, "Look at it"))
        yield wire.Need(
            kind="alert", title=f"{title}: {row.subject}", detail=row.text, subject=row.subject, step=step,
            since=row.raised_at, alert=row.id,
        )  # fmt: skip


def _failed(session: Session, caller: Principal) -> Iterable[wire.Need]:
    """Operations that failed lately, unless the same has succeeded since."""
    later = aliased(Operation)
    query = select(Operation).where(
        Operation.account_id == caller.account_id,
        Operation.state == "failed",
        Operation.ended_at > utcnow() - _FAILED_WITHIN,
        ~exists().where(
            later.account_id == Operation.account_id,
            later.kind == Operation.kind,
            later.subject == Operation.subject,
            later.state == "succeeded",
            later.id > Operation.id,
        ),
    )
    for row in session.scalars(query.order_by(Operation.id.desc()).limit(20)):
        error = row.error or {}
        yield wire.Need(
            kind="operation",
            title=f"{'Proof' if row.kind == 'prove' else row.kind.replace('-', ' ').capitalize()} of {row.subject} failed",
            detail=f"{error.get('message', '')} {error.get('advice', '')}".strip(),
            subject=row.id,
            step="Look at it",
            since=row.ended_at or row.created_at,
        )


def _open_findings(session: Session, caller: Principal) -> Iterable[wire.Need]:
    query = (
        select(Version, func.count(), func.min(Finding.path))
        .join(Line, Line.id == Version.line_id)
        .join(Finding, Finding.version_id == Version.id)
        .where(
            Line.account_id == caller.account_id,
            Version.state == VersionState.STAGED,
            Finding.severity == "high",
            Finding.accepted_by.is_(None),
        )
        .group_by(Version.id, Line.id)
    )
    for version, count, path in session.execute(query.order_by(Version.id.desc()).limit(20)):
        reference = reference_of(version)
        yield wire.Need(
            kind="finding",
            title=f"{plural(count, 'finding')} of high severity in {reference}",
            detail=f"First in {path}. The version cannot be released before each is removed or accepted with a reason.",
            subject=reference,
            step="Look at them" if count > 1 else "Look at it",
            since=version.created_at,
        )


def _proposed(session: Session, caller: Principal) -> Iterable[wire.Need]:
    query = (
        select(Share, Account.name, Line.name, Version.number)
        .join(Account, Account.id == Share.owner_id)
        .join(Line, Line.id == Share.line_id)
        .outerjoin(Version, Version.id == Share.version_id)
        .where(Share.consumer_id == caller.account_id, Share.state == "proposed")
    )
    for share, owner, line, number in session.execute(query.order_by(Share.id).limit(50)):
        what = f"{line}@{number}" if number else f"the line {line}"
        where = f"For {', '.join(share.regions)}" if share.regions else "For all regions"
        until = f", until {share.until}" if share.until else ""
        note = f': "{share.note}"' if share.note else ""
        yield wire.Need(
            kind="share",
            title=f"{owner} offers {what}",
            detail=f"{where}{until}{note}. Nothing is granted before you accept.",
            subject=share.id,
            step="Decide",
            since=share.proposed_at,
        )


def _ending(dates: list[Due]) -> Iterable[wire.Need]:
    for due in dates:
        if due.running and due.retire_on and due.retire_on <= (utcnow() + timedelta(days=14)).date():
            yield wire.Need(
                kind="date",
                title=f"{due.reference} retires on {sentences.spoken(due.retire_on, utcnow().date())} while {plural(due.running, 'instance')} still "
                f"{'runs' if due.running == 1 else 'run'} it",
                detail=f"Launch {due.newest} in their place." if due.newest else "Its line offers no newer version.",
                subject=due.reference,
                step="See them",
                since=utcnow(),
            )


def _nearly_used(session: Session, caller: Principal) -> Iterable[wire.Need]:
    query = select(Allowance).where(
        or_(Allowance.account_id == caller.account_id, Allowance.consumer_id == caller.account_id)
    )
    for row in session.scalars(query.order_by(Allowance.name)).all():
        answer = allowance_answer(session, row)
        if answer.used >= _USED * answer.most:
            yield wire.Need(
                kind="allowance",
                title=f"The allowance {row.name} is nearly used"
                if answer.used < answer.most
                else f"The allowance {row.name} is used up",
                detail=f"{answer.used} of {answer.most} {answer.subject} run.",
                subject=row.name,
                step="See it",
                since=row.set_at,
            )


# A line


def line_overview(session: Session, caller: Principal, line: Line) -> wire.LineOverview:
    """What is seen first of a line of the account's own."""
    counts = _counts(session, [line.id]).get(line.id, [])
    newest = _newest(counts)
    runs = _runs(session, Version.line_id == line.id)
    behind = _behind(counts)
    ending = session.scalar(
        select(Version)
        .where(Version.line_id == line.id, Version.state == VersionState.SUNSET, Version.retire_on.is_not(None))
        .order_by(Version.retire_on)
        .limit(1)
    )
    last = session.scalar(
        select(Version).where(Version.line_id == line.id).order_by(Version.created_at.desc()).limit(1)
    )
    number = counts[newest].number if newest is not None else ""
    current = session.get(Version, counts[newest].version_id) if newest is not None else None
    total = sum(c.running for c in counts)
    running = {c.version_id: c.running for c in counts}
    sentence = sentences.of_line(
        line.name,
        newest=number,
        versions=len(counts),
        running=total,
        regions=len({r.region for r in runs}),
        behind=behind,
        next_end=sentences.Ending(reference_of(ending), ending.retire_on, running.get(ending.id, 0))
        if ending and ending.retire_on
        else None,
        today=utcnow().date(),
    )
    facts = LineFacts(
        name=line.name,
        newest=number,
        regions=tuple(ready_regions(session, current)) if current else (),
        behind=behind,
        running=total,
        versions=len(counts),
        source=_came_from(last) if last else "",
        demands=line.demands,
        proven_first=line.proven_first,
        placed=tuple(
            session.scalars(
                select(Placement.region)
                .where(Placement.line_id == line.id, Placement.leaving.is_(False))
                .order_by(Placement.region)
            )
        ),
    )
    return wire.LineOverview(
        line=line_answer(session, line),
        sentence=sentence_answer(sentence),
        offers=offers_answer(line_offers(offers_caller(caller), facts)),
        runs=runs,
        behind=behind,
        shared_with=_shared_with(session, line.id, None),
        operations=_under_way(session, caller, line.name),
    )


def _runs(session: Session, *where: Any) -> list[wire.Runs]:
    rows = session.execute(
        select(Line.name, Version.number, Account.name, Instance.region, func.count())
        .join(Version, Version.id == Instance.version_id)
        .join(Line, Line.id == Version.line_id)
        .join(Account, Account.id == Instance.account_id)
        .where(IS_PRESENT, *where)
        .group_by(Line.name, Version.number, Version.sort_key, Account.name, Instance.region)
        .order_by(Version.sort_key.desc(), Account.name, Instance.region)
    )
    return [
        wire.Runs(reference=f"{line}@{number}", number=number, account=account, region=region, running=count)
        for line, number, account, region, count in rows
    ]


def _shared_with(session: Session, line_id: str, version_id: str | None) -> list[str]:
    """Names of the accounts with which a line, or a version of it, is shared now; ``everyone`` for a public share."""
    query = select(Account.name).select_from(Share).outerjoin(Account, Account.id == Share.consumer_id)
    query = query.where(Share.line_id == line_id, holds_now())
    if version_id is not None:
        query = query.where(or_(Share.version_id.is_(None), Share.version_id == version_id))
    return sorted({name or "everyone" for name in session.scalars(query)})


def _under_way(session: Session, caller: Principal, line: str) -> list[Any]:
    query = select(Operation).where(
        Operation.account_id == caller.account_id,
        Operation.state.in_(("queued", "running")),
        or_(Operation.subject == line, Operation.subject.startswith(f"{line}@", autoescape=True)),
    )
    return operation_answers(session, session.scalars(query.order_by(Operation.id.desc()).limit(20)).all())


def line_history(session: Session, caller: Principal, line: Line, days: int) -> wire.History:
    """A line over time, whoever runs it."""
    course = course_of(session, [line.id], (utcnow() - timedelta(days=days)).date())
    versions = session.scalars(select(Version).where(Version.line_id == line.id).order_by(Version.sort_key))
    nothing = [0] * len(course.days)
    bands = [
        wire.Band(
            number=version.number,
            state=version.state,
            released_on=version.released_at.date() if version.released_at else None,
            retire_on=version.retire_on if version.state == VersionState.SUNSET else None,
            counts=course.counts.get(version.id, nothing),
        )
        for version in versions
    ]
    return wire.History(line=line.name, days=course.days, bands=bands)


# A version


def version_overview(session: Session, caller: Principal, version: Version, shares: list[Share] | None, regions: list[str]) -> wire.VersionOverview:  # fmt: skip
    """What is seen first of a version; of another account's version only what a launch needs."""
    answer = shown(session, caller, version, shares)
    own = shares is None
    mine = () if own else (Instance.account_id == caller.account_id,)
    runs = _runs(session, Instance.version_id == version.id, *mine)
    consumers: Counter[str] = Counter()
    for row in runs:
        if row.account != caller.account:
            consumers[row.account] += row.running
    sentence = sentences.of_version(
        answer.reference,
        state=answer.state,
        running=answer.running,
        regions=len({r.region for r in runs}),
        consumers=dict(consumers),
        open_high=answer.findings.open_high if own else 0,
        retire_on=answer.retire_on,
        today=utcnow().date(),
    )
    usage = usage_of(session, version)
    shared = _shared_with(session, version.line_id, version.id) if own else []
    facts = VersionFacts(
        usage=usage,
        blocking=answer.findings.blocking,
        demands=version.line.demands,
        regions=tuple(answer.regions),
        missing_regions=tuple(r for r in regions if r not in answer.regions),
        retire_on=str(answer.retire_on or ""),
        pin_only=answer.pin_only,
        shared_with=tuple(shared),
        now=utcnow(),
        proven_first=version.line.proven_first,
        proven=checked.passed if (checked := last_checks(session, version.id, caller.account_id)) else None,
    )
    offers = version_offers(offers_caller(caller), facts)
    if not own:
        offers = [offer for offer in offers if offer.name in ("launch", "export")]
    return wire.VersionOverview(
        version=answer,
        sentence=sentence_answer(sentence),
        offers=offers_answer(offers),
        runs=runs,
        children=list(usage.children) if own else [],
        shared_with=shared,
    )


def _came_from(version: Version) -> str:
    """The machine or the sheet that a version was made of."""
    sheet = version.source.get("sheet")
    return f"sheet {sheet}" if sheet else str(version.source.get("machine", ""))


# An instance


def instance_overview(session: Session, caller: Principal, row: Instance, console: str) -> wire.InstanceOverview:
    """What is seen first of an instance of the account."""
    answer = instance_answer(session, row, caller.account_id)
    sentence = sentences.of_instance(
        answer.name,
        state=answer.state,
        reference=answer.reference,
        behind=answer.behind,
        newest=answer.newest or "",
        region=answer.region,
        zone=answer.zone,
        reason=answer.reason or "",
    )
    return wire.InstanceOverview(
        instance=answer,
        sentence=sentence_answer(sentence),
        offers=offers_answer(instance_offers(offers_caller(caller), answer.name, answer.state)),
        machine_size=row.machine_size,
        host_name=row.host_name,
        seen_at=row.seen_at,
        operation=row.operation_id,
        console=console[-20_000:],
        events=events(session, caller, most=20, subject=row.name),
    )
