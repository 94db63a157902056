"""``sheets``, ``build`` and ``builds``: making versions from files."""

from __future__ import annotations

import argparse
import hashlib
import json
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Any

from bathotype.cli.commands.savedsheets import add_saved
from bathotype.cli.options import Subparsers, command, group, pair, tags, tags_of
from bathotype.cli.output import emit_json, facts, follow, out, say, show_plan, table
from bathotype.cli.sheetfiles import (
    as_locked,
    away,
    brought,
    finish,
    for_shell,
    locked,
    nothing_new,
    part_given,
    read_form,
    read_given,
    run_arguments,
    sheet_arguments,
    state_of,
    text_in,
    uploaded,
)
from bathotype.core.errors import USAGE, Invalid
from bathotype.core.units import iec, plural, seconds

if TYPE_CHECKING:
    from bathotype.client import Client
    from bathotype.core.sheets.document import Fault
    from bathotype.core.sheets.lock import Locked
    from bathotype.core.sheets.sheet import Sheet, SheetPart
    from bathotype.wire.builds import BuildStep, KeptMachine, MachineFigure, PayloadGiven


def register(parsers: Subparsers) -> None:
    """Add the commands."""
    inner = group(parsers, "sheets", "files that say how a version is made from a base")
    parser = command(
        inner, "check", _check, "check a whole sheet: every fault with its line and column", needs_client=False,
        examples="  bathotype sheets check logging.yaml\n  bathotype sheets check logging.yaml --set station=outer",
    )  # fmt: skip
    sheet_arguments(parser)
    parser = command(
        inner, "lock", _lock, "write size and SHA-256 of each file of a sheet's payload beside it; files in buckets are read by the service",
        needs_client=False, examples="  bathotype sheets lock logging.yaml",
    )  # fmt: skip
    sheet_arguments(parser)
    parser = command(
        inner, "schema", _schema, "print the format as JSON Schema, for editors", needs_client=False,
        examples="  bathotype sheets schema > sheet.schema.json\n  bathotype sheets schema --part > part.schema.json",
    )  # fmt: skip
    parser.add_argument("--part", action="store_true", help="the format of parts, which sheets include")
    add_saved(inner)

    parser = command(
        parsers,
        "build",
        _build,
        "make a version by the steps of a sheet, in a temporary machine",
        examples="  bathotype build logging.yaml --plan\n  bathotype build logging.yaml --set station=outer --bump patch\n"
        "  bathotype build gauge-logger@1.2.0 --again",
    )
    sheet_arguments(parser)
    tags(parser)
    run_arguments(parser)
    parser.add_argument(
        "--again", action="store_true",
        help="FILE is a version: repeat the run that made it, from the same base, and show what differs",
    )  # fmt: skip
    parser.add_argument(
        "--payload",
        action="append",
        default=[],
        metavar="NAME=FILE",
        help="with --again: a file that is not kept any more",
    )

    inner = group(parsers, "builds", "runs of build sheets")
    parser = command(
        inner,
        "list",
        _list,
        "list runs, newest first",
        examples="  bathotype builds list --sheet logging --printed tide-logger",
    )
    parser.add_argument("--sheet", dest="of_sheet", metavar="NAME", help="only runs of this sheet")
    parser.add_argument("--printed", metavar="TEXT", help="only runs of which a step printed or changed this")
    parser.add_argument("--most", type=int, default=20, help="how many (default: 20)")
    parser = command(
        inner, "show", _show, "show a run and each of its steps",
        examples="  bathotype builds show op-01a21acec4fc-5a0f64ac\n"
        "  bathotype builds show op-01a21acec4fc-5a0f64ac --step logger",
    )  # fmt: skip
    parser.add_argument("operation", metavar="ID", help="the run's operation")
    parser.add_argument("--step", help="what this step changed and printed")
    parser.add_argument("--text", action="store_true", help="the sheet as it ran")
    parser = command(
        inner, "drop-machine", _drop_machine, "remove the machine of a failed run now, not when its time is over",
        examples="  bathotype builds drop-machine op-01a21acec4fc-5a0f64ac",
    )  # fmt: skip
    parser.add_argument("operation", metavar="ID", help="the run's operation")


