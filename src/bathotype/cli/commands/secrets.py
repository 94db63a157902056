"""``secrets``: values for build runs that nobody can read back."""

from __future__ import annotations

import argparse
import getpass
import sys
from typing import TYPE_CHECKING

from bathotype.cli.options import Subparsers, command, group
from bathotype.cli.output import emit_json, out, table
from bathotype.core.errors import Invalid

if TYPE_CHECKING:
    from bathotype.client import Client


def register(parsers: Subparsers) -> None:
    """Add the commands."""
    inner = group(parsers, "secrets", "values for build runs that nobody can read back")
    parser = command(
        inner, "set", _set, "keep a secret; its value is asked for, or read from standard input",
        examples="  bathotype secrets set logger-licence --about 'Licence of the logger.'\n"
        "  bathotype secrets set logger-licence < licence.txt",
    )  # fmt: skip
    parser.add_argument("name")
    parser.add_argument("--about", default="", help="what it is for")
    command(inner, "list", _list, "list secrets without their values", examples="  bathotype secrets list")
    parser = command(inner, "drop", _drop, "remove a secret", examples="  bathotype secrets drop logger-licence")
    parser.add_argument("name")


def _set(client: Client, given: argparse.Namespace) -> None:
    typed = sys.stdin.isatty()
    value = getpass.getpass(f"Value of {given.name}: ") if typed else sys.stdin.read().removesuffix("\n")
    if not value:
        raise Invalid("No value is given.", advice="Type it, or send it to standard input.")
    row = client.set_secret(given.name, value, about=given.about)
    emit_json(row) if given.json else out(f"{row.name} is kept")


def _list(client: Client, given: argparse.Namespace) -> None:
    rows = client.secrets()
    if given.json:
        return emit_json(rows)
    table(
        ("secret", "about", "set by", "set", "last used", "by"),
        ((r.name, r.about, r.set_by, r.set_at, r.used_at, r.used_by) for r in rows),
        empty="No secret is kept.",
    )


def _drop(client: Client, given: argparse.Namespace) -> None:
    client.drop_secret(given.name)
    emit_json({"removed": given.name}) if given.json else out(f"{given.name} removed")
