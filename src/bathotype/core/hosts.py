"""Hosts that the service, or somebody for it, may speak with: those that an operator names, and by https."""

from __future__ import annotations

from collections.abc import Sequence
from fnmatch import fnmatchcase

_HERE = ("127.0.0.1", "localhost", "::1")


def is_named(text: str, patterns: Sequence[str]) -> bool:
    """Whether a host, or a mail address, is one of those that are named; ``*`` stands for any part."""
    return any(fnmatchcase(text.lower(), pattern.lower()) for pattern in patterns)


def named(patterns: Sequence[str], what: str = "hosts") -> str:
    """The advice for what is not named."""
    return f"The operator names {what} in the regions file. There are: {', '.join(patterns) or 'none'}."


def is_secure(scheme: str, host: str) -> bool:
    """Whether nobody on the way reads or changes what is sent: https, or http that stays on this host."""
    return scheme == "https" or (scheme == "http" and host in _HERE)
