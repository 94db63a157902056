"""Which events a subscription asks for, where its messages may go, and when one is sent again."""

from __future__ import annotations

import re
from collections.abc import Sequence
from urllib.parse import urlsplit

from bathotype.core.errors import Invalid
from bathotype.core.hosts import is_named, is_secure, named

_ACTION = re.compile(r"[a-z][a-z0-9.-]{0,80}(\.\*)?|\*")
_ADDRESS = re.compile(r"[A-Za-z0-9._%+-]{1,64}@[A-Za-z0-9.-]{1,253}")
#: Pauses before it is sent again, in seconds; the last one holds from then on.
_PAUSES = (10, 30, 120, 600, 1800, 3600, 7200)
#: After so many attempts, about a day, it is given up.
MOST_ATTEMPTS = 17


def check_actions(patterns: Sequence[str]) -> None:
    """Raises `Invalid` unless each is an action (``version.released``), a kind of them (``version.*``), or ``*``."""
    for pattern in patterns:
        if not _ACTION.fullmatch(pattern):
            raise Invalid(
                f"{pattern!r} names no event.", advice="Write version.released, version.*, or * for every event."
            )


def asked_for(actions: Sequence[str], lines: Sequence[str], action: str, subject: str) -> bool:
    """Whether an event is asked for: by its action, and, where lines are named, by being about one of them."""
    if not any(
        pattern in ("*", action) or (pattern.endswith(".*") and action.startswith(pattern[:-1])) for pattern in actions
    ):
        return False
    return not lines or subject.partition("@")[0] in lines


def check_url(url: str, hosts: Sequence[str]) -> None:
    """Raises `Invalid` unless a webhook may go there: to a host of the operator's, by https unless that is this host."""
    try:
        parts = urlsplit(url)
        host, port = parts.hostname or "", parts.port
    except ValueError:
        raise Invalid(f"{url[:200]!r} is no address of a webhook.", advice="Write https://host/path.") from None
    if parts.scheme not in ("https", "http") or not host or parts.username or parts.fragment or port == 0:
        raise Invalid(f"{url[:200]!r} is no address of a webhook.", advice="Write https://host/path.")
    if not is_named(host, hosts):
        raise Invalid(f"Webhooks may not go to {host}.", advice=named(hosts))
    if not is_secure(parts.scheme, host):
        raise Invalid(f"A webhook to {host} needs https.", advice="Write https://host/path.")


def check_address(address: str, allowed: Sequence[str]) -> None:
    """Raises `Invalid` unless mail may go there."""
    if not _ADDRESS.fullmatch(address):
        raise Invalid(f"{address[:200]!r} is no mail address.", advice="Write name@host.")
    if not is_named(address, allowed):
        raise Invalid(f"Mail may not go to {address}.", advice=named(allowed, "addresses"))


def pause_after(attempts: int) -> int | None:
    """Seconds until it is sent again after so many attempts; None where it is given up."""
    return None if attempts >= MOST_ATTEMPTS else _PAUSES[min(attempts, len(_PAUSES)) - 1]