def _check(_: Client, given: argparse.Namespace) -> int | None:
    from bathotype.core.sheets.lock import check_lock, lock_of
    from bathotype.core.sheets.reading import is_part, parts_named

    if is_part(text_in(given.sheet)):
        return _check_part(given)
    read = read_given(given, filled=False)
    sheet = read.checked.sheet
    if sheet is None or given.json:
        return _faults(given, read.faults(), read.checked.digest)
    lock = locked(given.sheet)
    check_lock(lock, lock_of(sheet, Path(given.sheet).parent, away(lock, sheet)))
    table(("step", "does", "why"), ((step.id, step.do, step.why) for step in sheet.steps))
    payload = f", {plural(len(sheet.payload), 'file')} of payload as locked" if sheet.payload else ""
    say(f"{sheet.sheet} is valid: {plural(len(sheet.steps), 'step')} on {sheet.base}{payload}.")
    if kept := [name for name, source in parts_named(read.text)[0].items() if source.saved]:
        say(f"What the service keeps was not read: {', '.join(kept)}. `bathotype build {given.sheet} --plan` reads it.")
    return None


def _check_part(given: argparse.Namespace) -> int | None:
    from bathotype.core.sheets.lock import check_lock, lock_of
    from bathotype.core.sheets.reading import read_part

    part, faults = read_part(text_in(given.sheet))
    if part is None or given.json:
        return _faults(given, [(given.sheet, fault) for fault in faults])
    lock = locked(given.sheet)
    check_lock(lock, lock_of(part, Path(given.sheet).parent, away(lock, part)))
    table(("step", "does", "why"), ((step.id, step.do, step.why) for step in part.steps))
    say(f"{part.part} is a valid part: {plural(len(part.steps), 'step')}.")
    return None


def _faults(given: argparse.Namespace, faults: list[tuple[str, Fault]], digest: str = "") -> int:
    if given.json:
        emit_json(
            {
                "valid": not faults,
                "faults": [
                    {"file": file, "line": f.line, "column": f.column, "where": f.where, "message": f.message}
                    for file, f in faults
                ],
                "digest": digest,
            }
        )
    else:
        for file, fault in faults:
            out(f"{file}:{fault.line}:{fault.column}: {f'{fault.where}: ' if fault.where else ''}{fault.message}")
        say(f"{given.sheet} has {plural(len(faults), 'fault')}.", style="red")
    return USAGE if faults else 0


def _lock(_: Client, given: argparse.Namespace) -> None:
    from bathotype.core.sheets.lock import digest_of, lock_of, lock_path, lying_here

    sheet = part_given(given) or read_given(given, filled=False).need()
    folder = Path(given.sheet).parent
    with brought(sheet, folder, lying_here(sheet)) as files:
        known = {name: digest_of(path) for name, path in files.items()}
        lock = lock_of(sheet, folder, known | _in_buckets(given, sheet))
    target = lock_path(Path(given.sheet))
    part = target.with_name(f"{target.name}.part")
    part.write_text(json.dumps(lock.model_dump(), indent=2) + "\n")
    part.replace(target)
    if given.json:
        return emit_json(lock)
    table(
        ("payload", "bytes", "SHA-256"), ((n, iec(f.bytes), f.sha256) for n, f in lock.payload.items()), empty="None."
    )
    say(f"{target} holds {plural(len(lock.payload), 'file')}.")


def _in_buckets(given: argparse.Namespace, sheet: Sheet | SheetPart) -> dict[str, Locked]:
    """What the files of a payload are that lie in buckets: the service reads them."""
    from bathotype.cli.main import connect
    from bathotype.core.sheets.lock import Locked

    wanted = {name: about.bucket for name, about in sheet.payload.items() if about.bucket is not None}
    found: dict[str, Locked] = {}
    for name, address in wanted.items():
        with connect(given) as client:
            say(f"{name}: the service reads {address}.")
            done = client.wait(client.digest_in_bucket(address).id)
        result = done.result or {}
        found[name] = Locked(bytes=result["bytes"], sha256=result["sha256"])
    return found


def _schema(_: Client, given: argparse.Namespace) -> None:
    from bathotype.core.sheets.sheet import schema

    print(json.dumps(schema("part" if given.part else "sheet"), indent=2))


