"""JSON that the database makes: an answer's fields as expressions, compared with its model when the statement is built.

An answer of a hundred items takes PostgreSQL a fraction of what it takes to load a hundred records, make a hundred models
and write them out.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

from sqlalchemy import ColumnElement, DateTime, Text, cast, func, literal_column, select
from sqlalchemy.dialects.postgresql import aggregate_order_by

from bathotype.wire.common import Answer


def rendered(model: type[Answer], **fields: Any) -> ColumnElement[Any]:
    """A model as a JSON object.  Raises `TypeError` unless each field of the model is given, and no other."""
    if wrong := model.model_fields.keys() ^ fields.keys():
        raise TypeError(f"{model.__name__}: {', '.join(sorted(wrong))} missing or unknown")
    parts: list[Any] = []
    for name in model.model_fields:
        parts += literal_column(f"'{name}'"), _value(fields[name])
    return func.json_build_object(*parts)


def body(expression: ColumnElement[Any]) -> ColumnElement[str]:
    """A JSON expression as the text that is sent, in a column of that name."""
    return cast(expression, Text).label("body")


def _value(expression: Any) -> Any:
    return instant(expression) if isinstance(getattr(expression, "type", None), DateTime) else expression


def instant(moment: Any) -> ColumnElement[str]:
    """A moment as RFC 3339 in UTC."""
    return func.to_char(func.timezone("UTC", moment), 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"')


def listed(value: Any, *where: Any) -> ColumnElement[Any]:
    """What a condition selects, in order, as a JSON list."""
    found = select(func.json_agg(aggregate_order_by(value, value))).where(*where).scalar_subquery()
    return func.coalesce(found, literal_column("'[]'::json"))


def counted(*where: Any) -> ColumnElement[int]:
    """How many rows a condition selects."""
    return select(func.count()).where(*where).scalar_subquery()


def page_of(rows: Sequence[Any], following: str | None, total: int | None) -> bytes:
    """A `Page` of rows whose ``body`` is an item."""
    items = ",".join([row.body for row in rows])
    return f'{{"items":[{items}],"next":{json.dumps(following)},"total":{json.dumps(total)}}}'.encode()


def list_of(rows: Sequence[Any]) -> bytes:
    """A list of rows whose ``body`` is an item."""
    return f"[{','.join([row.body for row in rows])}]".encode()
