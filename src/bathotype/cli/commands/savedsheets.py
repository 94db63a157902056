"""``sheets``: keeping build sheets in the service, where they run by themselves."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from bathotype.cli.options import Subparsers, command
from bathotype.cli.output import emit_json, facts, out, say, show_plan, table
from bathotype.cli.sheetfiles import (
    as_locked,
    away,
    brought,
    finish,
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
    value_arguments,
    values_of,
)
from bathotype.core.units import iec, plural

if TYPE_CHECKING:
    from bathotype.client import Client
    from bathotype.core.sheets.reading import Checked
    from bathotype.core.sheets.sheet import Sheet, SheetPart
    from bathotype.core.sheets.steps import Scalar
    from bathotype.wire.builds import BuildRun, PayloadGiven
    from bathotype.wire.savedsheets import PartUse, SavedSheet


def add_saved(inner: Subparsers) -> None:
    """Add the commands."""
    parser = command(
        inner, "save", _save, "keep a sheet, or a part of sheets, in the service, with the files of its payload",
        examples="  bathotype sheets save logging.yaml\n"
        "  bathotype sheets save logging.yaml --values outer.yaml --note 'the new logger'",
    )  # fmt: skip
    sheet_arguments(parser)
    parser.add_argument("--region", help="where the payload is kept (default: where a run would be)")
    parser.add_argument("--note", default="", help="what was changed, and why")
    parser = command(
        inner, "list", _list, "list saved sheets: the last run of each, and when it runs next",
        examples="  bathotype sheets list\n  bathotype sheets list --sort next",
    )  # fmt: skip
    parser.add_argument("--parts", action="store_true", help="the parts that sheets include, instead")
    parser.add_argument("--line", help="only sheets that make versions of this line")
    parser.add_argument("--sort", choices=("name", "next", "line"), help="default: name")
    parser = command(
        inner, "show", _show, "show a saved sheet: its dates, runs and texts",
        examples="  bathotype sheets show logging\n  bathotype sheets show logging --text --of 2",
    )  # fmt: skip
    _name(parser)
    parser.add_argument("--text", action="store_true", help="its text alone")
    parser.add_argument("--of", type=int, metavar="NUMBER", help="this of its texts (default: the current one)")
    parser = command(
        inner, "newest-parts", _newest_parts, "save a sheet again with the newest texts of its saved parts",
        examples="  bathotype sheets newest-parts logging\n  bathotype sheets newest-parts logging --part chatter",
    )  # fmt: skip
    _name(parser)
    parser.add_argument("--part", action="append", metavar="NAME", help="this one alone; may be repeated")
    parser = command(
        inner, "difference", _difference, "show how two texts of a saved sheet differ",
        examples="  bathotype sheets difference logging\n  bathotype sheets difference logging --old 1 --new 3",
    )  # fmt: skip
    _name(parser)
    parser.add_argument("--old", type=int, metavar="NUMBER", help="default: the one before the newer")
    parser.add_argument("--new", type=int, metavar="NUMBER", help="default: the current one")
    parser = command(
        inner, "run", _run, "run a saved sheet now",
        examples="  bathotype sheets run logging --plan\n  bathotype sheets run logging --set station=outer",
    )  # fmt: skip
    _name(parser)
    value_arguments(parser)
    run_arguments(parser)
    for verb, about in (
        ("pause", "pause a saved sheet: it does not run by itself"),
        ("resume", "resume a saved sheet: it runs by itself again"),
    ):
        parser = command(inner, verb, _pause, about, examples=f"  bathotype sheets {verb} logging")
        parser.set_defaults(paused=verb == "pause")
        _name(parser)
    parser = command(
        inner, "drop", _drop, "remove a saved sheet; its runs, and what they made, stay",
        examples="  bathotype sheets drop logging",
    )  # fmt: skip
    _name(parser)


def _name(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="NAME", help="the sheet's name")


def _save(client: Client, given: argparse.Namespace) -> None:
    part = part_given(given)
    if part is not None:
        return _keep(client, given, part, text_in(given.sheet), {})
    read = read_given(given, filled=True)
    return _keep(client, given, read.need(), read.text, read.values)


def _keep(
    client: Client, given: argparse.Namespace, sheet: Sheet | SheetPart, text: str, values: dict[str, Scalar]
) -> None:
    """Save a sheet or a part with the files of its payload; those that the service has are not sent."""
    from bathotype.core.errors import NotFound
    from bathotype.core.sheets.lock import check_lock, lock_of
    from bathotype.wire.builds import PayloadGiven

    folder, lock = Path(given.sheet).parent, locked(given.sheet)
    now = lock_of(sheet, folder, away(lock, sheet))
    check_lock(lock, now)
    payload = {name: PayloadGiven(bytes=f.bytes, sha256=f.sha256) for name, f in now.payload.items()}
    try:
        before = client.saved_sheet(sheet.name)
    except NotFound:
        before = None
    kept = {file.sha256: file for file in before.files.values()} if before else {}
    ready = {name: kept[file.sha256] for name, file in payload.items() if file.sha256 in kept}
    fresh = {name: file for name, file in payload.items() if name not in ready}
    if fresh:
        with brought(sheet, folder, fresh) as files:
            as_locked(files, fresh)
            region = given.region or _region(client, sheet, text, values, payload)
            ready |= uploaded(client, given, region, fresh, files)
    made = client.save_sheet(sheet.name, text, values=values, payload=ready, note=given.note)
    if given.json:
        return emit_json(made)
    if before is not None and made.number == before.number:
        return say(f"{made.name} is the same as its text {made.number}.")
    out(f"{made.name} is saved as text {made.number}")
    if made.dates:
        say(f"It runs next on {_moment(made.dates[0])}." if not made.paused else "It is paused.")
    return None


def _region(
    client: Client, sheet: Sheet | SheetPart, text: str, values: dict[str, Scalar], payload: dict[str, PayloadGiven]
) -> str:
    """Where the payload is kept: where a run would be, and of a part in the first region."""
    from bathotype.core.sheets.sheet import SheetPart

    if isinstance(sheet, SheetPart):
        return client.regions()[0].name
    return client.plan_build(text, values=values, payload=payload).region


def _moment(at: object) -> str:
    return f"{at:%Y-%m-%d %H:%M}Z"


def _list(client: Client, given: argparse.Namespace) -> None:
    rows = list(client.saved_sheets(line=given.line, kind="part" if given.parts else "sheet", sort=given.sort))
    if given.json:
        return emit_json(rows)
    if given.parts:
        return table(
            ("part", "text", "saved", "by"),
            ((s.name, s.number, s.saved_at, s.saved_by) for s in rows),
            empty="No part is saved. `bathotype sheets save FILE` keeps one.",
        )
    table(
        ("sheet", "text", "makes", "from", "last run", "next run"),
        ((s.name, s.number, s.line, s.base, _last(s.runs), _next(s)) for s in rows),
        empty="No sheet is saved. `bathotype sheets save FILE` keeps one.",
    )


def _last(runs: list[BuildRun]) -> str:
    return f"{state_of(runs[0])} {runs[0].reference}" if runs else ""


def _next(saved: SavedSheet) -> str:
    if saved.paused or saved.withdrawn:
        return "paused" if saved.paused else "not in its repository any more"
    found = [_moment(saved.next_at)] if saved.next_at else []
    found += ["after its base"] if saved.after_base else []
    return ", ".join([*found, *(["after a push"] if saved.after_push else [])])


def _show(client: Client, given: argparse.Namespace) -> None:
    saved = client.saved_sheet(given.name, number=given.of)
    if given.text:
        return out(saved.text.rstrip("\n"))
    if given.json:
        return emit_json(saved)
    facts(
        [
            (saved.kind, f"{saved.name}, text {saved.number}"),
            ("saved", f"{_moment(saved.saved_at)} by {saved.saved_by}"),
            ("repository", f"{saved.repository}: {saved.path}" if saved.repository else None),
            ("commit", saved.commit or None),
            ("makes", saved.line or None),
            ("from", saved.base or None),
            *((f"part {use.name}", _use(use)) for use in saved.parts),
            *((f"value {name}", value) for name, value in saved.values.items()),
            *((f"payload {name}", f"{iec(f.bytes)}, sha256:{f.sha256[:16]}") for name, f in saved.files.items()),
            ("next run", (_next(saved) or "when somebody asks") if saved.kind == "sheet" else None),
            ("next dates", ", ".join(map(_moment, saved.dates)) or None),
            ("time zone", saved.zone),
            ("last time", f"{_moment(saved.noted_at)}: {saved.noted}" if saved.noted else None),
        ]
    )
    runs = [(r.operation, r.saved_number, r.reference, state_of(r), _CAUSES[r.cause], r.created_at) for r in saved.runs]
    if saved.kind == "sheet":
        table(("run", "text", "made", "state", "because", "began"), runs, empty="It has not run yet.")
    if len(saved.texts) > 1:
        table(("text", "saved", "by", "note"), ((t.number, t.saved_at, t.saved_by, t.note) for t in saved.texts))
    return None


_CAUSES = {"": "", "schedule": "its date", "base": "its base moved", "push": "a push"}


def _use(use: PartUse) -> str:
    if use.number is None:
        return "its text stays here; the part is not kept any more"
    return f"text {use.number}" + (f"; its newest is {use.newest}" if use.newest != use.number else "")


def _newest_parts(client: Client, given: argparse.Namespace) -> None:
    from bathotype.core.errors import Invalid

    saved = client.saved_sheet(given.name)
    there = [use.name for use in saved.parts]
    if unknown := [name for name in given.part or [] if name not in there]:
        known = f"It includes {', '.join(there)}." if there else "It includes no saved part."
        raise Invalid(f"{saved.name} includes no saved part {unknown[0]!r}.", advice=known)
    behind = [use for use in saved.parts if use.newest != use.number and use.name in (given.part or [use.name])]
    if not behind:
        return emit_json(saved) if given.json else say(f"{saved.name} has the newest text of each of its parts.")
    names = [use.name for use in behind]
    made = client.save_sheet(
        saved.name, saved.text, values=saved.values, payload=saved.files, newest_parts=names,
        note=f"the newest of {', '.join(names)}", revision=saved.revision,
    )  # fmt: skip
    if given.json:
        return emit_json(made)
    if made.number == saved.number:
        return say(f"{made.name} is the same: it asks for those texts of its parts by their numbers.")
    out(f"{made.name} is saved as text {made.number}")
    for use in made.parts:
        if use.name in names:
            say(f"Its part {use.name} is text {use.number} now.")
    return None


def _difference(client: Client, given: argparse.Namespace) -> None:
    found = client.sheet_difference(given.name, old=given.old, new=given.new)
    if given.json:
        return emit_json(found)
    for line in found.lines:
        out(line)
    for name, (old, new) in found.values.items():
        out(f"value {name}: {old} -> {new}")
    for name in found.files:
        out(f"payload {name} differs")
    if found.old.number == found.new.number:
        return say(f"{given.name} has one text, or one was named twice: nothing differs.")
    changed = [line for line in found.lines[2:] if line[:1] in "+-"]
    say(f"Text {found.old.number} and text {found.new.number} differ in {plural(len(changed), 'line')}.")
    return None


def _run(client: Client, given: argparse.Namespace) -> int | None:
    from bathotype.core.errors import Refused

    read_form(given)
    # What its parameters are needs to be known for texts of the command line alone.
    values = values_of(given, _declared(client, given.name) if given.set else None)
    if given.plan:
        plan = client.plan_sheet_run(
            given.name, values=values, region=given.region, number=given.number, bump=given.bump
        )
        if not given.json:
            facts([("makes", plan.reference), ("from", plan.base), ("same as", plan.same_as)])
        return show_plan(plan, given)
    try:
        started = client.run_sheet(
            given.name, values=values, region=given.region, number=given.number, bump=given.bump,
            unless_same=given.unless_same, keep_on_failure=given.keep_on_failure,
        )  # fmt: skip
    except Refused as error:
        if error.code != "nothing-new":
            raise
        nothing_new(client, error.about, given)
        return None
    finish(client, started, given)
    return None


def _declared(client: Client, name: str) -> Checked:
    from bathotype.core.sheets.reading import read_sheet

    return read_sheet(client.saved_sheet(name).text)


def _pause(client: Client, given: argparse.Namespace) -> None:
    saved = client.pause_sheet(given.name, given.paused)
    if given.json:
        return emit_json(saved)
    return out(f"{saved.name} is paused" if saved.paused else f"{saved.name} runs next: {_next(saved) or 'when asked'}")


def _drop(client: Client, given: argparse.Namespace) -> None:
    client.drop_sheet(given.name)
    emit_json({"removed": given.name}) if given.json else out(f"{given.name} is removed")
