"""What needs somebody: alerts, failures, findings, offers, ends, and what is nearly used up."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import exists, func, or_, select
from sqlalchemy.orm import Session, aliased

from bathotype.core.lifecycle import sentences
from bathotype.core.lifecycle.states import VersionState
from bathotype.core.units import plural
from bathotype.service.access.principals import Principal
from bathotype.service.answers.rules import allowance_answer
from bathotype.service.catalogue import reference_of
from bathotype.service.records import (
    Account,
    Alert,
    Allowance,
    Finding,
    Line,
    Operation,
    Share,
    Version,
)
from bathotype.service.records.base import utcnow
from bathotype.wire import overview as wire
from bathotype.wire.sharing import Due

_FAILED_WITHIN = timedelta(days=7)
_NEAR = timedelta(days=60)
_USED = 0.9


def is_near(due: Due) -> bool:
    """Whether a version that still runs ends soon."""
    runs = due.running or due.elsewhere
    return (
        bool(runs)
        and due.retire_on is not None
        and due.state == "sunset"
        and due.retire_on <= (utcnow() + _NEAR).date()
    )


def needs_of(session: Session, caller: Principal, dates: list[Due]) -> Iterable[wire.Need]:
    """Everything that needs somebody of an account, the most pressing first; ``dates`` are the ends that are near."""
    yield from _alerts(session, caller)
    yield from _failed(session, caller)
    yield from _open_findings(session, caller)
    yield from _proposed(session, caller)
    yield from _ending(dates)
    yield from _nearly_used(session, caller)


@dataclass(frozen=True)
class _Kind:
    """A kind of alert: what it says, the next step, and the page that it leads to: of what is before ``until`` in its
    subject."""

    title: str
    step: str = "Look at it"
    leads: wire.NeedKind = "alert"
    until: str = ""


_ALERTS = {
    "identity-twice": _Kind("One identity occurs twice", "See who has it"),
    "replica-damaged": _Kind("A replica is damaged", leads="version", until=" in "),
    "deleted-at-site": _Kind("Deleted at the site", leads="instance", until=" in "),
    "first-boot-differs": _Kind("Not as its first-boot settings say", leads="instance", until=" in "),
    "not-admitted": _Kind("A machine runs that no rule admits", "Look at the rules", leads="allowance"),
    "mark-dropped": _Kind("A mark has lost its version", "Set it on another version", leads="line", until="@"),
    "not-proven": _Kind(
        "A released version does not pass its checks any more", "Look at its checks", leads="version", until=" "
    ),
    "site-silent": _Kind("A site does not answer", "See the regions", leads="region"),
    "sheet-not-started": _Kind("A sheet did not start by itself", "Look at the sheet", leads="sheet"),
    "repository-not-read": _Kind(
        "Not all of a repository's sheets were taken", "Look at the repository", leads="repository"
    ),
    "messages-not-delivered": _Kind("Messages are not delivered", "See what was answered", leads="messages"),
}


def _alerts(session: Session, caller: Principal) -> Iterable[wire.Need]:
    query = select(Alert).where(
        Alert.account_id == caller.account_id, Alert.cleared_at.is_(None), Alert.acknowledged_at.is_(None)
    )
    for row in session.scalars(query.order_by(Alert.raised_at.desc()).limit(50)):
        kind = _ALERTS.get(row.kind) or _Kind(row.kind)
        subject = row.subject.partition(kind.until)[0] if kind.until else row.subject
        yield wire.Need(
            kind=kind.leads, title=f"{kind.title}: {row.subject}", detail=row.text, subject=subject, step=kind.step,
            since=row.raised_at, alert=row.id,
        )  # fmt: skip


#: What each kind of operation does, as a noun; the subject of a change of many instances says all.
_DOING = {
    "adopt": "Adoption",
    "bucket-digest": "Digest",
    "build": "Build",
    "capture": "Capture",
    "capture-plan": "Plan of a capture",
    "change-instances": "",
    "drain": "Drain",
    "edit": "Edit",
    "event-check": "Check",
    "export": "Export",
    "export-digest": "Digest of an export",
    "import": "Import",
    "launch": "Launch",
    "prove": "Proof",
    "purge": "Purge",
    "replicate": "Replication",
    "verify": "Verification",
}


def _failure(kind: str, subject: str) -> str:
    noun = _DOING.get(kind, kind)
    return f"{noun} of {subject} failed" if noun else f"{subject[:1].upper()}{subject[1:]}: failed"


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
            title=_failure(row.kind, row.subject),
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
