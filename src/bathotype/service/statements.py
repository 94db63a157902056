"""Statements that are compiled to SQL once, and asked through psycopg itself.

SQLAlchemy's way through a session costs five times what psycopg needs for the same rows: it finds the compiled form of a
`select` again, wraps each row, and keeps track of objects.  An answer that is asked for hundreds of times a second has no
use for that; everything else goes through sessions.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cached_property
from typing import Any

import psycopg
from psycopg import Connection as Driver
from psycopg import sql
from psycopg.rows import namedtuple_row
from sqlalchemy import Connection, SelectBase
from sqlalchemy.dialects.postgresql.psycopg import PGDialect_psycopg
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

_DIALECT = PGDialect_psycopg()  # type: ignore[no-untyped-call]


class Statement:
    """One `select` with named parameters (`bindparam`), which are given anew each time."""

    def __init__(self, query: SelectBase) -> None:
        self._query = query

    @cached_property
    def _sql(self) -> str:
        """With constants written out: PostgreSQL then sees which index holds them alone, whatever it is given later."""
        compiled = self._query.compile(dialect=_DIALECT, compile_kwargs={"render_postcompile": True})
        constants = {name: _literal(value) for name, value in compiled.params.items() if value is not None}
        return re.sub(r"%\((\w+)\)s", lambda found: constants.get(found[1], found[0]), str(compiled))

    def rows(self, over: Connection | Session, **values: Any) -> list[Any]:
        """All rows, as named tuples.  Raises SQLAlchemy's errors, as a session does."""
        connection = over.connection() if isinstance(over, Session) else over
        driver = connection.connection.driver_connection
        assert isinstance(driver, Driver)
        with as_sqlalchemy_errors(self._sql), driver.cursor(row_factory=namedtuple_row) as cursor:
            return cursor.execute(self._sql, values).fetchall()

    def first(self, over: Connection | Session, **values: Any) -> Any:
        """The first row, or None."""
        rows = self.rows(over, **values)
        return rows[0] if rows else None


@contextmanager
def as_sqlalchemy_errors(statement: str) -> Iterator[None]:
    """Turn psycopg's errors into those that a session raises: whoever handles a lost database handles one family."""
    try:
        yield
    except psycopg.Error as error:
        raise DBAPIError.instance(statement, None, error, psycopg.Error, hide_parameters=True) from error


def _literal(value: Any) -> str:
    return sql.Literal(value).as_string(None).replace("%", "%%")
