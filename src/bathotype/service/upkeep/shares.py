"""Duty: end shares whose last day is over, and revoke at the sites what no share grants any more."""

from __future__ import annotations

from sqlalchemy import func, select

from bathotype.service import audit
from bathotype.service.proposals import subjects_of
from bathotype.service.records import Account, BaseDisk, Share, Version
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.shares import in_regions, shares_of_version
from bathotype.service.upkeep.duty import Duty, Turn, seldom


def _run(turn: Turn) -> None:
    _end_shares(turn)
    _revoke_grants(turn)


def _end_shares(turn: Turn) -> None:
    """They have granted nothing since midnight already; now their records say so."""
    with turn.database.sessions.begin() as session:
        over = select(Share).where(Share.state.in_(("proposed", "active")), Share.until < utcnow().date())
        for row in session.scalars(over.with_for_update(**CHANGE, skip_locked=True)).all():
            row.state, row.ended_by, row.ended_at = "ended", "bathotype", utcnow()
            for account, subject in subjects_of(session, row):
                audit.record(
                    session, account, "bathotype", "share.ended", subject,
                    after={"share": row.id, "reason": f"its last day was {row.until}"},
                )  # fmt: skip


def _revoke_grants(turn: Turn) -> None:
    """A base disk is granted at the site only as long as a share grants its version: then the site refuses by itself."""
    with turn.database.reads() as session:
        granted = session.scalars(
            select(BaseDisk).where(BaseDisk.state == "ready", func.jsonb_array_length(BaseDisk.granted_to) > 0)
        ).all()
    for row in granted:
        for name in row.granted_to:
            with turn.alone(f"grant of {row.id} to {name}"):
                _revoke(turn, row, name)


def _revoke(turn: Turn, row: BaseDisk, name: str) -> None:
    with turn.database.reads() as session:
        account = session.scalars(select(Account.id).where(Account.name == name)).one()
        shares = shares_of_version(session, account, session.get_one(Version, row.version_id))
        allowed = in_regions(shares)
        if shares and (allowed is None or row.region in allowed):
            return
    site = turn.reach.site(row.region, turn.reach.account_name(row.account_id))
    for disk in row.all_disks:
        site.revoke_disk(disk, name)
    with turn.database.sessions.begin() as session:
        held = session.get_one(BaseDisk, row.id, with_for_update=CHANGE)
        held.granted_to = [other for other in held.granted_to if other != name]


DUTY = Duty("shares", _run, period=seldom)
