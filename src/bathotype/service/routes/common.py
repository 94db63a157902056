"""What all routes share: the caller, the service, pages, and answers to repeated requests."""

from __future__ import annotations

import base64
import hashlib
import json
from collections.abc import Callable, Coroutine, Iterator, Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Annotated, Any, TypeVar

from fastapi import APIRouter, Depends, Header, Query, Request, Response
from fastapi.dependencies.models import Dependant
from fastapi.routing import APIRoute
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


class StrictRoute(APIRoute):
    """A route that refuses query parameters it does not have: a misspelt filter must not be ignored."""

    def get_route_handler(self) -> Callable[[Request], Coroutine[Any, Any, Response]]:
        handle = super().get_route_handler()
        known = set(query_names(self.dependant))

        async def strict(request: Request) -> Response:
            if unknown := sorted(request.query_params.keys() - known):
                raise Invalid(
                    f"There is no parameter {unknown[0]!r} here.",
                    advice=f"The parameters are {', '.join(sorted(known))}." if known else "It takes no parameters.",
                )
            return await handle(request)

        return strict


def query_names(dependant: Dependant) -> Iterator[str]:
    """The query parameters of a route and of everything that it depends on."""
    yield from (parameter.alias for parameter in dependant.query_params)
    for inner in dependant.dependencies:
        yield from query_names(inner)


def api_router(prefix: str = "", *, tags: list[str | Enum] | None = None) -> APIRouter:
    """A router of the API; its document lists what each route may answer besides success."""
    return APIRouter(prefix=API + prefix, tags=tags, responses=PROBLEMS, route_class=StrictRoute)


async def get_service(request: Request) -> Service:
    """The service of this process; a coroutine, since it needs no thread."""
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
Row = TypeVar("Row")
Key_ = TypeVar("Key_", int, str)


@dataclass(frozen=True)
class Paging:
    """Which page of a list is asked for: at most ``limit`` items that follow the cursor."""

    limit: int
    cursor: str | None

    def after(self, kind: type[Key_]) -> Key_ | None:
        """The key of the last item of the page before, None for the first page.  Raises `Invalid`."""
        if self.cursor is None:
            return None
        try:
            key = json.loads(base64.urlsafe_b64decode(self.cursor.encode()))
        except (ValueError, UnicodeEncodeError):
            key = None
        if not isinstance(key, kind) or isinstance(key, bool):
            raise Invalid("This cursor is not valid.", advice="Use `next` of the page before, without a change.")
        return key

    @property
    def fetched(self) -> int:
        """How many rows to fetch: one more than a page, which tells whether another page follows."""
        return self.limit + 1

    def cut(self, rows: Sequence[Row], key: Callable[[Row], Any]) -> tuple[Sequence[Row], str | None]:
        """The page's rows, and the cursor of the following page, None on the last one."""
        page = rows[: self.limit]
        return page, _encode_cursor(key(page[-1])) if len(rows) > self.limit else None


def _paging(
    limit: Annotated[int, Query(ge=1, le=500, description="How many a page.")] = 100,
    cursor: Annotated[str | None, Query(description="`next` of the page before.")] = None,
) -> Paging:
    return Paging(limit, cursor)


Paged = Annotated[Paging, Depends(_paging)]


def _encode_cursor(value: Any) -> str:
    return base64.urlsafe_b64encode(json.dumps(value).encode()).decode()


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
