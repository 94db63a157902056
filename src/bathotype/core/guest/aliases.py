"""Other names of folders: by links, by users' homes, and below a mount.

The system reaches ``/data/log/x`` as ``/var/log/x`` where ``/var/log`` is a link; a profile that names ``/var/log/**``
means it too.  Nothing of the system's own is reached that way: a link from a home to ``/etc`` does not make it a home.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass

from bathotype.core.guest.node import Node
from bathotype.core.guest.patterns import alternatives, compile_pattern

_MOST = 2000
#: What lies here belongs to the system, whoever is said to live there, and whatever leads there.
SYSTEM_FOLDERS = tuple(
    f"/{name}/" for name in ("bin", "boot", "dev", "etc", "lib", "lib32", "lib64", "proc", "run", "sbin", "sys", "usr")
)


@dataclass(frozen=True)
class Alias:
    """``name`` is another name of the folder ``real``.  ``always`` says that every pattern means it; else those alone
    whose fixed beginning leads through it."""

    name: str
    real: str
    always: bool = False


def is_system(path: str) -> bool:
    """Whether a folder is the system's own."""
    return path.count("/") < 2 or f"{path}/".startswith(SYSTEM_FOLDERS)


def aliases_of(
    entries: Mapping[str, Node], resolve: Callable[[str], str | None], homes: Mapping[str, str]
) -> list[Alias]:
    """Links that lead to folders, and homes (by user) that are elsewhere than in ``/home``."""
    found = [
        Alias(path, real)
        for path, node in entries.items()
        if node.is_link
        and (real := resolve(path))
        and real != path
        and entries[real].is_dir
        and not is_system(f"{real}/x")
    ]
    for user, home in homes.items():
        real = resolve(home)
        if real and not real.startswith(("/home/", "/root")) and not is_system(real) and entries[real].is_dir:
            found.append(Alias(f"/home/{user}", real))
    return found[:_MOST] + list(_chained(found[:_MOST]))[:_MOST]


def _chained(found: list[Alias]) -> Iterator[Alias]:
    """Links that lie in folders that have other names themselves."""
    for outer in found:
        for inner in found:
            if inner.name.startswith(outer.real + "/"):
                yield Alias(outer.name + inner.name[len(outer.real) :], inner.real)


def leads_through(pattern: str, name: str) -> bool:
    """Whether a pattern's fixed beginning, up to the first ``**`` and without its last name, leads through a folder."""
    for plain in alternatives(pattern):
        parts = plain.split("**")[0].split("/")[1:-1] if "**" in plain else plain.split("/")[1:-1]
        depth = name.count("/")
        if 0 < depth <= len(parts) and compile_pattern("/" + "/".join(parts[:depth])).fullmatch(name):
            return True
    return False
