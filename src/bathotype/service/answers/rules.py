"""The API's answers about launch rules and allowances."""

from __future__ import annotations

from sqlalchemy.orm import Session

from bathotype.service.admission import Judged, subject_of, used_of
from bathotype.service.records import Account, Allowance
from bathotype.wire import rules as wire


def verdicts_of(judged: Judged) -> list[wire.Verdict]:
    """The verdicts as the API shows them."""
    return [
        wire.Verdict(
            rule=v.rule, holds_for=holder, outcome=v.outcome, reasons=list(v.reasons), need=[n for n in v.need if n]
        )
        for v, holder in zip(judged.decision.verdicts, judged.holds_for, strict=True)
    ]


def allowance_answer(session: Session, row: Allowance, used: int | None = None) -> wire.Allowance:
    """An allowance as the API shows it."""
    other = session.get(Account, row.consumer_id) if row.consumer_id else None
    return wire.Allowance(
        name=row.name,
        account=session.get_one(Account, row.account_id).name,
        kind=row.kind,  # type: ignore[arg-type]
        subject=subject_of(session, row),
        consumer=other.name if other else None,
        most=row.most,
        used=used if used is not None else used_of(session, row),
    )
