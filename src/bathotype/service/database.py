"""The connection to PostgreSQL: sessions and advisory locks."""

from __future__ import annotations

import hashlib
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from sqlalchemy import Connection, Engine, create_engine, event, text
from sqlalchemy.exc import DisconnectionError, OperationalError
from sqlalchemy.orm import Session, sessionmaker

from bathotype.core.errors import Unavailable

_LONGEST_PAUSE_MS = 20_000
_PING_AFTER = 1.0  # seconds


class Database:
    """One process's view of the database."""

    def __init__(self, url: str, *, pool_size: int = 10) -> None:
        self.url = url
        # A process that hangs inside a transaction holds row locks; with the lock of the audit chain it stops everybody.
        self.engine = _engine(url, pool_size, f"-c idle_in_transaction_session_timeout={_LONGEST_PAUSE_MS}")
        self.sessions: sessionmaker[Session] = sessionmaker(self.engine, expire_on_commit=False)
        # Each statement is a transaction of its own: what READ COMMITTED would see, without the round trips for BEGIN
        # and COMMIT.
        # So nothing is left open that would have to be taken back when a connection is returned.
        self.reading = _engine(
            url,
            pool_size,
            "-c default_transaction_read_only=on",
            isolation_level="AUTOCOMMIT",
            pool_reset_on_return=None,
        )
        #: Sessions that only read; PostgreSQL refuses a write in them.
        self.reads: sessionmaker[Session] = sessionmaker(self.reading, expire_on_commit=False)

    def must_answer(self) -> None:
        """Raises `Unavailable` with the reason where it does not."""
        try:
            self.engine.connect().close()
        except OperationalError as error:
            why = str(error.orig or error).strip().splitlines()[0]
            raise Unavailable(
                f"The database does not answer: {why.rstrip('.')}.",
                advice="Start it, or correct its address: BATHOTYPE_DATABASE_URL, or BATHOTYPE_OWNER_DATABASE_URL.",
            ) from error

    @contextmanager
    def held_connection(self) -> Iterator[Connection]:
        """A separate connection for advisory locks, which end with the connection or the process."""
        connection = self.engine.connect().execution_options(isolation_level="AUTOCOMMIT")
        try:
            yield connection
        finally:
            connection.invalidate()  # ends the session at the server, and with it every lock
            connection.close()

    @contextmanager
    def lock_for_now(self, name: str) -> Iterator[bool]:
        """Hold a lock for the time of the block, on a pooled connection; False where somebody else holds it."""
        with self.engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
            mine = try_lock(connection, name)
            try:
                yield mine
            finally:
                if mine:
                    connection.execute(text("select pg_advisory_unlock(:n)"), {"n": lock_number(name)})

    def close(self) -> None:
        """Close all connections."""
        self.engine.dispose()
        self.reading.dispose()


class Reads:
    """The database as one request reads it: a connection that is taken from the pool when it is first needed.

    Its statements are transactions of their own, and PostgreSQL refuses a write in them.
    """

    def __init__(self, database: Database) -> None:
        self.database = database
        self._taken: Connection | None = None

    @property
    def connection(self) -> Connection:
        """The connection, the same until it is released."""
        if self._taken is None:
            self._taken = self.database.reading.connect()
        return self._taken

    def session(self) -> Session:
        """A session over the connection, for a `with` block."""
        return Session(self.connection, expire_on_commit=False)

    def release(self) -> None:
        """Give the connection back to the pool."""
        if self._taken is not None:
            taken, self._taken = self._taken, None
            taken.close()


def _engine(url: str, pool_size: int, options: str, **more: Any) -> Engine:
    engine = create_engine(
        sqlalchemy_url(url),
        pool_size=pool_size,
        max_overflow=40,
        pool_timeout=20,
        hide_parameters=True,  # errors go to the log, and values may be secrets
        connect_args={"options": options},
        **more,
    )

    # A ping at every checkout, as the pool offers it, is one round trip in three of a short answer.  A connection that
    # was in use a moment ago is taken as it is: if the server has gone meanwhile, its statement answers 503.
    @event.listens_for(engine, "checkin")
    def used(connection: Any, record: Any) -> None:
        record.info["used"] = time.monotonic()

    @event.listens_for(engine, "checkout")
    def ping(connection: Any, record: Any, proxy: Any) -> None:
        if connection.closed:
            raise DisconnectionError
        if time.monotonic() - record.info.get("used", 0.0) < _PING_AFTER:
            return
        try:
            engine.dialect.do_ping(connection)
        except engine.dialect.loaded_dbapi.Error as error:
            raise DisconnectionError from error  # the pool opens another one

    return engine


def sqlalchemy_url(url: str) -> str:
    """A plain PostgreSQL address with the driver that we use."""
    scheme, _, rest = url.partition("://")
    if scheme not in ("postgresql", "postgres", "postgresql+psycopg"):
        raise Unavailable("BATHOTYPE_DATABASE_URL is not the address of a PostgreSQL database.")
    return f"postgresql+psycopg://{rest}"


def plain_url(url: str) -> str:
    """The same for libraries that take libpq's form."""
    return f"postgresql://{url.partition('://')[2]}"


def lock_number(name: str) -> int:
    """A 63-bit number for an advisory lock with a name."""
    return int.from_bytes(hashlib.blake2b(name.encode(), digest_size=8).digest(), "big") >> 1


def try_lock(connection: Connection, name: str) -> bool:
    """Take a session lock if it is free."""
    return bool(connection.scalar(text("select pg_try_advisory_lock(:n)"), {"n": lock_number(name)}))


def try_shared_lock(connection: Connection, name: str) -> bool:
    """Take a shared session lock if nobody holds it alone."""
    return bool(connection.scalar(text("select pg_try_advisory_lock_shared(:n)"), {"n": lock_number(name)}))
