"""A large fleet in PostgreSQL: lines, versions, instances and events, copied in as a running service would leave them."""

from __future__ import annotations

import json
import random
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

import psycopg

from bathotype.core.lifecycle.numbers import sort_key

_START = datetime(2026, 1, 1, tzinfo=UTC)


@dataclass(frozen=True)
class Fleet:
    """How much there is."""

    accounts: int = 50
    regions: int = 5
    lines: int = 200
    versions: int = 20_000
    instances: int = 1_000_000
    events: int = 500_000

    @property
    def per_line(self) -> int:
        """Versions of each line."""
        return self.versions // self.lines


def account(number: int) -> str:
    """The name of the n-th account."""
    return f"office-{number:02}"


def line(number: int) -> str:
    """The name of the n-th line."""
    return f"gauge-{number:03}"


def number_of(position: int) -> str:
    """The number of a line's n-th version."""
    return f"{1 + position // 50}.{position % 50}.0"


def fill(connection: psycopg.Connection[Any], fleet: Fleet, regions: list[str]) -> None:
    """Copy the fleet in, and let PostgreSQL learn its statistics.

    Each account owns lines and runs instances of its own and, by shares, of others'.  Of each line's versions the oldest
    tenth is retired and the newest tenth staged.
    """
    chance = random.Random(11)
    _copy(
        connection, "accounts (id, name, created_at)", ((f"ac-{n}", account(n), _START) for n in range(fleet.accounts))
    )
    _copy(
        connection, "lines (id, account_id, name, about, created_at)",
        ((f"ln-{n}", f"ac-{n % fleet.accounts}", line(n), "", _START) for n in range(fleet.lines)),
    )  # fmt: skip
    operation = "op-load"
    connection.execute(
        "insert into operations (id, account_id, kind, subject, state, params, memo, attempts, cancel_requested, created_by, "
        "request_id, created_at) values (%s, 'ac-0', 'capture', 'x', 'succeeded', '{}', '{}', 1, false, 'load', '', %s)",
        (operation, _START),
    )
    _copy(
        connection,
        "operations (id, account_id, kind, subject, state, params, memo, attempts, cancel_requested, created_by, request_id, "
        "created_at, ended_at)",
        (
            (
                f"op-{n}",
                f"ac-{n // fleet.per_line % fleet.accounts}",
                "capture",
                "x",
                "succeeded",
                "{}",
                "{}",
                1,
                False,
                "load",
                "",
                _START,
                _START,
            )
            for n in range(fleet.versions)
        ),
    )
    _copy(
        connection,
        "versions (id, line_id, number, sort_key, state, pin_only, notes, content_digest, virtual_bytes, used_bytes, "
        "stored_bytes, new_bytes, mode, source, steps, contents, operation_id, created_at, released_at)",
        _versions(fleet),
    )
    _copy(
        connection, "replicas (version_id, region, state, copies, multi_zone, verified_at)",
        (
            (f"ve-{n}", region, "ready", 1, False, _START)
            for n in range(fleet.versions) for region in (regions[n % len(regions)], regions[(n + 1) % len(regions)])
        ),
    )  # fmt: skip
    _copy(
        connection,
        "shares (id, owner_id, consumer_id, line_id, note, state, proposed_by, proposed_at)",
        (
            (f"sh-{n}-{k}", f"ac-{n % fleet.accounts}", f"ac-{(n + k) % fleet.accounts}", f"ln-{n}", "", "active", "load", _START)
            for n in range(fleet.lines) for k in range(1, min(11, fleet.accounts))
        ),
    )  # fmt: skip
    _copy(
        connection,
        "instances (id, account_id, version_id, name, region, zone, size, state, origin, site_machine, host_name, first_boot, "
        "identity, launched_at)",
        _instances(fleet, regions, chance),
    )
    _copy(
        connection, "events (account_id, at, actor, source, action, subject, digest)", _events(fleet, chance)
    )  # fmt: skip
    _copy(
        connection, "launch_rules (id, account_id, name, body, set_by, set_at)",
        (
            (f"lr-{n}-{k}", f"ac-{n}", f"rule-{k}", json.dumps(_rule(k)), "load", _START)
            for n in range(fleet.accounts) for k in range(5)
        ),
    )  # fmt: skip
    connection.commit()
    connection.autocommit = True
    connection.execute("vacuum analyze")


def _rule(number: int) -> dict[str, Any]:
    bodies: list[dict[str, Any]] = [
        {"released_only": True}, {"no_older_than_days": 3000}, {"residue_clean": True}, {"lines": ["*"]},
        {"tags": ["owner"], "effect": "warn"},
    ]  # fmt: skip
    return {"name": f"rule-{number}", **bodies[number]}


def _copy(connection: psycopg.Connection[Any], table: str, rows: Iterable[tuple[Any, ...]]) -> None:
    with connection.cursor() as cursor, cursor.copy(f"copy {table} from stdin") as copy:
        for row in rows:
            copy.write_row(row)


def _versions(fleet: Fleet) -> Iterator[tuple[Any, ...]]:
    tenth = fleet.per_line // 10
    for number in range(fleet.versions):
        owner, position = divmod(number, fleet.per_line)
        state = "retired" if position < tenth else "staged" if position >= fleet.per_line - tenth else "released"
        text = number_of(position)
        at = _START + timedelta(hours=number % 5000)
        yield (
            f"ve-{number}", f"ln-{owner}", text, sort_key(text), state, False, "", f"blake3:{number:064x}", 1 << 30,
            1 << 29, 1 << 27, 1 << 20, "live", "{}", "[]", '{"os": {"id": "halvane"}, "package_count": 58}',
            f"op-{number}", at, at if state != "staged" else None,
        )  # fmt: skip


def _instances(fleet: Fleet, regions: list[str], chance: random.Random) -> Iterator[tuple[Any, ...]]:
    identity = json.dumps({"host_name": "x", "machine_id": "0" * 32, "addresses": ["192.0.2.10"]})
    tenth = fleet.per_line // 10
    for number in range(fleet.instances):
        line_number = chance.randrange(fleet.lines)
        # Most run what was released lately.
        back = min(int(chance.expovariate(0.15)), fleet.per_line - 2 * tenth - 1)
        position = fleet.per_line - tenth - 1 - back
        runner = (line_number + chance.choice((0, 0, 0, *range(1, min(11, fleet.accounts))))) % fleet.accounts
        state = "running" if chance.random() < 0.6 else "terminated"
        yield (
            f"in-{number:012x}", f"ac-{runner}", f"ve-{line_number * fleet.per_line + position}", f"m-{number}",
            chance.choice(regions), "a", "small", state, "launched", f"m-{number:012x}", f"m-{number}", "{}", identity,
            _START + timedelta(seconds=number),
        )  # fmt: skip


def _events(fleet: Fleet, chance: random.Random) -> Iterator[tuple[Any, ...]]:
    actions = ("instance.running", "instance.terminated", "launch.requested", "version.released", "share.accepted")
    for number in range(fleet.events):
        line_number = chance.randrange(fleet.lines)
        subject = f"{line(line_number)}@{number_of(chance.randrange(fleet.per_line))}"
        yield (
            f"ac-{chance.randrange(fleet.accounts)}", _START + timedelta(seconds=number), "load", "",
            chance.choices(actions, (60, 30, 8, 1, 1))[0], subject, "blake3:0",
        )  # fmt: skip
