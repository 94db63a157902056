"""Doing a run again: the same sheet, values, base and payload, for seeing what differs in what comes of it."""

from __future__ import annotations

from sqlalchemy.orm import Session

from bathotype.core.errors import NotFound, Refused
from bathotype.core.lifecycle.numbers import again
from bathotype.service.access.principals import Principal
from bathotype.service.builds.planning import Repeat
from bathotype.service.catalogue import find_line
from bathotype.service.numbering import number_problem
from bathotype.service.records import BuildRun, Operation
from bathotype.service.uploads import kept_file
from bathotype.wire.builds import BuildRequest, PayloadGiven, RepeatRequest

_MOST = 1000


def find_run(session: Session, caller: Principal, operation: str) -> BuildRun:
    """A run of the caller's account.  Raises `NotFound`."""
    row = session.get(BuildRun, operation)
    if row is None or row.account_id != caller.account_id:
        raise NotFound(f"There is no build run {operation!r}.", advice="`bathotype builds list` shows them.")
    return row


def request_again(
    session: Session, caller: Principal, run: BuildRun, body: RepeatRequest
) -> tuple[BuildRequest, Repeat]:
    """A run as it was asked for, to be done again.  Raises `Refused` where it made nothing, or its payload is gone."""
    done = session.get_one(Operation, run.operation_id)
    if done.state != "succeeded":
        raise Refused(f"The run {done.id} made no version.", advice="Name one that did.", code="made-nothing")
    if done.params.get("base_machine"):
        raise Refused(
            f"{done.subject} was made from a copy of a machine, which is not the same any more.",
            advice="Run the sheet: what it makes starts from the machine as it is now.",
            code="base-gone",
        )
    request = BuildRequest(
        sheet=run.text,
        values=run.values,
        payload=_payload(session, caller, run, body),
        number=body.number or _number(session, caller, done.subject),
        **body.model_dump(include={"region", "tags", "keep_on_failure"}),
    )
    return request, Repeat(done.subject, run.base, run.base_digest)


def _payload(session: Session, caller: Principal, run: BuildRun, body: RepeatRequest) -> dict[str, PayloadGiven]:
    """The files of a run: those that are given, those that saved sheets still have, and those in buckets."""
    found: dict[str, PayloadGiven] = {}
    sources = session.get_one(Operation, run.operation_id).params["payload"]
    for name, sha256 in run.payload.items():
        kept = kept_file(session, caller.account_id, sha256)
        given = body.payload.get(name)
        if sources[name].get("bucket"):
            found[name] = PayloadGiven(bytes=sources[name]["bytes"], sha256=sha256)
        elif given is not None and given.sha256 == sha256:
            found[name] = given
        elif kept is not None:
            found[name] = PayloadGiven(upload=kept.upload_id, bytes=kept.bytes, sha256=sha256)
    wrong = [name for name, given in body.payload.items() if given.sha256 != run.payload.get(name)]
    if wrong:
        raise Refused(f"{', '.join(wrong)} of the payload is not the file of that run.", code="payload-differs")
    if missing := [name for name in run.payload if name not in found]:
        raise Refused(
            f"Of the payload {', '.join(missing)} is not kept here any more.",
            advice="Give the files: `--payload NAME=FILE`. Those of saved sheets are kept.",
            code="payload-missing",
        )
    return found


def _number(session: Session, caller: Principal, reference: str) -> str:
    """The first number that is free for a repetition: 1.2.0-again.1 of 1.2.0, which is below it in every order."""
    name, _, number = reference.partition("@")
    line = find_line(session, caller, name)
    for count in range(1, _MOST):
        if number_problem(session, line, made := again(number, count)) is None:
            return made
    raise Refused(f"{reference} was done again {_MOST} times.", advice="Give a --number.", code="number-taken")
