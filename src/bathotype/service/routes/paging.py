"""Pages of a list, and a whole list as CSV or as a line of JSON an item."""

from __future__ import annotations

import base64
import csv
import io
import json
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Annotated, Any, Literal, TypeVar, get_args

from fastapi import Depends, Header, Query, Response
from pydantic import BaseModel
from sqlalchemy import ColumnElement, DateTime, Integer, Select, Text, cast, func, literal, select, tuple_
from sqlalchemy.orm import Session

from bathotype.core.errors import Invalid
from bathotype.service.answers.rendered import instant, page_of
from bathotype.wire.common import Page

Row = TypeVar("Row")
Key = TypeVar("Key", int, str, list[Any])
Form = Literal["json", "csv", "ndjson"]
#: How a whole list is sent; NDJSON as ndjson.org has it, CSV as RFC 4180.
MEDIA: dict[Form, str] = {"csv": "text/csv; charset=utf-8; header=present", "ndjson": "application/x-ndjson"}
#: The most items of a page.
MOST = 500


#: How a list's `sort` is described in the API's document.
REVERSED = "A minus before it reverses the order."


class Ordering:
    """What a list may be sorted by, and the columns that distinguish its items, which decide between equal ones.

    Each is compared as text: numbers with zeros before them, moments as RFC 3339, what is not there as nothing.
    """

    def __init__(self, *apart: Any, **by: Any) -> None:
        self._apart = [_as_text(column) for column in apart]
        self._by = {name: _as_text(column) for name, column in by.items()}

    def columns(self, sort: str) -> tuple[list[ColumnElement[str]], bool]:
        """The expressions that an order compares, and whether the highest comes first."""
        key = self._by[sort.removeprefix("-")]
        return [key, *(column for column in self._apart if column is not key)], sort.startswith("-")


def _as_text(column: Any) -> Any:
    if isinstance(column.type, DateTime):
        column = instant(column)
    elif isinstance(column.type, Integer):
        column = func.lpad(cast(column, Text), 20, "0")
    return func.coalesce(column, "") if getattr(column, "nullable", True) else column


@dataclass(frozen=True)
class Paging:
    """Which page of a list is asked for: at most ``limit`` items that follow the cursor."""

    limit: int
    cursor: str | None
    #: Whether the answer also says how many items there are on all pages.
    counted: bool = False
    #: In another form than JSON the whole list is sent, from the cursor on, whatever the limit.
    form: Form = "json"

    def after(self, kind: type[Key]) -> Key | None:
        """The key of the last item of the page before, None for the first page.  Raises `Invalid`."""
        if self.cursor is None:
            return None
        key = _decode_cursor(self.cursor)
        if not isinstance(key, kind) or isinstance(key, bool):
            raise _not_valid()
        return key

    def after_texts(self, count: int) -> list[str] | None:
        """The same for a key of several texts."""
        key = self.after(list)
        if key is not None and [type(part) for part in key] != [str] * count:
            raise _not_valid()
        return key

    @property
    def fetched(self) -> int:
        """How many rows to fetch: one more than a page, which shows whether another page follows."""
        return self.limit + 1

    def cut(self, rows: Sequence[Row], key: Callable[[Row], Any]) -> tuple[Sequence[Row], str | None]:
        """The page's rows, and the cursor of the following page, None on the last one."""
        page = rows[: self.limit]
        return page, _encode_cursor(key(page[-1])) if len(rows) > self.limit else None

    def answer(self, rows: Sequence[Any], key: Callable[[Any], Any], count: Callable[[], int]) -> Response:
        """The page of rows that are rendered already (`answers.rendered`); ``count`` is called if it is asked for."""
        page, following = self.cut(rows, key)
        return Response(page_of(page, following, count() if self.counted else None), media_type="application/json")

    def in_order(
        self, session: Session, query: Select[*tuple[Any, ...]], ordering: Ordering, sort: str
    ) -> tuple[Sequence[Any], str | None, int | None]:
        """The page of a query in an order: its rows, the cursor that follows, and the total if it is asked for."""
        total = session.scalar(select(func.count()).select_from(query.subquery())) if self.counted else None
        columns, falling = ordering.columns(sort)
        if (after := self.after_texts(len(columns))) is not None:
            key, last = tuple_(*columns), tuple_(*map(literal, after))
            query = query.where(key < last if falling else key > last)
        query = query.order_by(*(column.desc() if falling else column for column in columns))
        labels = [column.label(f"sorted_{at}") for at, column in enumerate(columns)]
        rows = session.execute(query.add_columns(*labels).limit(self.fetched)).all()
        page, following = self.cut(rows, lambda row: list(row[-len(columns) :]))
        return page, following, total

    def next_page(self, cursor: str | None) -> Paging:
        """The page from a cursor on, as large as may be."""
        return replace(self, limit=MOST, cursor=cursor, counted=False)


async def _paging(
    limit: Annotated[int, Query(ge=1, le=MOST, description="Items per page.")] = 100,
    cursor: Annotated[str | None, Query(description="`next` of the previous page.")] = None,
    total: Annotated[bool, Query(description="Count the items of all pages as well.")] = False,
    format: Annotated[
        Form | None,
        Query(description="`csv` or `ndjson`: the whole list as a file; else as the Accept header has it."),
    ] = None,
    accept: Annotated[str, Header(include_in_schema=False)] = "",
) -> Paging:
    asked = accept.partition(";")[0].strip()
    wanted: Form = next((form for form, media in MEDIA.items() if media.partition(";")[0] == asked), "json")
    return Paging(limit, cursor, total, format or wanted)


Paged = Annotated[Paging, Depends(_paging)]


def _decode_cursor(cursor: str) -> Any:
    try:
        return json.loads(base64.urlsafe_b64decode(cursor.encode()))
    except (ValueError, RecursionError):
        return None


def _not_valid() -> Invalid:
    return Invalid("This cursor is not valid.", advice="Use `next` of the page before, without a change.")


def _encode_cursor(value: Any) -> str:
    return base64.urlsafe_b64encode(json.dumps(value).encode()).decode()


# A whole list


def item_of(page: type[Page[Any]]) -> type[BaseModel]:
    """The model of a page's items."""
    item: type[BaseModel]
    (item,) = get_args(page.model_fields["items"].annotation)
    return item


def lines_of_items(form: Form, item: type[BaseModel], pages: Iterator[list[dict[str, Any]]]) -> Iterator[bytes]:
    """A list, page after page, in a form."""
    if form == "ndjson":
        for page in pages:
            yield "".join(json.dumps(one, ensure_ascii=False) + "\n" for one in page).encode()
        return
    names = list(item.model_fields)
    yield _csv([names])
    for page in pages:
        yield _csv([[_cell(one.get(name)) for name in names] for one in page])


def _csv(rows: list[list[str]]) -> bytes:
    text = io.StringIO()
    csv.writer(text, lineterminator="\r\n").writerows(rows)
    return text.getvalue().encode()


def _cell(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool | dict | list):
        return json.dumps(value, ensure_ascii=False)
    text = str(value)
    # A spreadsheet takes such text for a formula, and others give the names here.
    return f"'{text}" if isinstance(value, str) and text[:1] in ("=", "+", "-", "@", "\t", "\r") else text
