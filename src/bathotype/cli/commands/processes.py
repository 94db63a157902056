"""``serve``, ``worker``, ``standin``, ``demo`` and ``tokens``: the processes, for operators of the service itself."""

from __future__ import annotations

import argparse
import os
import sys
from pathlib import Path

from bathotype.cli.options import Subparsers, command, group
from bathotype.client import Client
from bathotype.core.errors import Invalid


def register(parsers: Subparsers) -> None:
    """Add the commands."""
    parser = command(parsers, "serve", _serve, "serve the HTTP API", needs_client=False)
    parser.add_argument("--host", default="127.0.0.1")
    parser.add_argument("--port", type=int, default=8620)
    parser = command(parsers, "worker", _worker, "run operations and the reconciler", needs_client=False)
    parser.add_argument("--concurrency", type=int, default=4, help="operations at a time (default: 4)")
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
        examples="  bathotype demo --data-dir .demo --port 8620",
    )
    parser.add_argument("--data-dir", type=Path, default=Path(".demo"), help="state of the demo (default: .demo)")
    parser.add_argument("--real", action="store_true", help="show the whole job on a real guest under QEMU, then stop")
    parser.add_argument("--port", type=int, default=8620, help="of the HTTP API (default: 8620; 0 takes a free one)")
    inner = group(parsers, "tokens", "API tokens, made where the service's settings are")
    parser = command(
        inner,
        "make",
        _token,
        "make a token for an account, creating the account if need be; shown once",
        needs_client=False,
    )
    parser.add_argument("account")
    parser.add_argument("--name", default="operator", help="who holds it; shown in events")
    parser.add_argument("--days", type=int, default=90, help="until it expires (default: 90)")


def _serve(_: Client, given: argparse.Namespace) -> None:
    from bathotype.service.processes import serve

    serve(given.host, given.port)


def _worker(_: Client, given: argparse.Namespace) -> None:
    from bathotype.service.processes import work

    if given.concurrency < 1:
        raise Invalid("--concurrency must be at least 1.")
    work(given.concurrency)


def _standin(_: Client, given: argparse.Namespace) -> None:
    # A program of its own, which shares nothing with this one: it takes this process's place.
    os.execv(sys.executable, [sys.executable, "-m", "standin", *given.rest])


def _lab(_: Client, given: argparse.Namespace) -> None:
    os.execv(sys.executable, [sys.executable, "-m", "standin.lab", *given.rest])


def _demo(_: Client, given: argparse.Namespace) -> int:
    if given.real:
        from bathotype.demo.real import run_real_demo

        return run_real_demo(given.data_dir)
    from bathotype.demo.system import run_demo

    return run_demo(given.data_dir, given.port)


def _token(_: Client, given: argparse.Namespace) -> None:
    from bathotype.service.auth import make_token
    from bathotype.service.database import Database
    from bathotype.service.settings import Settings

    database = Database(Settings().database_url, pool_size=1)
    database.prepare()
    with database.sessions.begin() as session:
        token = make_token(session, given.account, given.name, days=given.days)
    print(token)
