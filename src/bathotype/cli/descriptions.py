"""The meaning of options and arguments that many commands have, written once so that it is the same everywhere."""

from __future__ import annotations

import argparse
from collections.abc import Iterator

#: By the name under which a command finds it; with the command before it where it means something of its own there.
_MEANS = {
    "region": "a region, such as skerry-1 (`bathotype regions list`)",
    "zone": "a zone of the region (default: spread over the zones)",
    "line": "a line, such as gauge-collector (`bathotype lines list`)",
    "name": "its name",
    "operation": "id of an operation (`bathotype operations list`)",
    "share": "id of a share (`bathotype shares list`)",
    "mark": "name of the mark, such as stable",
    "user": "name of the person or robot",
    "role": "viewer, operator or steward",
    "of": "name of the account",
    "token": "id of the token (`bathotype auth tokens list`)",
    "key": "id of the key (`bathotype keys list`)",
    "number": "version number, such as 1.4.0",
    "bump": "the number after the line's highest",
    "notes": "what people should know about it",
    "note": "what the other account should know about it",
    "about": "what the line is for",
    "reason": "why; kept in the record and in the audit trail",
    "finding": "id of the finding (`bathotype residue REF`)",
    "text": "the new notes",
    "reference": "line@1.4.0, line@mark, or line for its newest release; account/ before it for another account's",
    "old": "the older version",
    "new": "the newer version",
    "state": "only those in this state",
    "subject": "only what happened to this, such as gauge-collector@1.0.0",
    "side": "given by this account, taken by it, waiting for it, or all (default: all)",
    "consumer": "the account that may use it, once it accepts",
    "version": "a version, such as gauge-collector@1.0.0",
    "most": "how many instances may run",
    "source": "the image file",
    "to": "the file to write",
    "format": "form of the answer (default: json)",
    "host": "address to listen on (default: 127.0.0.1)",
    "port": "port to listen on",
    "lines create name": "name of the line, such as gauge-collector",
    "lines show name": "name of the line, such as gauge-collector",
    "lines describe text": "what the line is for",
    "auth bootstrap name": "name of the account",
    "auth tokens make name": "what the token is called",
    "auth login user": "your name (default: it is asked for)",
    "profiles show name": "name of the profile, such as linux",
    "rules remove name": "name of the rule",
    "allowances set name": "what the allowance is called",
    "allowances remove name": "name of the allowance",
    "first-boot show name": "name of the saved settings",
    "first-boot save name": "name under which the settings are saved",
    "first-boot drop name": "name of the saved settings",
}


def describe(parser: argparse.ArgumentParser, name: str = "") -> None:
    """Give every option and argument of a command, and of those below it, its meaning where it has none of its own.

    What the user fills in is written in capitals.
    """
    for command, below in _below(parser, name):
        for action in below._actions:
            if not action.option_strings and action.metavar is None and action.choices is None:
                action.metavar = action.dest.upper()
            if not action.help:
                action.help = _MEANS.get(f"{command} {action.dest}") or _MEANS.get(action.dest)


def _below(parser: argparse.ArgumentParser, name: str) -> Iterator[tuple[str, argparse.ArgumentParser]]:
    inner = [action for action in parser._actions if isinstance(action, argparse._SubParsersAction)]
    if not inner:
        yield name, parser
    for action in inner:
        for word, below in action.choices.items():
            yield from _below(below, f"{name} {word}".strip())
