"""The database schema: our tables by Alembic's migrations, and procrastinate's tables for the queue.

The role that owns the tables may be another than the one with which the service works: that one then can neither change
tables nor switch off what protects the audit trail.
"""

from __future__ import annotations

from pathlib import Path

from alembic import command
from alembic.config import Config
from alembic.script import ScriptDirectory
from procrastinate import App, PsycopgConnector
from psycopg import sql
from sqlalchemy import Connection, text

from bathotype.core.errors import Unavailable
from bathotype.service.database import Database, plain_url

_PREPARE_LOCK = 7_246_001
_OWNS = "select pg_has_role(current_user, relowner, 'USAGE') from pg_class where oid = to_regclass('alembic_version')"
#: What the working role may, and what of it is taken back: nobody changes what has happened.
_GRANTS = (
    "grant usage on schema public to {}",
    "grant select, insert, update, delete on all tables in schema public to {}",
    "grant usage, select on all sequences in schema public to {}",
    "grant execute on all functions in schema public to {}",
    "revoke update, delete on events from {}",
    "revoke insert, update, delete on alembic_version from {}",
)


def prepare(database: Database, *, working_role: str = "") -> None:
    """Bring the schema up to date, and let another role work with it where one is named.

    If several processes start together, one of them does it and the others wait.  Raises `Unavailable` where the database
    does not answer, and where it is not up to date and this role does not own it.
    """
    database.must_answer()
    with database.engine.connect() as connection:
        if connection.scalar(text(_OWNS)) is False:
            _check(connection)
            return
        connection.execute(text("select pg_advisory_lock(:n)"), {"n": _PREPARE_LOCK})
        connection.commit()
        config = _config()
        config.attributes["connection"] = connection
        command.upgrade(config, "head")
        connection.commit()
        _prepare_queue(database.url, connection)
        if working_role:
            for grant in _GRANTS:
                connection.exec_driver_sql(sql.SQL(grant).format(sql.Identifier(working_role)).as_string())
        connection.execute(text("select pg_advisory_unlock(:n)"), {"n": _PREPARE_LOCK})
        connection.commit()


def _config() -> Config:
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    return config


def _check(connection: Connection) -> None:
    wanted = ScriptDirectory.from_config(_config()).get_current_head()
    if connection.scalar(text("select version_num from alembic_version")) != wanted:
        raise Unavailable(
            "The database's tables are of another release, and the role of BATHOTYPE_DATABASE_URL may not change them.",
            advice="Run `bathotype schema upgrade` with BATHOTYPE_OWNER_DATABASE_URL set, then start again.",
        )


def _prepare_queue(url: str, connection: Connection) -> None:
    if connection.scalar(text("select to_regclass('procrastinate_jobs')")) is None:
        app = App(connector=PsycopgConnector(conninfo=plain_url(url)))
        with app.open():
            app.schema_manager.apply_schema()
