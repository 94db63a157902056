"""Giving a new version its number: of several requests at once, the database gives each its own."""

from __future__ import annotations

from typing import Literal

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from bathotype.core.errors import Invalid, NotFound, Refused
from bathotype.core.lifecycle.numbers import bump, parse_number
from bathotype.service.access.principals import Principal
from bathotype.service.catalogue import find_line
from bathotype.service.records import Line, NumberClaim, Version
from bathotype.service.remarks import Remarks

#: What to do where a number cannot be used.
NUMBER_ADVICE = "Give another --number, or --bump to take the next free one."
Part = Literal["patch", "minor", "major"]


def number_problem(session: Session, line: Line, number: str) -> str | None:
    """Why a number cannot be used, None where it can."""
    reference = f"{line.name}@{number}"
    version = session.scalar(select(Version).where(Version.line_id == line.id, Version.number == number))
    if version is not None:
        return f"{reference} exists already ({version.state}); a version never changes."
    claim = session.get(NumberClaim, (line.id, number))
    return f"{reference} is being made by operation {claim.operation_id}." if claim is not None else None


def check_number(session: Session, line: Line | None, number: str | None, part: Part | None) -> str | None:
    """Why a number cannot be used, None where it can; without a line only its form is judged.

    Raises `Invalid` for one that makes no sense.
    """
    if number and part:
        raise Invalid("Both a number and a part to bump are given.", advice="Give one of them.")
    wanted = str(parse_number(number)) if number else None
    return number_problem(session, line, wanted) if wanted is not None and line is not None else None


def judge_number(
    session: Session, caller: Principal, remarks: Remarks, line: str, number: str | None, part: Part | None
) -> None:
    """Remark whether a line can take a version of a number."""
    found = None
    try:
        found = find_line(session, caller, line)
    except NotFound as error:
        remarks.forbid("line", error.message, f"`bathotype lines create {line}` makes it.")
    try:
        taken = check_number(session, found, number, part)
    except Invalid as error:
        remarks.forbid("number", error.message, error.advice)
        return
    if taken:
        remarks.forbid("number", taken, NUMBER_ADVICE)
    elif found is not None:
        remarks.ok("number", f"The version will be {found.name}@{next_number(session, found, number, part)}.")


def next_number(session: Session, line: Line, number: str | None, part: Part | None) -> str:
    """The number that a new version would have."""
    if number:
        return str(parse_number(number))
    known = [
        *session.scalars(select(Version.number).where(Version.line_id == line.id)),
        *session.scalars(select(NumberClaim.number).where(NumberClaim.line_id == line.id)),
    ]
    return bump(known, part or "patch")


def claimable(session: Session, line: Line, number: str | None, part: Part | None) -> str:
    """The number for a new version.  The caller has locked the line, and records the claim with `claim`."""
    taken = check_number(session, line, number, part)
    if taken:
        raise Refused(taken, advice="Give another number, or --bump.", code="number-taken")
    return next_number(session, line, number, part)


def claim(session: Session, line_id: str, number: str, operation_id: str) -> None:
    """Reserve a number for the version that an operation makes."""
    session.add(NumberClaim(line_id=line_id, number=number, operation_id=operation_id))


def claim_again(session: Session, line_id: str, number: str, operation_id: str) -> None:
    """Reserve it for a retry.  Raises `Refused` if it was taken in the meantime."""
    taken = session.scalar(select(Version.id).where(Version.line_id == line_id, Version.number == number))
    if taken is not None or session.get(NumberClaim, (line_id, number)) is not None:
        raise Refused(
            f"The number {number} was taken in the meantime.",
            advice="Start again with another number.",
            code="number-taken",
        )
    claim(session, line_id, number, operation_id)


def give_back(session: Session, operation_id: str) -> None:
    """End the claims of an operation."""
    session.execute(delete(NumberClaim).where(NumberClaim.operation_id == operation_id))