def _again(client: Client, given: argparse.Namespace) -> int | None:
    from bathotype.cli.commands.versions import show_difference

    if given.set or given.values or given.bump or given.unless_same:
        raise Invalid("A run is done again as it was.", advice="Leave out --set, --values, --bump and --unless-same.")
    before = client.version(given.sheet)
    run = next(client.builds(made=before.reference), None)
    if run is None:
        raise Invalid(
            f"{before.reference} was not made by a run of this account.", advice="See `bathotype builds list`."
        )
    payload = _files(client, given, run.operation)
    if given.plan:
        plan = client.plan_repeat(
            run.operation, region=given.region, number=given.number, payload=payload, tags=tags_of(given)
        )
        if not given.json:
            facts([("makes", plan.reference), ("from", plan.base)])
        return show_plan(plan, given)
    started = client.repeat(
        run.operation, region=given.region, number=given.number, payload=payload, tags=tags_of(given),
        keep_on_failure=given.keep_on_failure,
    )  # fmt: skip
    done = follow(client, started, quiet=given.json)
    result = done.result or {}
    made, same = result["reference"], result["content_digest"] == before.content_digest
    found = client.difference(before.reference, made)
    if given.json:
        emit_json(
            {"made": made, "repeats": before.reference, "same": same, "difference": found.model_dump(mode="json")}
        )
        return None
    if given.format == "env":
        for_shell(result["reference"], result["content_digest"], done.id, released=False)
        return None
    facts(
        [("made", made), ("again", before.reference), ("from", result["base"]), ("content", result["content_digest"])]
    )
    if same:
        say(f"It is {before.reference} to the byte.")
        return None
    show_difference(found)
    return None


def _files(client: Client, given: argparse.Namespace, operation: str) -> dict[str, PayloadGiven]:
    """The files that are given for a run, uploaded where it ran."""
    from bathotype.wire.builds import PayloadGiven

    found: dict[str, PayloadGiven] = {}
    for item in given.payload:
        name, file = pair(item, "NAME=FILE", found)
        path = Path(file)
        if not path.is_file():
            raise Invalid(f"{file} is no file.", advice="Name the file as it was in that run.")
        with path.open("rb") as opened:
            about = PayloadGiven(bytes=path.stat().st_size, sha256=hashlib.file_digest(opened, "sha256").hexdigest())
        region = given.region or next(iter(client.version(given.sheet).regions))
        found |= uploaded(client, given, region, {name: about}, {name: path})
    return found


def _build(client: Client, given: argparse.Namespace) -> int | None:
    read_form(given)
    if given.again:
        return _again(client, given)
    if given.payload:
        raise Invalid("--payload belongs to --again.", advice="A sheet names the files of its payload itself.")
    return _build_file(client, given)


def _build_file(client: Client, given: argparse.Namespace) -> int | None:
    from bathotype.core.sheets.lock import check_lock, lock_of
    from bathotype.wire.builds import PayloadGiven

    read = read_given(given, filled=True)
    text, values, sheet = read.text, read.values, read.need()
    folder, lock = Path(given.sheet).parent, locked(given.sheet)
    now = lock_of(sheet, folder, away(lock, sheet))
    check_lock(lock, now)
    payload = {name: PayloadGiven(bytes=f.bytes, sha256=f.sha256) for name, f in now.payload.items()}
    asked: dict[str, Any] = {
        "values": values,
        "region": given.region,
        "number": given.number,
        "bump": given.bump,
        "tags": tags_of(given),
    }
    plan = client.plan_build(text, payload=payload, **asked)
    if given.plan:
        if not given.json:
            facts(
                [
                    ("makes", plan.reference),
                    ("from", plan.base),
                    ("machine", f"{plan.machine_size} in {plan.region}"),
                    ("payload", ", ".join(f"{n} ({iec(f.bytes)})" for n, f in payload.items())),
                    ("same as", plan.same_as),
                    ("last run", seconds(plan.earlier_seconds) if plan.earlier_seconds else None),
                ]
            )
        return show_plan(plan, given)
    if given.unless_same and plan.same_as:
        nothing_new(client, plan.same_as, given)
        return None
    if not plan.blockers:  # else the service says them all, and nothing is sent before
        asked["region"] = plan.region
        with brought(sheet, folder, payload) as files:
            as_locked(files, payload)
            payload = uploaded(client, given, plan.region, payload, files)
        for warning in plan.warnings:
            say(f"warning: {warning}", style="dark_orange3")
    finish(client, client.build(text, payload=payload, keep_on_failure=given.keep_on_failure, **asked), given)
    return None


