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
from psycopg import Cursor, RawCursor, sql
from psycopg.rows import RowMaker, namedtuple_row
from psycopg.types.json import set_json_loads
from pydantic_core import from_json
from sqlalchemy import Connection, SelectBase
from sqlalchemy.dialects.postgresql.psycopg import PGDialect_psycopg
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

_DIALECT = PGDialect_psycopg()  # type: ignore[no-untyped-call]


class Statement:
    """One `select` with named parameters (`bindparam`), which are given anew each time."""

    def __init__(self, query: SelectBase) -> None:
        self._query = query
        self._maker: RowMaker[Any] | None = None

    @cached_property
    def _sent(self) -> tuple[bytes, tuple[str, ...]]:
        """The SQL as PostgreSQL takes it, and the names of its values in order.

        Constants are written out: PostgreSQL then sees which index holds them alone, whatever it is given later.  psycopg
        would look for the places of the values in a long statement each time.
        """
        compiled = self._query.compile(dialect=_DIALECT, compile_kwargs={"render_postcompile": True})
        constants = {name: _literal(value) for name, value in compiled.params.items() if value is not None}
        names: list[str] = []

        def written(found: re.Match[str]) -> str:
            name = found[1]
            if name is None:
                return "%"
            if name in constants:
                return constants[name]
            if name not in names:
                names.append(name)
            return f"${names.index(name) + 1}"

        return re.sub(r"%(?:%|\((\w+)\)s)", written, str(compiled)).encode(), tuple(names)

    def rows(self, over: Connection | Session, **values: Any) -> list[Any]:
        """All rows, as named tuples.  Raises SQLAlchemy's errors, as a session does."""
        connection = over.connection() if isinstance(over, Session) else over
        statement, names = self._sent
        try:
            return self._cursor(connection).execute(statement, [values[name] for name in names]).fetchall()
        except psycopg.Error as error:
            raise _as_sqlalchemy(error, statement.decode()) from error

    def first(self, over: Connection | Session, **values: Any) -> Any:
        """The first row, or None."""
        rows = self.rows(over, **values)
        return rows[0] if rows else None

    def _cursor(self, connection: Connection) -> RawCursor[Any]:
        """The same each time over one connection to the database: it keeps what turns each column's bytes into a value."""
        kept: RawCursor[Any] | None = connection.info.get(self)
        if kept is None:
            driver = connection.connection.driver_connection
            assert isinstance(driver, Driver)
            kept = connection.info[self] = RawCursor(driver, row_factory=self._made)
            set_json_loads(from_json, kept)  # takes bytes as they come, in a third of the time
        return kept

    def _made(self, cursor: Cursor[Any]) -> RowMaker[Any]:
        """What makes a row of its values: the same each time, since the columns are."""
        if self._maker is None:
            self._maker = namedtuple_row(cursor)
        return self._maker


@contextmanager
def as_sqlalchemy_errors(statement: str) -> Iterator[None]:
    """Turn psycopg's errors into those that a session raises: whoever handles a lost database handles one family."""
    try:
        yield
    except psycopg.Error as error:
        raise _as_sqlalchemy(error, statement) from error


def _as_sqlalchemy(error: psycopg.Error, statement: str) -> Exception:
    return DBAPIError.instance(statement, None, error, psycopg.Error, hide_parameters=True)


def _literal(value: Any) -> str:
    return sql.Literal(value).as_string(None)
