"""What people and programs read: tables and progress bars on a terminal, plain text elsewhere, JSON on request."""

from __future__ import annotations

import argparse
import json
import re
import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any, TextIO

from rich.console import Console
from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn, TransferSpeedColumn
from rich.table import Table
from rich.text import Text

from bathotype.core.errors import REFUSED, BathotypeError, Refused
from bathotype.core.units import iec, seconds

if TYPE_CHECKING:
    from bathotype.client import Client
    from bathotype.wire.common import Plan
    from bathotype.wire.machines import Remark
    from bathotype.wire.operations import Operation

_REMARKS = ("obstacle", "warning", "ok")
#: Characters that JSON leaves as they are although they steer a terminal.
_HIGH_CONTROLS = re.compile("[\x7f-\x9f]")
#: How lists are printed: see the options of `bathotype.cli.options.command`.
_asked = {"header": False, "ndjson": False}
console = Console(highlight=False, soft_wrap=False)
errors = Console(stderr=True, highlight=False)
_COLOURS = {
    "released": "green4",
    "running": "green4",
    "succeeded": "green4",
    "ok": "green4",
    "ready": "green4",
    "staged": "dark_cyan",
    "sunset": "dark_orange3",
    "warning": "dark_orange3",
    "medium": "dark_orange3",
    "starting": "dark_cyan",
    "active": "green4",
    "pass": "green4",
    "proposed": "dark_cyan",
    "excepted": "dark_cyan",
    "coming": "dark_cyan",
    "warn": "dark_orange3",
    "draining": "dark_orange3",
    "refuse": "red",
    "damaged": "red",
    "ended": "bright_black",
    "declined": "bright_black",
    "not-concerned": "bright_black",
    "stopped": "dark_orange3",
    "lost": "magenta",
    "retired": "bright_black",
    "purged": "bright_black",
    "low": "bright_black",
    "failed": "red",
    "obstacle": "red",
    "high": "red",
}


@contextmanager
def transfer_bar(name: str) -> Iterator[Callable[[int, int], None]]:
    """A bar for bytes that pass, on the error stream; gives a function that takes ``(done, total)``."""
    columns = (TextColumn(f"[bold]{name}"), BarColumn(bar_width=28), DownloadColumn(True), TransferSpeedColumn())
    with Progress(*columns, console=errors, transient=True) as progress:
        bar = progress.add_task(name, total=None)
        yield lambda done, total: progress.update(bar, completed=done, total=total)


def configure(given: argparse.Namespace) -> None:
    """Take over how a command's output was asked for."""
    for name in _asked:
        _asked[name] = bool(getattr(given, name, False))


def emit_json(value: Any) -> None:
    """One JSON document; with ``--ndjson`` one for each item of a list, a line each."""
    if _asked["ndjson"] and isinstance(value, list | tuple):
        for item in value:
            print(_HIGH_CONTROLS.sub(_escaped, json.dumps(_plain(item), ensure_ascii=False)))
        return
    print(_json(value, sys.stdout))


def say_problem(error: BathotypeError) -> None:
    """An error as a problem document (RFC 9457), on standard error."""
    document = {
        "type": "about:blank",
        "title": error.title,
        "status": error.status,
        "detail": error.message,
        "code": error.code,
        "advice": error.advice,
    }
    print(_json(document, sys.stderr), file=sys.stderr)


def _json(value: Any, stream: TextIO) -> str:
    text = json.dumps(_plain(value), indent=2 if stream.isatty() else None, ensure_ascii=False)
    return _HIGH_CONTROLS.sub(_escaped, text)


def _escaped(match: re.Match[str]) -> str:
    return f"\\u{ord(match[0]):04x}"


def _plain(value: Any) -> Any:
    from pydantic import BaseModel  # here: a help text needs no models

    if isinstance(value, BaseModel):
        return value.model_dump(mode="json")
    if isinstance(value, list | tuple):
        return [_plain(item) for item in value]
    if isinstance(value, dict):
        return {key: _plain(item) for key, item in value.items()}
    return value


def table(headings: Sequence[str], rows: Iterable[Sequence[Any]], *, empty: str = "Nothing yet.") -> None:
    """A table for people; on a pipe, tab-separated values, with headings where ``--header`` asks for them.

    Where the terminal is narrow, texts are folded; ids, references and other single words are never broken.
    """
    rows = [[_cell(value) for value in row] for row in rows]
    if not sys.stdout.isatty():
        for row in [list(headings), *rows] if _asked["header"] else rows:
            print("\t".join(row))
        return
    if not rows:
        console.print(empty, style="bright_black")
        return
    # A column that nothing fills says nothing.
    kept = [i for i in range(len(headings)) if any(row[i] for row in rows)]
    shown = Table(box=None, pad_edge=False, header_style="bold", padding=(0, 2, 0, 0))
    for i in kept:
        numeric = all(row[i][:1].isdigit() or not row[i] for row in rows) and headings[i] in _NUMERIC
        widest = max((len(word) for row in rows for word in row[i].split()), default=0)
        whole = min(max(widest, len(headings[i])), _MOST_WHOLE)
        shown.add_column(
            headings[i], justify="right" if numeric else "left", overflow="fold", min_width=whole, no_wrap=numeric
        )
    for row in rows:
        shown.add_row(*[Text(row[i], style=_COLOURS.get(row[i], "")) for i in kept])
    console.print(shown)