def _list(client: Client, given: argparse.Namespace) -> None:
    rows = list(
        islice(client.builds(sheet=given.of_sheet, printed=given.printed, limit=min(given.most, 500)), given.most)
    )
    if given.json:
        return emit_json(rows)
    table(
        ("run", "sheet", "made", "state", "from", "took", "began"),
        (
            (
                r.operation, r.sheet, r.reference, state_of(r), r.base,
                seconds((r.ended_at - r.created_at).total_seconds()) if r.ended_at else "", r.created_at,
            )
            for r in rows
        ),
        empty="No such run." if given.of_sheet or given.printed else "No sheet has run.",
    )  # fmt: skip


def _show(client: Client, given: argparse.Namespace) -> None:
    run = client.build_run(given.operation)
    if given.text:
        return out(run.text)
    if given.step:
        return _show_step(next((s for s in run.steps if s.id == given.step), None), given)
    if given.json:
        return emit_json(run)
    facts(
        [
            ("run", run.operation),
            ("sheet", f"{run.sheet} (blake3:{run.digest[:16]})"),
            ("made" if run.state == "succeeded" else "to make", run.reference),
            ("from", f"{run.base} ({run.base_digest[:23]})"),
            ("again", run.repeats or None),
            ("commit", f"{run.commit[:12]} of {run.repository}" if run.commit else None),
            ("state", run.state),
            ("why", run.error or None),
            ("stays staged", run.held_back or None),
            *((f"value {name}", value) for name, value in run.values.items()),
            *((f"payload {name}", f"sha256:{digest[:16]}") for name, digest in run.payload.items()),
            ("by", run.created_by),
            ("delivered", ", ".join(run.delivered) or None),
            ("stays", _kept(run.kept)),
            *_busy(run.figures),
        ]
    )
    table(
        ("step", "does", "state", "took", "changed"),
        (
            (s.id, s.do, s.state, seconds(s.seconds) if s.seconds is not None else "", s.error or _changed(s.changed))
            for s in run.steps
        ),
    )


def _kept(kept: KeptMachine | None) -> str | None:
    if kept is None:
        return None
    return f"{kept.name} in {kept.region}, {kept.address or 'without an address'}, until {kept.until:%Y-%m-%d %H:%M}Z"


def _drop_machine(client: Client, given: argparse.Namespace) -> None:
    client.drop_build_machine(given.operation)
    emit_json({"removed": given.operation}) if given.json else out(
        f"The machine of {given.operation} is removed shortly."
    )


def _changed(changed: list[str]) -> str:
    return changed[0] + (f" and {len(changed) - 1} more" if len(changed) > 1 else "") if changed else ""


def _busy(figures: list[MachineFigure]) -> list[tuple[str, str]]:
    """How busy the machine was, in words."""
    if not figures:
        return []
    whole = sum(f.seconds for f in figures)

    def rates(name: str) -> str:
        each = [(getattr(f, name), f.seconds) for f in figures]
        return f"{iec(sum(rate * s for rate, s in each))}, at most {iec(max(rate for rate, _ in each))}/s"

    shares = f"{sum(f.processor * f.seconds for f in figures) / whole:.0%} on average, {max(f.processor for f in figures):.0%} at most"
    return [
        ("processor", shares),
        ("memory", f"at most {iec(max(f.memory_used for f in figures))} of {iec(figures[-1].memory)}"),
        ("disk read", rates("read")),
        ("disk written", rates("written")),
        ("received", rates("received")),
        ("sent", rates("sent")),
    ]


def _show_step(step: BuildStep | None, given: argparse.Namespace) -> None:
    if step is None:
        raise Invalid(f"The run has no step {given.step!r}.")
    if given.json:
        return emit_json(step)
    facts(
        [("step", step.id), ("does", step.do), ("why", step.why or None), ("state", step.state), ("failed", step.error)]
    )
    for line in step.changed:
        out(f"changed  {line}")
    for line in step.output.splitlines():
        out(f"printed  {line}")
