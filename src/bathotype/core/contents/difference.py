"""How the contents of two versions differ."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass

from bathotype.core.contents.inventory import Contents


@dataclass(frozen=True)
class Difference:
    """Packages by name: added and removed with their version, changed with both; services and users.

    A package that either version holds for several architectures is named ``name:architecture``, as dpkg does.
    """

    added: dict[str, str]
    removed: dict[str, str]
    changed: dict[str, tuple[str, str]]
    services: tuple[tuple[str, ...], tuple[str, ...]]
    users: tuple[tuple[str, ...], tuple[str, ...]]


def difference(old: Contents, new: Contents) -> Difference:
    """What came, went and changed from ``old`` to ``new``; pairs are (added, removed)."""
    before, after = _by_name(old, new), _by_name(new, old)
    return Difference(
        {n: v for n, v in after.items() if n not in before},
        {n: v for n, v in before.items() if n not in after},
        {n: (before[n], v) for n, v in after.items() if n in before and before[n] != v},
        _came_and_went(old.services, new.services),
        _came_and_went(old.users, new.users),
    )


def _by_name(contents: Contents, other: Contents) -> dict[str, str]:
    many = {name for c in (contents, other) for name, times in Counter(p.name for p in c.packages).items() if times > 1}
    return {f"{p.name}:{p.architecture}" if p.name in many else p.name: p.version for p in contents.packages}


def _came_and_went(old: tuple[str, ...], new: tuple[str, ...]) -> tuple[tuple[str, ...], tuple[str, ...]]:
    return tuple(sorted(set(new) - set(old))), tuple(sorted(set(old) - set(new)))
