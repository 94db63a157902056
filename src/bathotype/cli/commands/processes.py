"""``serve``, ``worker``, ``schema``, ``standin`` and ``demo``: the processes, for operators of the service itself."""

from __future__ import annotations

import argparse
import gc
import os
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from bathotype.cli.options import Subparsers, command, group
from bathotype.cli.output import out, say
from bathotype.core.errors import Invalid
from bathotype.core.units import plural

if TYPE_CHECKING:
    from bathotype.client import Client


def register(parsers: Subparsers) -> None:
    """Add the commands."""
    parser = command(
        parsers,
        "serve",
        _serve,
        "serve the HTTP API",
        needs_client=False,
        examples="  bathotype serve --host 127.0.0.1 --port 8620",
    )
    parser.add_argument("--host", default="127.0.0.1")
    parser.add_argument("--port", type=int, default=8620)
    parser.add_argument("--processes", type=int, default=1, help="number of serving processes (default: 1)")
    parser = command(
        parsers, "worker", _worker, "run operations and upkeep", needs_client=False, examples="  bathotype worker"
    )
    parser.add_argument("--concurrency", type=int, default=4, help="operations at a time (default: 4)")
    inner = group(parsers, "schema", "the database's tables")
    command(
        inner,
        "upgrade",
        _upgrade,
        "bring the tables up to date, as the role of BATHOTYPE_OWNER_DATABASE_URL where it is set, and let the role of "
        "BATHOTYPE_DATABASE_URL work with them",
        needs_client=False,
        examples="  bathotype schema upgrade",
    )
    command(
        inner, "add-key", _add_key, "put a new key before the others in the secret file (docs/operating.md)",
        needs_client=False, examples="  bathotype schema add-key",
    )  # fmt: skip
    command(
        inner, "reseal", _reseal, "encrypt anew, with the first key of the secret file, what the database holds encrypted",
        needs_client=False, examples="  bathotype schema reseal",
    )  # fmt: skip
    # Whatever follows is the stand-in's own: `main` hands on what this parser does not know.
    parser = parsers.add_parser("standin", help="serve the stand-in cloud", add_help=False)
    parser.set_defaults(handler=_standin, needs_client=False, hands_on=True)
    parser = parsers.add_parser("lab", help="prepare a real guest and register it at the stand-in", add_help=False)
    parser.set_defaults(handler=_lab, needs_client=False, hands_on=True)
    parser = command(
        parsers,
        "demo",
        _demo,
        "start everything with demo data and run until stopped",
        needs_client=False,
        examples="  bathotype demo --data-dir .demo --port 8620 --lived-in",
    )
    parser.add_argument("--data-dir", type=Path, default=Path(".demo"), help="state of the demo (default: .demo)")
    parser.add_argument(
        "--lived-in", action="store_true", help="at the first start, fill it with versions, instances and history"
    )
    parser.add_argument("--real", action="store_true", help="do the whole job on a real guest under QEMU, then stop")
    parser.add_argument(
        "--port", type=int, default=8620, help="port of the HTTP API (default: 8620; 0 takes a free one)"
    )


@contextmanager
def _loading() -> Iterator[None]:
    """Nothing that is loaded is garbage: a start that does not look for any is a seventh shorter."""
    gc.disable()
    try:
        yield
    finally:
        gc.enable()


def _serve(_: Client, given: argparse.Namespace) -> None:
    with _loading():
        from bathotype.service.serving import serve

    if given.processes < 1:
        raise Invalid("--processes must be at least 1.")
    serve(given.host, given.port, given.processes)


def _worker(_: Client, given: argparse.Namespace) -> None:
    with _loading():
        from bathotype.service.working import work

    if given.concurrency < 1:
        raise Invalid("--concurrency must be at least 1.")
    work(given.concurrency)


def _upgrade(_: Client, given: argparse.Namespace) -> None:
    from sqlalchemy import make_url

    from bathotype.service import schema
    from bathotype.service.database import Database
    from bathotype.service.settings import Settings

    settings = Settings.from_environment()
    owner = settings.owner_database_url
    database = Database(owner or settings.database_url, pool_size=1)
    schema.prepare(database, working_role=str(make_url(settings.database_url).username) if owner else "")
    database.close()
    out("The tables are up to date.")


def _add_key(_: Client, given: argparse.Namespace) -> None:
    from bathotype.service.resealing import add_key
    from bathotype.service.settings import Settings

    out(f"{add_key(Settings.from_environment())} has a new key, before the others.")
    say("Give every host the same file, and start the processes again; then: `bathotype schema reseal`")


def _reseal(_: Client, given: argparse.Namespace) -> None:
    from bathotype.service.database import Database
    from bathotype.service.resealing import reseal, runs_under_way
    from bathotype.service.settings import Settings

    settings = Settings.from_environment()
    database = Database(settings.database_url, pool_size=1)
    try:
        database.must_answer()
        with database.sessions.begin() as session:
            done, left = reseal(session, settings.box), runs_under_way(session)
    finally:
        database.close()
    out(f"{plural(done, 'thing')} encrypted anew")
    say(
        f"{plural(left, 'operation')} that began before still needs the other keys: remove them when these have ended."
        if left
        else "The other keys in the secret file are not needed any more."
    )


def _standin(_: Client, given: argparse.Namespace) -> None:
    # A program of its own, which shares nothing with this one: it takes this process's place.
    os.execv(sys.executable, [sys.executable, "-m", "standin", *given.rest])


def _lab(_: Client, given: argparse.Namespace) -> None:
    os.execv(sys.executable, [sys.executable, "-m", "standin.lab", *given.rest])


def _demo(_: Client, given: argparse.Namespace) -> int:
    if given.real:
        from bathotype.demo.real import run_real_demo

        return run_real_demo(given.data_dir)
    from bathotype.demo.run import run_demo

    return run_demo(given.data_dir, given.port, lived_in=given.lived_in)
