"""The life of a version from staged to purged: the same functions for callers and for upkeep."""

from __future__ import annotations

from datetime import date, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.errors import Invalid, Refused
from bathotype.core.lifecycle.retirement import plan_purge, plan_retire
from bathotype.core.lifecycle.states import VersionState, check_move
from bathotype.core.units import plural
from bathotype.service import audit
from bathotype.service.access.principals import Principal
from bathotype.service.answers.versions import blocks_release
from bathotype.service.catalogue import proven, reference_of, usage_of
from bathotype.service.kinds.purge import Purge, PurgeParams
from bathotype.service.operations.start import start_operation
from bathotype.service.placements import bring_into_line
from bathotype.service.records import Finding, Line, Mark, MarkMove, Operation, Version
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.shares import tell_consumers

#: A version whose end is planned goes into sunset so long before it.
ANNOUNCED_BEFORE = timedelta(days=30)


def _move(session: Session, actor: str, version: Version, state: VersionState, **after: object) -> None:
    """Change the state, with an event.  Raises `Refused` where the table of states forbids it."""
    reference, before = reference_of(version), {"state": version.state}
    check_move(reference, VersionState(version.state), state)
    version.state = state
    audit.record(
        session, version.line.account_id, actor, f"version.{state}", reference,
        before=before, after={"state": str(state), **after},
    )  # fmt: skip


def release(session: Session, caller: Principal, version: Version) -> None:
    """Release a version, and replicate it to the regions of its line's placement.

    Raises `Refused` while findings are open that its line demands to be accepted.  The caller has locked the version.
    """
    reference = reference_of(version)
    check_move(reference, VersionState(version.state), VersionState.RELEASED)
    blocking = session.scalars(
        select(Finding.name)
        .join(Version, Version.id == Finding.version_id)
        .join(Line, Line.id == Version.line_id)
        .where(Finding.version_id == version.id, Finding.accepted_by.is_(None), blocks_release())
        .order_by(Finding.position)
    ).all()
    if blocking:
        more = f" and {len(blocking) - 5} more" if len(blocking) > 5 else ""
        named = ", ".join(blocking[:5]) + more
        which = "of high severity" if version.line.demands == "high" else "that its line demands to be accepted"
        raise Refused(
            f"{reference} has {plural(len(blocking), 'open finding')} {which}: {named}.",
            advice=f"See `bathotype residue {reference}`. Correct the machine and capture again, or accept each by name "
            "with a reason.",
            code="findings-open",
        )
    if version.line.proven_first and not proven(session, version):
        raise Refused(
            f"{reference} is not proven, as its line demands before a release.",
            advice=f"Run `bathotype prove {reference}`, and correct what does not pass.",
            code="not-proven",
        )
    if version.state == VersionState.STAGED:
        if version.retire_on is not None and version.retire_on <= utcnow().date():
            raise Refused(
                f"{reference} was to be retired on {version.retire_on}.",
                advice=f"Move that day first: `bathotype versions until {reference} DATE`.",
                code="state-forbids",
            )
        version.released_at = utcnow()
    else:
        version.sunset_on = version.retire_on = None  # its end is taken back
        tell_consumers(session, version, "sunset", "{reference} is in sunset no longer: it is released again.")
    _move(session, caller.actor, version, VersionState.RELEASED)
    bring_into_line(session, caller, version.line, only=version)


def move_mark(session: Session, caller: Principal, version: Version, mark: str) -> None:
    """Point a mark of its line to a version, making it if need be.  The caller has locked the line.

    Raises `Refused` unless the version is released or in sunset.
    """
    if version.state not in (VersionState.RELEASED, VersionState.SUNSET):
        raise Refused(
            f"{reference_of(version)} is {version.state}; a mark points to released versions only.",
            advice="Release it first." if version.state == VersionState.STAGED else "Take another version.",
            code="state-forbids",
        )
    line = version.line
    row = session.get(Mark, (line.id, mark))
    before = {"number": session.get_one(Version, row.version_id).number} if row else None
    if row is None:
        session.add(Mark(line_id=line.id, name=mark, version_id=version.id))
    else:
        row.version_id = version.id
    session.add(MarkMove(line_id=line.id, name=mark, number=version.number, moved_by=caller.actor))
    audit.clear_alert(session, caller.account_id, "mark-dropped", f"{line.name}@{mark}")
    audit.record(
        session, caller.account_id, caller.actor, "mark.moved", f"{line.name}@{mark}",
        before=before, after={"number": version.number},
    )  # fmt: skip


def sunset(session: Session, caller: Principal, version: Version, retire_on: date | None) -> None:
    """Put a version into sunset: launches warn, and it is retired automatically on ``retire_on``.

    Of one that is in sunset the day is moved.
    """
    _in_the_future(retire_on)
    if version.state == VersionState.SUNSET and retire_on is not None and retire_on != version.retire_on:
        _move_end(session, caller.actor, version, retire_on)
        tell_consumers(session, version, "sunset", f"Launches of {{reference}} end on {retire_on} now.")
        return
    _announce(session, caller.actor, version, retire_on or version.retire_on)


