"""A build sheet as the command line has it: its file, its values, its lock, its payload, and a run of it."""

from __future__ import annotations

import argparse
import shlex
import sys
from collections.abc import Collection, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any

from bathotype.cli.options import pair, read_yaml
from bathotype.cli.output import emit_json, facts, follow, out, say, transfer_bar
from bathotype.core.errors import Invalid
from bathotype.core.units import iec

if TYPE_CHECKING:
    from bathotype.client import Client
    from bathotype.core.sheets.document import Fault
    from bathotype.core.sheets.gathering import Gathered
    from bathotype.core.sheets.lock import Lock, Locked
    from bathotype.core.sheets.reading import Checked
    from bathotype.core.sheets.sheet import PartSource, Sheet, SheetPart
    from bathotype.wire.builds import BuildRun, PayloadGiven
    from bathotype.wire.operations import Operation


_UNITS = {"s": 1, "m": 60, "h": 3600}


def sheet_arguments(parser: argparse.ArgumentParser) -> None:
    """A sheet's file, and values of its parameters."""
    parser.add_argument("sheet", metavar="FILE", help="the sheet")
    value_arguments(parser)


def value_arguments(parser: argparse.ArgumentParser) -> None:
    """Values of a sheet's parameters."""
    parser.add_argument("--set", action="append", default=[], metavar="NAME=VALUE", help="value of a parameter")
    parser.add_argument("--values", metavar="FILE", help="YAML: values of parameters")


def run_arguments(parser: argparse.ArgumentParser) -> None:
    """What may be said of a run besides its sheet."""
    parser.add_argument("--region", help="instead of the sheet's")
    number = parser.add_mutually_exclusive_group()
    number.add_argument("--number", help="instead of the sheet's, such as 1.4.0")
    number.add_argument("--bump", choices=("patch", "minor", "major"), help="the number after the line's highest")
    parser.add_argument(
        "--unless-same", action="store_true",
        help="start nothing where a version was already built from the same sheet, values, payload and base",
    )  # fmt: skip
    parser.add_argument("--plan", action="store_true", help="show what would happen and every obstacle, and stop")
    parser.add_argument("--format", choices=("facts", "json", "env"), default="facts", help="env: for a shell's eval")
    parser.add_argument(
        "--keep-on-failure", type=_span, default=0, metavar="TIME",
        help="let the machine stay for so long if the run fails before it is captured: 30m, 2h",
    )  # fmt: skip


def _span(text: str) -> int:
    """Seconds of a time such as 90s, 30m or 2h."""
    number, unit = text[:-1], text[-1:]
    if not number.isascii() or not number.isdigit() or unit not in _UNITS or len(number) > 6:
        raise argparse.ArgumentTypeError(f"{text!r} is no time such as 30m or 2h")
    return int(number) * _UNITS[unit]


def text_in(path: str) -> str:
    """A file's text.  Raises `Invalid`."""
    try:
        return Path(path).read_text()
    except (OSError, UnicodeDecodeError) as error:
        reason = error.strerror if isinstance(error, OSError) else "it is no UTF-8 text"
        raise Invalid(f"{path} cannot be read: {reason}.", advice="Name a build sheet.") from error


def values_of(given: argparse.Namespace, checked: Checked | None = None) -> dict[str, Any]:
    """The values from a file, and those of the command line, which go before; texts where no sheet says more of them."""
    found: dict[str, Any] = {}
    if given.values:
        read = read_yaml(given.values)
        if not isinstance(read, dict):
            raise Invalid(f"{given.values} holds no values.", advice="Write NAME: VALUE, a line each.")
        found |= read
    parameters = checked.sheet.parameters if checked is not None and checked.sheet is not None else {}
    said: set[str] = set()
    for item in given.set:
        name, value = pair(item, "NAME=VALUE", said)
        said.add(name)
        try:
            found[name] = parameters[name].read(value) if name in parameters else value
        except ValueError as error:
            raise Invalid(f"The parameter {name} cannot be {value!r}: {error}.") from error
    return found


