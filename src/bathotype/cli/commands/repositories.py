"""``repositories``: git repositories that build sheets come from."""

from __future__ import annotations

import argparse
import time
from pathlib import Path
from typing import TYPE_CHECKING

from bathotype.cli.options import Subparsers, command, group
from bathotype.cli.output import emit_json, facts, out, say, table
from bathotype.cli.sheetfiles import text_in, value_arguments, values_of
from bathotype.core.errors import FAILED
from bathotype.core.units import plural

if TYPE_CHECKING:
    from bathotype.client import Client
    from bathotype.wire.repositories import NewRepository, Repository

_READ_SECONDS = 180.0


def register(parsers: Subparsers) -> None:
    """Add the commands."""
    inner = group(parsers, "repositories", "git repositories that build sheets come from")
    command(
        inner, "list", _list, "list repositories, and the commit that was read of each",
        examples="  bathotype repositories list",
    )  # fmt: skip
    parser = command(
        inner, "connect", _connect, "use the build sheets of a repository, and follow its branch",
        examples="  bathotype repositories connect office https://git.tide.example/images --folder sheets\n"
        "  bathotype repositories connect office ssh://git@git.tide.example/images --secret office-key"
        " --signers allowed_signers",
    )  # fmt: skip
    _name(parser)
    parser.add_argument("address", help="https, ssh or file, on a host that the operator names")
    parser.add_argument("--branch", default="main", help="default: main")
    parser.add_argument("--folder", default="", help="the sheets are there, and below (default: the top)")
    parser.add_argument(
        "--secret", metavar="NAME", help="the secret that opens it: USER:PASSWORD, a token, a private key"
    )
    parser.add_argument(
        "--signers", metavar="FILE", help="who must have signed its newest commit: an allowed-signers file of SSH"
    )
    value_arguments(parser)
    parser.add_argument(
        "--every",
        type=int,
        default=5,
        metavar="MINUTES",
        help="minutes between two looks; 0: only after a push (default: 5)",
    )
    parser = command(
        inner, "show", _show, "show a repository: what was read of it, its sheets, and what is wrong with others",
        examples="  bathotype repositories show office",
    )  # fmt: skip
    _name(parser)
    parser = command(
        inner, "read", _read, "look at a repository now, and say what was found",
        examples="  bathotype repositories read office",
    )  # fmt: skip
    _name(parser)
    parser = command(
        inner, "new-key", _new_key, "make a new key for signing pushes; the old key stops working",
        examples="  bathotype repositories new-key office",
    )  # fmt: skip
    _name(parser)
    parser = command(
        inner, "drop", _drop, "forget a repository; its sheets stay as they are",
        examples="  bathotype repositories drop office",
    )  # fmt: skip
    _name(parser)


def _name(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="NAME", help="the repository's name here")


def _list(client: Client, given: argparse.Namespace) -> None:
    rows = list(client.repositories())
    if given.json:
        return emit_json(rows)
    table(
        ("name", "address", "branch", "commit", "sheets", "read", "state"),
        ((r.name, r.address, r.branch, r.commit[:12], _sheets(r), r.read_at, _state(r)) for r in rows),
        empty="No repository is connected. `bathotype repositories connect NAME ADDRESS` connects one.",
    )


def _sheets(one: Repository) -> int:
    return sum(not sheet.withdrawn for sheet in one.sheets)


def _state(one: Repository) -> str:
    if one.problem:
        return one.problem
    if one.wrong:
        return f"{plural(len(one.wrong), 'file')} wrong"
    return "as it is there" if one.commit else "not read yet"


def _connect(client: Client, given: argparse.Namespace) -> int | None:
    from bathotype.core.errors import NotFound

    lines = text_in(given.signers).splitlines() if given.signers else []
    try:
        before = client.repository(given.name)
    except NotFound:
        before = None
    address = given.address
    if "://" not in address and Path(address).is_dir():
        address = f"file://{Path(address).resolve()}"
    made = client.connect_repository(
        given.name, address, branch=given.branch, folder=given.folder, secret=given.secret,
        signers=[line for line in lines if line.strip() and not line.startswith("#")],
        values=values_of(given), every_minutes=given.every, revision=before.revision if before else None,
    )  # fmt: skip
    if given.json:
        emit_json(made)
        return None
    out(f"{made.name} is connected")
    if made.key:
        _told_key(made)
    return _wait(client, given, made)


def _told_key(made: NewRepository) -> None:
    say(f"The git host can report pushes to /api/v1/pushes/{made.id}, signed with this key, which is shown this once:")
    out(made.key)


def _new_key(client: Client, given: argparse.Namespace) -> None:
    made = client.renew_push_key(given.name)
    emit_json(made) if given.json else _told_key(made)


def _read(client: Client, given: argparse.Namespace) -> int | None:
    return _wait(client, given, client.read_repository(given.name))


def _wait(client: Client, given: argparse.Namespace, asked: Repository) -> int | None:
    """Until it was looked at, and what was found."""
    ends = time.monotonic() + _READ_SECONDS
    now = asked
    while now.tried_at == asked.tried_at and time.monotonic() < ends:
        time.sleep(0.5)
        now = client.repository(given.name)
    if given.json:
        emit_json(now)
    elif now.tried_at == asked.tried_at:
        say(f"It was not looked at within {_READ_SECONDS:.0f} s: does a worker run?", style="red")
        return FAILED
    else:
        _told(now)
    return FAILED if now.problem or now.wrong else None


def _told(one: Repository) -> None:
    if one.problem:
        return say(f"It cannot be read: {one.problem}", style="red")
    out(f"{one.name} is at {one.commit[:12]}: {one.subject} ({one.author}){_signed(one)}")
    table(
        ("sheet", "file", ""),
        ((s.name, s.path, "not there any more" if s.withdrawn else "") for s in one.sheets),
        empty="It holds no sheet.",
    )
    for wrong in one.wrong:
        say(f"{wrong.path}: {wrong.why}", style="red")
    return None


def _signed(one: Repository) -> str:
    return f", signed by {one.signer}" if one.signer else ""


def _show(client: Client, given: argparse.Namespace) -> None:
    one = client.repository(given.name)
    if given.json:
        return emit_json(one)
    facts(
        [
            ("name", one.name),
            ("address", one.address),
            ("branch", one.branch),
            ("folder", one.folder or None),
            ("secret", one.secret),
            ("must be signed by", ", ".join(line.split(" ")[0] for line in one.signers) or None),
            *((f"value {name}", value) for name, value in one.values.items()),
            ("looked at", f"every {plural(one.every_minutes, 'minute')}" if one.every_minutes else "after pushes"),
            ("pushes go to", f"/api/v1/pushes/{one.id}"),
            ("commit of", one.committed_at),
            ("seen last", one.read_at),
            ("next", one.next_at),
        ]
    )
    if one.commit or one.problem:
        _told(one)
    return None


def _drop(client: Client, given: argparse.Namespace) -> None:
    client.drop_repository(given.name)
    emit_json({"removed": given.name}) if given.json else out(f"{given.name} is forgotten; its sheets stay")
