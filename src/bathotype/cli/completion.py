"""What a shell offers for an argument: names of machines, lines, versions and more, asked of the service.

It must never be in the way: where the service is slow, or nobody is signed in, nothing is offered.
"""

from __future__ import annotations

import argparse
from collections.abc import Callable, Iterable, Iterator
from itertools import islice
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from bathotype.client import Client

_MOST = 200
_SECONDS = 1.5


def _versions(client: Client, prefix: str) -> Iterable[str]:
    line, at, _ = prefix.partition("@")
    if not at:
        return (each.name for each in client.lines())
    return (version.reference for version in client.versions(line))


_NAMES: dict[str, Callable[[Client, str], Iterable[str]]] = {
    "reference": _versions,
    "old": _versions,
    "new": _versions,
    "line": lambda client, _: (line.name for line in client.lines()),
    "machine": lambda client, _: (machine.name for machine in client.machines()),
    "region": lambda client, _: (region.name for region in client.regions()),
    "instance": lambda client, _: (one.name for one in client.instances()),
    "instances": lambda client, _: (one.name for one in client.instances()),
    "first_boot": lambda client, _: (saved.name for saved in client.saved_first_boot()),
}


def attach(parser: argparse.ArgumentParser) -> None:
    """Let every argument of a parser that names such a thing offer the names there are."""
    for action in _actions(parser):
        if action.dest in _NAMES and not action.choices:
            action.completer = _offering(_NAMES[action.dest])  # type: ignore[attr-defined]


def _actions(parser: argparse.ArgumentParser) -> Iterator[argparse.Action]:
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            for inner in action.choices.values():
                yield from _actions(inner)
        else:
            yield action


def _offering(names: Callable[[Client, str], Iterable[str]]) -> Callable[..., list[str]]:
    def offer(prefix: str, parsed_args: argparse.Namespace, **_: Any) -> list[str]:
        from bathotype.client import Client

        try:
            account = getattr(parsed_args, "acting_as", None) or ""
            with Client.from_environment(account=account, timeout=_SECONDS, patience=0) as client:
                return list(islice((name for name in names(client, prefix) if name.startswith(prefix)), _MOST))
        except Exception:  # whatever is wrong: a shell that completes shows no errors
            return []

    return offer
