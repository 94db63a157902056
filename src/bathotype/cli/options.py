"""Options that several commands take."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from bathotype.core.errors import Invalid

if TYPE_CHECKING:
    from bathotype.client import Client

Handler = Callable[["Client", argparse.Namespace], int | None]
Subparsers = Any


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
    parser.add_argument("--account", dest="acting_as", metavar="ACCOUNT", help="act for this account of yours")
    parser.set_defaults(handler=handler, needs_client=needs_client)
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
    found = {}
    for item in given.tag:
        key, equals, value = item.partition("=")
        if not equals or not key:
            raise Invalid(f"{item!r} is not KEY=VALUE.")
        found[key] = value
    return found


def read_yaml(path: str) -> Any:
    """A YAML file.  Raises `Invalid` where it cannot be read."""
    import yaml  # here: most commands read no file, and their help should come at once

    try:
        return yaml.safe_load(Path(path).read_text())
    except OSError as error:
        raise Invalid(f"{path} cannot be read: {error.strerror}.") from error
    except yaml.YAMLError as error:
        raise Invalid(f"{path} is not YAML: {str(error).splitlines()[0]}.") from error


def profile_of(text: str) -> Any:
    """A profile's name, or the content of the file where a path is given."""
    return read_yaml(text) if text.endswith((".yaml", ".yml")) or "/" in text else text
