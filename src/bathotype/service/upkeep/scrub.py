"""Duty: verify replicas that were not verified for a long time, the oldest first, a few at a time."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import or_, select

from bathotype.core.lifecycle.states import VersionState
from bathotype.service.catalogue import reference_of
from bathotype.service.kinds.replicate import ReplicaParams
from bathotype.service.kinds.verify import Verify
from bathotype.service.operations.start import start_operation, unattended_principal
from bathotype.service.records import Operation, Replica, Version
from bathotype.service.records.base import utcnow
from bathotype.service.upkeep.duty import Duty, Turn, seldom


def _run(turn: Turn) -> None:
    limit = utcnow() - timedelta(days=turn.settings.scrub_days)
    with turn.database.sessions.begin() as session:
        going = session.scalars(
            select(Operation.params["version_id"].as_string()).where(
                Operation.kind == Verify.name, Operation.state.in_(("queued", "running"))
            )
        ).all()
        due = (
            select(Replica)
            .join(Version, Version.id == Replica.version_id)
            .where(
                Replica.state == "ready",
                or_(Replica.verified_at.is_(None), Replica.verified_at < limit),
                Version.state != VersionState.PURGED,
                Replica.version_id.not_in(going),
            )
            .order_by(Replica.verified_at.nulls_first())
            .limit(max(0, turn.settings.scrub_at_once - len(going)))
        )
        for replica in session.scalars(due).all():
            version = session.get_one(Version, replica.version_id)
            principal = unattended_principal(session, version.line.account_id, "scrub")
            params = ReplicaParams(version_id=version.id, reference=reference_of(version), region=replica.region)
            start_operation(session, principal, Verify, params.reference, params)


DUTY = Duty("scrub", _run, period=seldom)
