"""Regular expressions whose cost grows with the text and not with its cunning: RE2, for all text that is not ours.

The syntax is RE2's (https://github.com/google/re2/wiki/Syntax): that of Perl without references back and without looking
around.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import re2

from bathotype.core.errors import Invalid

_MOST_PATTERN, _MOST_MEMORY = 4096, 32 * 1024 * 1024


def _options() -> Any:
    options = re2.Options()
    options.log_errors = False
    options.max_mem = _MOST_MEMORY
    return options


@lru_cache(maxsize=1024)
def for_text(pattern: str) -> Any:
    """An expression for texts.  Raises `Invalid` for a pattern that is none, or is too large."""
    if len(pattern) > _MOST_PATTERN:
        raise Invalid(f"A regular expression has at most {_MOST_PATTERN} characters.")
    try:
        return re2.compile(pattern, _options())
    except re2.error as error:
        reason = error.args[0] if error.args else "it cannot be read"
        reason = reason.decode("utf-8", "replace") if isinstance(reason, bytes) else str(reason)
        raise Invalid(
            f"{pattern!r} is no regular expression: {reason}.",
            advice="Expressions have RE2's syntax, which has no references back and no looking around.",
        ) from error


@lru_cache(maxsize=1024)
def for_bytes(pattern: bytes) -> Any:
    """An expression of ours for bytes, each of which is one character."""
    options = _options()
    options.encoding = re2.Options.Encoding.LATIN1
    return re2.compile(pattern, options)


def escaped(text: str) -> str:
    """A text as an expression that matches it alone."""
    found: str = re2.escape(text)
    return found


def escaped_bytes(data: bytes) -> bytes:
    """Bytes as an expression for bytes that matches them alone."""
    return b"".join(b"\\x%02x" % byte for byte in data)


def searched(expression: Any, text: str) -> bool:
    """Whether a text holds what an expression for texts looks for; bytes that are no UTF-8 are some other character."""
    return expression.search(text.encode("utf-8", "surrogateescape").decode("utf-8", "replace")) is not None