#: Words up to this length are kept whole in tables.
_MOST_WHOLE = 44
_NUMERIC = {"size", "bytes", "paths", "used", "stored", "new", "running", "versions", "behind", "packages"}


def _cell(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, datetime):
        return value.astimezone(UTC).strftime("%Y-%m-%d %H:%M:%SZ")
    return "yes" if value is True else "" if value is False else visible(str(value).replace("\n", " "))


def visible(text: str) -> str:
    """A text without characters that steer a terminal: other accounts, guests and sites wrote it."""
    if text.isprintable():
        return text
    return "".join(c if c.isprintable() or c in "\n\t" else "\N{REPLACEMENT CHARACTER}" for c in text)


def facts(rows: Iterable[tuple[str, Any]]) -> None:
    """Named facts, one a line; those without a value are left out."""
    pairs = [(name, _cell(value)) for name, value in rows]
    width = max((len(name) for name, value in pairs if value), default=0)
    for name, value in pairs:
        if not value:
            continue
        if sys.stdout.isatty():
            console.print(
                Text(name.ljust(width + 2), style="bold").append(value, style=_COLOURS.get(value, "not bold"))
            )
        else:
            print(f"{name}\t{value}")


def out(text: object = "") -> None:
    """A line of results, on standard output."""
    print(visible(str(text)))


def say(text: str, *, style: str = "") -> None:
    """A line for people, on standard error, so that standard output stays for results."""
    errors.print(Text(visible(text), style=style), soft_wrap=not sys.stderr.isatty())


def show_plan(plan: Plan, given: argparse.Namespace) -> int:
    """What a verb would do; returns the exit code."""
    if given.json:
        emit_json(plan)
    else:
        for line in plan.blockers:
            say(f"obstacle: {line}", style="red")
        for line in plan.warnings:
            say(f"warning: {line}", style="dark_orange3")
        for line in plan.effects:
            out(line)
    return REFUSED if plan.blockers else 0


def show_remarks(remarks: Iterable[Remark]) -> None:
    """What a preflight looked at, obstacles first."""
    table(
        ("outcome", "check", "why", "what to do"),
        ((r.outcome, r.check, r.why, r.advice) for r in sorted(remarks, key=lambda r: _REMARKS.index(r.outcome))),
    )


def confirm(what: str) -> None:
    """Ask before something is done.  Raises `Refused` unless the answer is yes, or where nobody can be asked."""
    if not sys.stdin.isatty():
        raise Refused(what, advice="Add --yes if you want that.")
    say(f"{what} Write yes to go on: ")
    if input().strip() != "yes":
        raise Refused("Nothing was done.")


def follow(client: Client, operation: Operation, *, quiet: bool = False) -> Operation:
    """Wait for an operation, with a progress bar on a terminal.  Ctrl-C leaves it running and says so."""
    if not quiet:
        say(f"operation {operation.id}", style="bright_black" if sys.stderr.isatty() else "")
    try:
        if quiet or not sys.stderr.isatty():
            return client.wait(operation.id)
        with Progress(
            TextColumn("[bold]{task.description:<34}"),
            BarColumn(bar_width=28),
            TextColumn("{task.percentage:>3.0f}%"),
            TextColumn("[bright_black]{task.fields[detail]}"),
            console=errors,
            transient=True,
        ) as progress:
            bar = progress.add_task(operation.kind, total=100, detail="")

            def show(now: Operation) -> None:
                step = next((s for s in now.steps if s.state == "running"), None)
                progress.update(
                    bar, completed=now.percent, description=step.title if step else now.state, detail=_detail(now, step)
                )

            return client.wait(operation.id, on_progress=show)
    except KeyboardInterrupt:
        say(f"It keeps running: `bathotype operations watch {operation.id}`; `operations cancel` stops it.")
        raise


def follow_all(client: Client, operations: Sequence[Operation], *, quiet: bool = False) -> list[Operation]:
    """Wait for several operations, each with a bar of its own on a terminal.  Raises as `follow` does, at the end."""
    if quiet or not sys.stderr.isatty() or len(operations) < 2:
        return [follow(client, operation, quiet=quiet) for operation in operations]
    columns = (
        TextColumn("[bold]{task.fields[subject]:<34}"),
        BarColumn(bar_width=28),
        TextColumn("{task.percentage:>3.0f}%"),
        TextColumn("[bright_black]{task.description}"),
    )
    with Progress(*columns, console=errors, transient=True) as progress:
        bars = {o.id: progress.add_task("", total=100, subject=o.subject) for o in operations}

        def wait(operation: Operation) -> Operation:
            def show(now: Operation) -> None:
                step = next((s for s in now.steps if s.state == "running"), None)
                text = f"{step.title} {_detail(now, step)}" if step else now.state
                progress.update(bars[now.id], completed=now.percent, description=text)

            return client.wait(operation.id, on_progress=show)

        with ThreadPoolExecutor(len(operations)) as pool:
            waiting = [pool.submit(wait, operation) for operation in operations]
        return [done.result() for done in waiting]


def _detail(now: Operation, step: Any) -> str:
    if step is None or step.bytes_total < 1024:
        return ""
    parts = [f"{iec(step.bytes_done)} of {iec(step.bytes_total)}"]
    if now.rate:
        parts.append(f"{iec(now.rate)}/s")
    if now.eta is not None:
        parts.append(f"{seconds(now.eta)} left")
    return ", ".join(parts)
