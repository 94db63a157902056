"""Path patterns of profiles: ``*`` and ``?`` within one name, ``**`` across folders, ``{a,b}`` alternatives."""

from __future__ import annotations

import itertools
import os
from bisect import bisect_right
from collections.abc import Iterable, Sequence
from functools import cached_property, lru_cache
from itertools import accumulate
from typing import Any

from bathotype.core.expressions import escaped, for_bytes

#: One character: of a byte, or of several as UTF-8 has it; a byte that is no UTF-8 is one as well.
_CHARACTER = rb"(?:[^/\x00\x80-\xff]|[\xc2-\xf4][\x80-\xbf]{1,3}|[\x80-\xff])"
MOST_CHOICES = 256


class Pattern:
    """Matches whole paths by any of several patterns."""

    def __init__(self, patterns: Sequence[str]) -> None:
        self._inner = b"|".join(b"(?:" + _translated(p) + b")" for p in patterns)

    def fullmatch(self, path: str) -> bool:
        """Whether a path matches one of them."""
        return bool(self._inner) and self._whole.fullmatch(os.fsencode(path)) is not None

    @cached_property
    def _whole(self) -> Any:
        return for_bytes(self._inner)

    @cached_property
    def between(self) -> Any:
        """The expression that finds paths between zeros; None where nothing can match."""
        return for_bytes(rb"\x00(?:" + self._inner + rb")\x00") if self._inner else None


class Names:
    """Many paths, which are matched all at once."""

    def __init__(self, names: Iterable[str]) -> None:
        encoded = [os.fsencode(name) for name in names]
        self._text = b"\0" + b"\0\0".join(encoded) + b"\0"
        self._starts = list(accumulate((len(name) + 2 for name in encoded), initial=0))

    def matching(self, pattern: Pattern) -> list[int]:
        """The places, ascending, of those that a pattern matches."""
        if pattern.between is None:
            return []
        found = (match.start() for match in pattern.between.finditer(self._text) if match.end() - match.start() > 2)
        return [bisect_right(self._starts, start) - 1 for start in found]


def _translated(pattern: str) -> bytes:
    """A pattern as a regular expression for bytes."""
    out, at, depth = b"", 0, 0
    while at < len(pattern):
        char = pattern[at]
        if pattern.startswith("**", at):
            out, at = out + rb"[^\x00]*", at + 2
            continue
        if char == "*":
            out += rb"[^/\x00]*"
        elif char == "?":
            out += _CHARACTER
        elif char == "{":
            out, depth = out + b"(?:", depth + 1
        elif char == "}" and depth:
            out, depth = out + b")", depth - 1
        elif char == "," and depth:
            out += b"|"
        else:
            out += os.fsencode(escaped(char))
        at += 1
    return out + b")" * depth


@lru_cache(maxsize=4096)
def compile_pattern(pattern: str) -> Pattern:
    """One pattern for whole paths."""
    return Pattern([pattern])


def matcher(patterns: list[str]) -> Pattern:
    """What matches any of several patterns."""
    return _matcher(tuple(patterns))


@lru_cache(maxsize=1024)
def _matcher(patterns: tuple[str, ...]) -> Pattern:
    return Pattern(patterns)


def choices(pattern: str) -> int:
    """No fewer than the patterns without ``{a,b}`` for which one stands."""
    count = 1
    for piece in pattern.split("{")[1:]:
        count *= piece.count(",") + 1
    return count


def alternatives(pattern: str) -> list[str]:
    """A pattern without ``{a,b}``: one for each choice."""
    start = pattern.find("{")
    if start < 0:
        return [pattern]
    depth, at, cuts = 0, start, [start]
    while at < len(pattern):
        depth += {"{": 1, "}": -1}.get(pattern[at], 0)
        if depth == 0:
            break
        if depth == 1 and pattern[at] == ",":
            cuts.append(at)
        at += 1
    if depth:
        return [pattern]
    cuts.append(at)
    inner = [pattern[a + 1 : b] for a, b in itertools.pairwise(cuts)]
    return [one for choice in inner for one in alternatives(pattern[:start] + choice + pattern[at + 1 :])]
