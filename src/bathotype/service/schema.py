"""The database schema: our tables by Alembic's migrations, and procrastinate's tables for the queue."""

from __future__ import annotations

from pathlib import Path

from alembic import command
from alembic.config import Config
from procrastinate import App, PsycopgConnector
from sqlalchemy import Connection, text

from bathotype.service.database import Database, plain_url

_PREPARE_LOCK = 7_246_001


def prepare(database: Database) -> None:
    """Bring the schema up to date.  If several processes start together, one of them does it and the others wait."""
    with database.engine.connect() as connection:
        connection.execute(text("select pg_advisory_lock(:n)"), {"n": _PREPARE_LOCK})
        connection.commit()
        config = Config()
        config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
        config.attributes["connection"] = connection
        command.upgrade(config, "head")
        connection.commit()
        _prepare_queue(database.url, connection)
        connection.execute(text("select pg_advisory_unlock(:n)"), {"n": _PREPARE_LOCK})
        connection.commit()


def _prepare_queue(url: str, connection: Connection) -> None:
    if connection.scalar(text("select to_regclass('procrastinate_jobs')")) is None:
        app = App(connector=PsycopgConnector(conninfo=plain_url(url)))
        with app.open():
            app.schema_manager.apply_schema()
