"""``help``: the words that Bathotype uses."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bathotype.cli.options import Subparsers, command, group
from bathotype.cli.output import emit_json, table
from bathotype.core.errors import NotFound
from bathotype.core.words import WORDS

if TYPE_CHECKING:
    from bathotype.client import Client


def register(parsers: Subparsers) -> None:
    """Add the commands."""
    inner = group(parsers, "help", "what the words mean")
    parser = command(
        inner,
        "words",
        _words,
        "explain the words that Bathotype uses",
        examples="  bathotype help words\n  bathotype help words sunset",
        needs_client=False,
    )
    parser.add_argument("word", nargs="*", help="only these")


def _words(client: Client, given: argparse.Namespace) -> None:
    asked = " ".join(given.word).lower()
    names = [word for word in WORDS if asked in word] or [word for word in WORDS if asked in WORDS[word].lower()]
    if not names:
        raise NotFound(f"There is no word {asked!r} here.", advice="`bathotype help words` lists them all.")
    chosen = {name: WORDS[name] for name in names}
    emit_json(chosen) if given.json else table(("word", "meaning"), chosen.items())
