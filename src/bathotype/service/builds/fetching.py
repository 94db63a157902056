"""Fetching a file of a payload from its address, for sheets that come from a repository."""

from __future__ import annotations

import asyncio
import hashlib
from collections.abc import Sequence

import httpx

from bathotype.core.errors import Refused, Unavailable
from bathotype.core.hosts import is_named, is_secure, named
from bathotype.core.sheets.lock import Locked

_SECONDS, _SILENCE = 300.0, 30.0
_MOST_HOPS = 5


def fetch(url: str, wanted: Locked, hosts: Sequence[str]) -> bytes:
    """A file that must be what its lock says, from a host that the operator names, and so each host that it leads to.

    Raises `Refused` for another host or another file, and `Unavailable` where it does not come.
    """

    async def get() -> bytes:
        async with httpx.AsyncClient(timeout=_SILENCE, follow_redirects=False, trust_env=False) as http:
            here = httpx.URL(url)
            for _ in range(_MOST_HOPS):
                _check(here, hosts)
                async with http.stream("GET", here) as answer:
                    if answer.next_request is not None:
                        here = answer.next_request.url
                        continue
                    if not answer.is_success:
                        raise Unavailable(f"{url} answered {answer.status_code}.", code="payload-missing")
                    data = bytearray()
                    async for piece in answer.aiter_bytes():
                        data += piece
                        if len(data) > wanted.bytes:
                            break
                    return bytes(data)
        raise Refused(f"{url} leads from one place to the next, and nowhere.", code="payload-elsewhere")

    try:
        data = asyncio.run(asyncio.wait_for(get(), _SECONDS))
    except TimeoutError:
        raise Unavailable(f"{url} did not come within {_SECONDS:.0f} s.") from None
    except (httpx.HTTPError, httpx.InvalidURL) as error:
        raise Unavailable(f"{url} cannot be fetched: {type(error).__name__}.") from error
    if len(data) != wanted.bytes or hashlib.sha256(data).hexdigest() != wanted.sha256:
        raise Refused(
            f"{url} is not what the lock says.", advice="See what it is now, then lock it anew.", code="lock-differs"
        )
    return data


def _check(url: httpx.URL, hosts: Sequence[str]) -> None:
    if not is_named(url.host, hosts):
        told = f"Files of a payload may not be fetched from {url.host}."
        raise Refused(told, advice=named(hosts), code="payload-elsewhere")
    if not is_secure(url.scheme, url.host):
        raise Refused(f"{url.host} needs https.", code="payload-elsewhere")