@dataclass(frozen=True)
class Given:
    """A sheet that is given by its file: its text with those of the parts beside it, the values, and what was read."""

    text: str
    values: dict[str, Any]
    checked: Checked
    whole: Gathered

    def need(self) -> Sheet:
        """The sheet.  Raises `Invalid` with every fault in its own file."""
        return self.whole.need(self.checked)

    def faults(self) -> list[tuple[str, Fault]]:
        """Every fault, with the file that it is in."""
        return [self.whole.origin(fault) for fault in self.checked.faults]


def read_given(given: argparse.Namespace, *, filled: bool) -> Given:
    """The sheet as it is with the given values; those that are lacking may be, unless it is to be ``filled``."""
    from bathotype.core.sheets.reading import read_sheet

    whole = whole_text(given.sheet)
    values = values_of(given, read_sheet(whole.text, here_alone=True))
    return Given(whole.text, values, read_sheet(whole.text, values, partly=not filled, here_alone=True), whole)


def part_given(given: argparse.Namespace) -> SheetPart | None:
    """The part that is given by its file; None for a sheet.  Raises `Invalid` with every fault."""
    from bathotype.core.sheets.reading import is_part, not_valid, read_part

    text = text_in(given.sheet)
    if not is_part(text):
        return None
    part, faults = read_part(text)
    if part is None:
        raise not_valid([str(fault) for fault in faults], "part")
    if given.set or given.values:
        raise Invalid("A part takes no values by itself.", advice="A sheet that includes it gives them.")
    return part


def whole_text(path: str) -> Gathered:
    """A sheet's text, with those of the parts that lie beside it.  Raises `Invalid`."""
    from bathotype.core.sheets.gathering import gathered

    def read(_: str, source: PartSource) -> tuple[str, str] | None:
        if source.file is None:
            return None  # the service has it
        file = str(Path(path).parent / source.file)
        return file, text_in(file)

    return gathered(text_in(path), path, read)


def locked(path: str) -> Lock | None:
    """The lock beside a sheet; None without one."""
    from bathotype.core.sheets.lock import lock_path, read_lock

    file = lock_path(Path(path))
    return read_lock(text_in(str(file))) if file.exists() else None


def away(lock: Lock | None, sheet: Sheet | SheetPart) -> dict[str, Locked]:
    """What the lock says of files that lie elsewhere."""
    here = {name for name, about in sheet.payload.items() if about.path is not None}
    return {name: about for name, about in lock.payload.items() if name not in here} if lock is not None else {}


def _url(sheet: Sheet | SheetPart, name: str) -> str | None:
    return sheet.payload[name].url if name in sheet.payload else None


def fetch(url: str, target: Path) -> None:
    """A file from its address.  Raises `Unavailable`, and `Refused` for one that is too large."""
    import httpx

    from bathotype.core.errors import Refused, Unavailable
    from bathotype.core.hosts import is_secure
    from bathotype.core.sheets.sheet import MOST_PAYLOAD

    try:
        with httpx.stream("GET", url, follow_redirects=True, timeout=30) as answer, target.open("wb") as file:
            if not answer.is_success:
                raise Unavailable(f"{url} answered {answer.status_code}.", advice="Correct the address in the sheet.")
            if not is_secure(answer.url.scheme, answer.url.host):
                raise Refused(f"{url} leads to {answer.url.host} without https.")
            for piece in answer.iter_bytes():
                file.write(piece)
                if file.tell() > MOST_PAYLOAD:
                    raise Refused(f"{url} is larger than {iec(MOST_PAYLOAD)}.", code="too-large")
    except httpx.HTTPError as error:
        raise Unavailable(f"{url} cannot be fetched: {error}", advice="Try again, or correct the address.") from error


