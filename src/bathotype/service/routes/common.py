"""What routes share: pages, and answers to repeated requests."""

from __future__ import annotations

import base64
import hashlib
import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Annotated, Any, TypeVar

from fastapi import Depends, Header, Query, Response
from pydantic import BaseModel
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from bathotype.core.errors import Invalid, Refused
from bathotype.service.access.principals import Principal
from bathotype.service.answers.rendered import page_of
from bathotype.service.records import IdempotentAnswer
from bathotype.service.routes.route import sent
from bathotype.service.state import Service

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

    def answer(self, rows: Sequence[Row], key: Callable[[Row], Any]) -> Response:
        """The page of rows that are rendered already (`answers.rendered`)."""
        return sent(page_of(*self.cut(rows, key)))


async def _paging(
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