def set_end(session: Session, caller: Principal, version: Version, retire_on: date | None) -> None:
    """Say when a version that is not in sunset retires by itself, or that it does not.  Raises `Refused`."""
    reference = reference_of(version)
    if version.state not in (VersionState.STAGED, VersionState.RELEASED):
        advice = (
            f"`bathotype sunset {reference} --until DATE` moves its end, --lift takes it back."
            if version.state == VersionState.SUNSET
            else ""
        )
        raise Refused(f"{reference} is {VersionState(version.state).spoken}.", advice=advice, code="state-forbids")
    _in_the_future(retire_on)
    _move_end(session, caller.actor, version, retire_on)


def _in_the_future(day: date | None) -> None:
    if day is not None and day <= utcnow().date():
        raise Invalid(f"{day} is not in the future.", advice="Give a later date, or retire it now.")


def _move_end(session: Session, actor: str, version: Version, retire_on: date | None) -> None:
    before, version.retire_on = version.retire_on, retire_on
    audit.record(
        session, version.line.account_id, actor, "version.end-moved", reference_of(version),
        before={"retire_on": str(before or "")}, after={"retire_on": str(retire_on or "")},
    )  # fmt: skip


def _announce(session: Session, actor: str, version: Version, retire_on: date | None) -> None:
    version.sunset_on, version.retire_on = utcnow().date(), retire_on
    until = f" Launches end on {retire_on}." if retire_on else ""
    tell_consumers(session, version, "sunset", f"{{reference}} is in sunset.{until} Renew what runs it.")
    _move(session, actor, version, VersionState.SUNSET, retire_on=str(retire_on or ""))


def retire(session: Session, caller: Principal, version: Version) -> None:
    """Refuse new launches.  Raises `Refused` with everything that forbids it."""
    reference = reference_of(version)
    check_move(reference, VersionState(version.state), VersionState.RETIRED)
    plan = plan_retire(usage_of(session, version))
    if plan.blockers:
        raise Refused(
            " ".join(plan.blockers), advice=f"`bathotype retire {reference} --plan` shows everything.", code="blocked"
        )
    _end(session, caller.actor, version)


def retire_what_is_due(session: Session) -> None:
    """Announce the end of versions that retire soon, and retire those whose sunset has reached its date.

    The date was announced: marks do not stop it, and go.
    """
    soon = select(Version).where(
        Version.state == VersionState.RELEASED, Version.retire_on <= utcnow().date() + ANNOUNCED_BEFORE
    )
    for version in session.scalars(soon.order_by(Version.id).with_for_update(**CHANGE, of=Version)):
        _announce(session, "bathotype", version, version.retire_on)
    due = select(Version).where(Version.state == VersionState.SUNSET, Version.retire_on <= utcnow().date())
    for version in session.scalars(due.order_by(Version.id).with_for_update(**CHANGE, of=Version)):
        _end(session, "bathotype", version, reason="its sunset ended")


def _end(session: Session, actor: str, version: Version, **after: object) -> None:
    """Let a version take no more launches: no mark points to it any more, and its users are notified."""
    reference, line = reference_of(version), version.line
    for mark in session.scalars(select(Mark).where(Mark.version_id == version.id).order_by(Mark.name)):
        session.delete(mark)
        subject = f"{line.name}@{mark.name}"
        audit.record(session, line.account_id, actor, "mark.dropped", subject, before={"number": version.number})
        text = f"The mark {mark.name} pointed to {reference}, which is retired. Set it on another version."
        audit.raise_alert(session, line.account_id, "mark-dropped", subject, text)
    version.retired_at = utcnow()
    audit.clear_alert(session, line.account_id, "not-proven", f"{reference} checks")
    tell_consumers(session, version, "retired", "{reference} is retired. Renew what runs it.")
    _move(session, actor, version, VersionState.RETIRED, **after)


def purge(session: Session, caller: Principal, version: Version, *, waive_grace: bool) -> Operation:
    """Start removing a retired version's bytes.  Raises `Refused` with everything that forbids it."""
    reference = reference_of(version)
    plan = plan_purge(usage_of(session, version), utcnow(), waive_grace=waive_grace)
    if plan.blockers:
        raise Refused(
            " ".join(plan.blockers), advice=f"`bathotype purge {reference} --plan` shows everything.", code="blocked"
        )
    version.purged_at = utcnow()
    _move(session, caller.actor, version, VersionState.PURGED, waived_grace=waive_grace)
    return start_operation(session, caller, Purge, reference, PurgeParams(version_id=version.id, reference=reference))
