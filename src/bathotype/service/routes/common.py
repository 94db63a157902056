"""What all routes share: the caller, the service, pages, and answers to repeated requests."""

from __future__ import annotations

import base64
import hashlib
import json
from collections.abc import Callable
from enum import Enum
from typing import Annotated, Any

from fastapi import APIRouter, Depends, Header, Query, Request
from fastapi.security import HTTPBearer
from pydantic import BaseModel
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from bathotype.core.access.roles import Verb
from bathotype.core.errors import Invalid, Refused
from bathotype.service.access.principals import SESSION_COOKIE, Credentials, Person, Principal, person_of, principal_of
from bathotype.service.records import IdempotentAnswer
from bathotype.service.state import Service
from bathotype.wire.common import Problem

_bearer = HTTPBearer(auto_error=False, description="An API token.")

#: For every route: what it may answer besides success.
PROBLEMS: dict[int | str, dict[str, Any]] = {
    code: {"model": Problem, "content": {"application/problem+json": {}}, "description": text}
    for code, text in (
        (401, "Not signed in"),
        (403, "Role or token do not allow it"),
        (404, "Not found"),
        (409, "Refused by a rule or state"),
        (422, "Not valid"),
    )
}


API = "/api/v1"


def api_router(prefix: str = "", *, tags: list[str | Enum] | None = None) -> APIRouter:
    """A router of the API; what it may answer besides success stands in the document."""
    return APIRouter(prefix=API + prefix, tags=tags, responses=PROBLEMS)


async def get_service(request: Request) -> Service:
    """The service of this process; it waits for nothing, so that it needs no thread."""
    return request.app.state.service  # type: ignore[no-any-return]


ServiceOf = Annotated[Service, Depends(get_service)]


AccountName = Annotated[
    str,
    Header(
        alias="Bathotype-Account", max_length=63, description="Which of your accounts acts; the only one if left out."
    ),
]


def shown_by(request: Request) -> Credentials:
    """What a request shows of its sender."""
    return Credentials(
        request.headers.get("Authorization", ""),
        request.cookies.get(SESSION_COOKIE, ""),
        request.headers.get("X-CSRF-Token", ""),
        request.method not in ("GET", "HEAD", "OPTIONS"),
        getattr(request.state, "origin", ""),
    )


def get_person(service: ServiceOf, request: Request, _: Annotated[Any, Depends(_bearer)] = None) -> Person:
    """Who calls, whatever account it acts for.  Raises `NotSignedIn`."""
    return person_of(service.database, shown_by(request))


def _needs(verb: Verb) -> Any:
    """The dependency of a route that needs a verb: its caller, acting for an account in which it may."""

    def caller(
        service: ServiceOf, request: Request, account: AccountName = "", _: Annotated[Any, Depends(_bearer)] = None
    ) -> Principal:
        principal = principal_of(person_of(service.database, shown_by(request)), account)
        principal.need(verb)
        return principal

    caller.verb = verb  # type: ignore[attr-defined]
    return Depends(caller)


#: Each route says by the type of its caller what permission it needs.
Signed = Annotated[Person, Depends(get_person)]
Reader = Annotated[Principal, _needs(Verb.READ)]
Operator = Annotated[Principal, _needs(Verb.OPERATE)]
Sharer = Annotated[Principal, _needs(Verb.SHARE)]
Ruler = Annotated[Principal, _needs(Verb.RULE)]
Retirer = Annotated[Principal, _needs(Verb.RETIRE)]
Manager = Annotated[Principal, _needs(Verb.MANAGE)]

Key = Annotated[
    str | None, Header(alias="Idempotency-Key", max_length=200, description="Repeat with the same key: same answer.")
]
Limit = Annotated[int, Query(ge=1, le=500, description="How many a page.")]
Cursor = Annotated[str | None, Query(description="`next` of the page before.")]


def encode_cursor(value: Any) -> str:
    """An opaque cursor."""
    return base64.urlsafe_b64encode(json.dumps(value).encode()).decode()


def decode_cursor(text: str | None) -> Any:
    """What `encode_cursor` was given.  Raises `Invalid`."""
    if text is None:
        return None
    try:
        return json.loads(base64.urlsafe_b64decode(text.encode()))
    except (ValueError, UnicodeEncodeError) as error:
        raise Invalid("The cursor is not one of ours.", advice="Take `next` of the page before as it is.") from error


def once(
    principal: Principal, service: Service, key: str | None, request: BaseModel, make: Callable[[Session], BaseModel]
) -> dict[str, Any]:
    """Run a creating request, once for each idempotency key; a repeated one gets the first answer.

    The key is recorded in the transaction that creates: of two at once the second waits for the first.
    """
    print_ = hashlib.sha256(f"{type(request).__name__}{request.model_dump_json()}".encode()).hexdigest()
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
