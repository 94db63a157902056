"""Giving a new version its number: of several at once the database picks one for each."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.errors import Invalid, Refused
from bathotype.core.lifecycle.numbers import bump, parse_number
from bathotype.service.preflight import number_problem
from bathotype.service.records import Line, NumberClaim, Version


def check_number(session: Session, line: Line, number: str | None, part: str | None) -> str | None:
    """Why a number cannot be used, None where it can.  Raises `Invalid` for one that makes no sense."""
    if number and part:
        raise Invalid("Both a number and a part to bump are given.", advice="Give one of them.")
    return number_problem(session, line.id, f"{line.name}@{number}", str(parse_number(number))) if number else None


def claimable(session: Session, line: Line, number: str | None, part: str | None) -> str:
    """The number for a new version; the line is locked, and the claim's key makes the database the judge."""
    if number:
        taken = check_number(session, line, number, None)
        if taken:
            raise Refused(taken, advice="Give another number, or --bump.", code="number-taken")
        return str(parse_number(number))
    known = [
        *session.scalars(select(Version.number).where(Version.line_id == line.id)),
        *session.scalars(select(NumberClaim.number).where(NumberClaim.line_id == line.id)),
    ]
    return bump(known, part or "patch")  # type: ignore[arg-type]
