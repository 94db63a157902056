"""Answers to repeated requests."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from typing import Annotated, Any

from anyio import from_thread
from fastapi import Header, Request
from pydantic import BaseModel
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from bathotype.core.errors import Invalid, Refused, Unavailable
from bathotype.service.access.principals import Principal
from bathotype.service.problems import asked_for
from bathotype.service.records import IdempotentAnswer
from bathotype.service.records.base import utcnow
from bathotype.service.state import Service
from bathotype.wire.images import EditRequest, ImportRequest
from bathotype.wire.versions import CaptureRequest

Key = Annotated[
    str | None, Header(alias="Idempotency-Key", max_length=200, description="Repeat with the same key: same answer.")
]


def made_for(body: CaptureRequest | ImportRequest | EditRequest) -> dict[str, Any]:
    """What a version is for, and until when, in the form of a parameter of the operation that makes it.  Raises
    `Invalid`."""
    if body.retire_on is not None and body.retire_on <= utcnow().date():
        raise Invalid(f"{body.retire_on} is not in the future.", advice="Give a later date, or none.")
    purpose = body.purpose.model_dump(mode="json", exclude_defaults=True) if body.purpose is not None else None
    return {"purpose": purpose, "retire_on": body.retire_on}


def still_wanted(request: Request) -> None:
    """Raise `Unavailable` where the caller has gone: what was checked for it so long is not started any more."""
    if from_thread.run(request.is_disconnected):
        raise Unavailable("The caller has gone before anything was started.")


def once(
    principal: Principal, service: Service, key: str | None, request: BaseModel, make: Callable[[Session], BaseModel]
) -> dict[str, Any]:
    """Run a creating request, once for each idempotency key; a repeated one gets the first answer.

    The key is recorded in the transaction that creates: of two at once the second waits for the first.
    """
    print_ = hashlib.sha256(
        f"{asked_for.get()} {type(request).__name__}{request.model_dump_json()}".encode()
    ).hexdigest()
    with service.database.sessions.begin() as session:
        if key:
            fresh = session.execute(
                insert(IdempotentAnswer)
                .values(account_id=principal.account_id, key=key, fingerprint=print_, status=0)
                .on_conflict_do_nothing()
                .returning(IdempotentAnswer.key)
            ).scalar()
            if fresh is None:
                known = session.get_one(IdempotentAnswer, (principal.account_id, key))
                if known.fingerprint != print_:
                    raise Refused(
                        "This Idempotency-Key was used for another request.",
                        advice="Take a new key.",
                        code="key-reused",
                    )
                return dict(known.body or {})
        body = make(session).model_dump(mode="json")
        if key:
            row = session.get_one(IdempotentAnswer, (principal.account_id, key))
            row.status, row.body = 200, body
    return body
