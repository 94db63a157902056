"""Path patterns of profiles: ``*`` and ``?`` within one name, ``**`` across folders, ``{a,b}`` alternatives."""

from __future__ import annotations

import itertools
import re
from functools import lru_cache


@lru_cache(maxsize=4096)
def compile_pattern(pattern: str) -> re.Pattern[str]:
    """A regular expression for a whole path."""
    out, at, depth = "", 0, 0
    while at < len(pattern):
        char = pattern[at]
        if pattern.startswith("**", at):
            out, at = out + ".*", at + 2
            continue
        if char == "*":
            out += "[^/]*"
        elif char == "?":
            out += "[^/]"
        elif char == "{":
            out, depth = out + "(?:", depth + 1
        elif char == "}" and depth:
            out, depth = out + ")", depth - 1
        elif char == "," and depth:
            out += "|"
        else:
            out += re.escape(char)
        at += 1
    return re.compile(out + ")" * depth, re.DOTALL)


def matcher(patterns: list[str]) -> re.Pattern[str]:
    """One expression that matches any of several patterns."""
    return re.compile("|".join(f"(?:{compile_pattern(p).pattern})" for p in patterns) or r"(?!)", re.DOTALL)


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
    choices = [pattern[a + 1 : b] for a, b in itertools.pairwise(cuts)]
    return [one for choice in choices for one in alternatives(pattern[:start] + choice + pattern[at + 1 :])]
