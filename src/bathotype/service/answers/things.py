"""What a person sees first of a line, a version, an instance."""

from __future__ import annotations

from collections import Counter
from datetime import timedelta
from typing import Any

from sqlalchemy import func, or_, select
from sqlalchemy.orm import Session

from bathotype.core.lifecycle import sentences
from bathotype.core.lifecycle.offers import (
    LineFacts,
    VersionFacts,
    instance_offers,
    line_offers,
    version_offers,
)
from bathotype.core.lifecycle.states import VersionState
from bathotype.service.access.principals import Principal
from bathotype.service.answers.instances import instance_answer
from bathotype.service.answers.lines import line_answer
from bathotype.service.answers.operations import offers_answer, operation_answers
from bathotype.service.answers.versions import shown
from bathotype.service.answers.views import behind_of, events, newest_of, offers_caller, run_counts, sentence_answer
from bathotype.service.catalogue import holds_now, passes, ready_regions, reference_of, usage_of
from bathotype.service.history import course_of
from bathotype.service.records import (
    Account,
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


def line_overview(session: Session, caller: Principal, line: Line) -> wire.LineOverview:
    """What is seen first of a line of the account's own."""
    counts = run_counts(session, [line.id]).get(line.id, [])
    newest = newest_of(counts)
    runs = _runs(session, Version.line_id == line.id)
    behind = behind_of(counts)
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
        about=line.about,
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
        proven=passes(session, version.id, caller.account_id),
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
