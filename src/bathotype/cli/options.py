"""Options that several commands take."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Container
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from bathotype.core.errors import Invalid, Refused

if TYPE_CHECKING:
    from pydantic import BaseModel

    from bathotype.client import Client
    from bathotype.core.lifecycle.purpose import Purpose
    from bathotype.core.lifecycle.target import Target

Handler = Callable[["Client", argparse.Namespace], int | None]
Subparsers = Any
Model = TypeVar("Model", bound="BaseModel")


def command(
    parsers: Subparsers, name: str, handler: Handler, about: str, *, examples: str = "", needs_client: bool = True
) -> argparse.ArgumentParser:
    """Add a command with ``--json``, its help and examples."""
    parser: argparse.ArgumentParser = parsers.add_parser(
        name,
        help=about,
        description=about,
        formatter_class=argparse.RawDescriptionHelpFormatter,
        epilog=f"examples:\n{examples}" if examples else None,
    )
    parser.add_argument("--json", action="store_true", help="one JSON document on standard output")
    parser.add_argument("--ndjson", action="store_true", help="of a list, one JSON document a line")
    parser.add_argument("--header", action="store_true", help="a line of headings before a list on a pipe")
    parser.add_argument("--account", dest="acting_as", metavar="ACCOUNT", help="act for this account of yours")
    parser.set_defaults(handler=handler, needs_client=needs_client, usage_error=parser.error)
    return parser


def group(parsers: Subparsers, name: str, about: str) -> Subparsers:
    """Add a group of commands."""
    parser = parsers.add_parser(name, help=about, description=about)
    return parser.add_subparsers(dest="subcommand", required=True, metavar="COMMAND")


def reference(parser: argparse.ArgumentParser) -> None:
    """The version that a command is about."""
    parser.add_argument("reference", metavar="REF", help="line@1.4.0, line@mark, or line for its newest release")


def tags(parser: argparse.ArgumentParser) -> None:
    """Tags for what is created at the site."""
    parser.add_argument(
        "--tag", action="append", default=[], metavar="KEY=VALUE", help="tag for everything that is created at the site"
    )


def tags_of(given: argparse.Namespace) -> dict[str, str]:
    """The tags as a mapping."""
    found: dict[str, str] = {}
    for item in given.tag:
        key, value = pair(item, "KEY=VALUE", found)
        found[key] = value
    return found


def pair(text: str, form: str, before: Container[str]) -> tuple[str, str]:
    """The two sides of an argument such as ``KEY=VALUE``.  Raises `Invalid`, also for one that was given ``before``."""
    key, equals, value = text.partition("=")
    if not equals or not key:
        raise Invalid(f"{text!r} is not {form}.")
    if key in before:
        raise Invalid(f"{key} is given twice.", advice=f"Give {key} once: only one value can hold.")
    return key, value


def until_of(given: argparse.Namespace) -> date | None:
    """The day of ``--until``.  Raises `Invalid`."""
    try:
        return date.fromisoformat(given.until) if given.until else None
    except ValueError as error:
        raise Invalid(f"{given.until!r} is not a date.", advice="Write YYYY-MM-DD.") from error


def disks(parser: argparse.ArgumentParser) -> None:
    """Which of a machine's disks a capture takes."""
    parser.add_argument(
        "--disks",
        metavar="boot|all|NAME,...",
        default="boot",
        help="data disks to capture with the boot disk, at the same moment (default: none)",
    )


def disks_of(given: argparse.Namespace) -> list[str]:
    """The same as a list.  Raises `Invalid`."""
    found = [name.strip() for name in given.disks.split(",")]
    if not all(found):
        raise Invalid(f"{given.disks!r} names no disks.", advice="Write boot, all, or names with commas between.")
    return found


def made_for(parser: argparse.ArgumentParser) -> None:
    """What the version that a command makes is for, and until when."""
    parser.add_argument("--notes", default="", help="what people should know about it")
    parser.add_argument(
        "--purpose",
        metavar="FILE",
        help="YAML: machines that it wants, contact, terms (default: as the version before)",
    )
    parser.add_argument("--until", metavar="DATE", help="YYYY-MM-DD; it retires by itself on this date")


def made_for_of(given: argparse.Namespace) -> dict[str, Any]:
    """The same as arguments of the client."""
    return {"notes": given.notes, "purpose": purpose_of(given.purpose), "retire_on": until_of(given)}


def purpose_of(path: str | None) -> Purpose | None:
    """A purpose from a YAML file.  Raises `Invalid` with what is wrong in it."""
    if path is None:
        return None
    from bathotype.core.lifecycle.purpose import Purpose

    return held_in(path, Purpose, read_yaml(path) or {}, "purpose", "docs/concepts.md")


def target_of(path: str) -> Target:
    """What another place demands, from a YAML file.  Raises `Invalid` with what is wrong in it."""
    from bathotype.core.lifecycle.target import Target

    return held_in(path, Target, read_yaml(path) or {}, "target", "docs/formats.md")


def held_in(path: str, model: type[Model], data: Any, what: str, docs: str) -> Model:
    """What a file holds, from its plain data.  Raises `Invalid` with what is wrong in it."""
    from pydantic import ValidationError

    from bathotype.core.faults import faults_of

    try:
        return model.model_validate(data)
    except ValidationError as error:
        raise Invalid(
            f"{path} is no {what}: {faults_of(error, data)}.", advice=f"See {docs} for its fields."
        ) from error


def demand(client: Client, given: argparse.Namespace) -> Target | None:
    """The target of ``--target``, where a version meets all that it demands.  Raises `Refused` with what it does not."""
    if given.target is None:
        return None
    target = target_of(given.target)
    found = client.check_target(target, reference=given.reference)
    if not found.fits:
        wrong = " ".join(f"{row.why} {row.advice}".strip() for row in found.rows if row.outcome != "ok")
        raise Refused(f"{found.image} does not fit {found.target}: {wrong}", code="target")
    return target


def read_yaml(path: str) -> Any:
    """A YAML file.  Raises `Invalid` where it cannot be read."""
    from bathotype.core.plainyaml import read_plain  # here: most commands read no file, and their help comes at once

    try:
        return read_plain(Path(path).read_bytes(), path)
    except OSError as error:
        raise Invalid(f"{path} cannot be read: {error.strerror}.") from error


def profile_of(text: str) -> Any:
    """A profile's name, or the content of the file where a path is given."""
    return read_yaml(text) if text.endswith((".yaml", ".yml")) or "/" in text else text