@contextmanager
def brought(sheet: Sheet | SheetPart, folder: Path, wanted: Collection[str]) -> Iterator[dict[str, Path]]:
    """The files of a payload by their names; of those of ``wanted`` what has an address is fetched for so long, and
    folders are packed."""
    from bathotype.core.sheets.folders import pack
    from bathotype.core.sheets.lock import payload_files, payload_folders

    with TemporaryDirectory() as scratch:
        files = payload_files(sheet, folder)
        for number, (name, members) in enumerate(payload_folders(sheet, folder).items()):
            if name in wanted:
                files[name] = Path(scratch) / f"{number}.tar"
                with files[name].open("wb") as archive:
                    pack(name, members, archive)
        for number, name in enumerate(sorted(wanted)):
            if url := _url(sheet, name):
                files[name] = Path(scratch) / str(number)
                fetch(url, files[name])
        yield files


def as_locked(files: Mapping[str, Path], payload: Mapping[str, PayloadGiven]) -> None:
    """Raises `Refused` for a file that is not what the lock says."""
    from bathotype.core.errors import Refused
    from bathotype.core.sheets.lock import digest_of

    differ = [name for name in payload.keys() & files.keys() if digest_of(files[name]).sha256 != payload[name].sha256]
    if differ:
        raise Refused(
            f"The lock does not fit the payload: {', '.join(sorted(differ))} has changed.",
            advice="See that the files are the right ones, then run: bathotype sheets lock FILE.",
            code="lock-differs",
        )


def uploaded(
    client: Client, given: argparse.Namespace, region: str, payload: dict[str, PayloadGiven], files: dict[str, Path]
) -> dict[str, PayloadGiven]:
    """The payload, sent to a region; ``files`` has no path for what the service reads for itself."""
    found = dict(payload)
    for name, about in payload.items():
        if name not in files:
            continue
        if given.json or not sys.stderr.isatty():
            upload = client.upload(files[name], region=region)
        else:
            with transfer_bar(name) as progress:
                upload = client.upload(files[name], region=region, on_progress=progress)
        found[name] = about.model_copy(update={"upload": upload.id})
    return found


def state_of(run: BuildRun) -> str:
    """How a run ended, in a word or two."""
    return f"{run.state}, stays staged" if run.held_back else run.state


def read_form(given: argparse.Namespace) -> None:
    """``--format json`` is ``--json``.  Raises `Invalid` for a plan as lines of a shell."""
    given.json = given.json or given.format == "json"
    if given.plan and given.format == "env":
        raise Invalid("A plan has no lines for a shell.", advice="Leave out --format env, or ask with --format json.")


def for_shell(reference: str, content: str, operation: str, *, released: bool) -> None:
    """Print a version as lines that a shell evaluates."""
    told = {"reference": reference, "content": content, "operation": operation, "released": str(released).lower()}
    for name, value in told.items():
        out(f"export BATHOTYPE_{name.upper()}={shlex.quote(value)}")


def nothing_new(client: Client, same: str, given: argparse.Namespace) -> None:
    """Say that no run was started, since the version ``same`` was built from the same sheet, values, payload and base:
    the next tool takes that one."""
    if given.json:
        return emit_json({"nothing_new": same})
    if given.format == "env":
        version = client.version(same)
        return for_shell(version.reference, version.content_digest, "", released=version.state == "released")
    return out(f"nothing new: {same} was built from the same sheet, values, payload and base")


def finish(client: Client, started: Operation, given: argparse.Namespace) -> None:
    """Follow a run to its end, and say what it made."""
    done = follow(client, started, quiet=given.json)
    if given.json:
        emit_json(done)
        return None
    result = done.result or {}
    if given.format == "env":
        released = "released" in result["delivered"]
        return for_shell(result["reference"], result["content_digest"], done.id, released=released)
    sizes = result["sizes"]
    facts(
        [
            ("built", result["reference"]),
            ("from", result["base"]),
            ("state", "released" if "released" in result["delivered"] else "staged"),
            ("because", result["held_back"] or None),
            ("content", result["content_digest"]),
            ("disk", f"{iec(sizes['virtual'])}, {iec(sizes['used'])} used, {iec(sizes['new'])} new"),
            ("findings", f"{result['findings']['all']}, {result['findings']['high']} of high severity"),
        ]
    )
    say(f"Next: `bathotype builds show {done.id}`")
