"""Path patterns of profiles: ``*`` and ``?`` within one name, ``**`` across folders, ``{a,b}`` alternatives."""

from __future__ import annotations

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
