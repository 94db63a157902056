"""The adapter to the stand-in cloud's HTTP API."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from functools import lru_cache
from typing import Any, TypeVar

import httpx
import stamina
from pydantic import TypeAdapter, ValidationError

from bathotype.core.disk.nbd import NbdDisk
from bathotype.core.disk.nbdpool import NbdPool
from bathotype.core.errors import BathotypeError, NotFound, OutOfSpace, Refused, Unavailable
from bathotype.core.guest.agent import AgentSilent, GuestAgent
from bathotype.core.lifecycle.networks import Attach, Networks
from bathotype.sites.protocol import SiteDisk, SiteLimits, SiteMachine
from bathotype.sites.standin import answers
from bathotype.sites.standin.channel import WebSocketStream

_PATIENCE = 45.0
_LONGEST_PAUSE = 5.0
_MOST_BODY = 64 * 1024 * 1024
_MOST_PAGES = 10_000

_ID = re.compile(answers.ID)
_T = TypeVar("_T")
_Page = TypeVar("_Page", answers.MachinePage, answers.DiskPage)
#: To make an adapter takes a hundred times as long as to use it.
_adapter: Callable[[Any], TypeAdapter[Any]] = lru_cache(TypeAdapter)


class _TryAgain(Exception):
    """A failure that may pass: the text names it for the operation's log."""

    def __init__(self, text: str) -> None:
        super().__init__(text)


class StandinSite:
    """One account's view of a stand-in.

    Calls that fail for a passing reason are repeated with backoff for ``patience`` seconds in all; one that is under way
    by then is waited for, as long again at most.
    """

    def __init__(self, url: str, token: str, *, timeout: float = 15.0, patience: float = _PATIENCE) -> None:
        self._url, self._token, self._patience = url.rstrip("/"), token, patience
        self._http = httpx.Client(
            base_url=self._url,
            timeout=min(timeout, patience),
            headers={"Authorization": f"Bearer {token}"},
            trust_env=False,
            verify=not self._url.startswith("http://"),  # certificates are loaded where there are some to check
        )

    def close(self) -> None:
        """Close the connections."""
        self._http.close()

    # Calls

    def _call(self, method: str, path: str, **options: Any) -> bytes:
        try:
            for attempt in stamina.retry_context(
                on=_TryAgain, attempts=None, timeout=self._patience, wait_initial=0.2, wait_max=_LONGEST_PAUSE
            ):
                with attempt:
                    return self._once(method, path, **options)
        except _TryAgain as error:
            raise Unavailable(
                f"The site does not answer: {error}.", advice="It is tried again; check the site."
            ) from error
        raise AssertionError("unreachable")

    def _once(self, method: str, path: str, **options: Any) -> bytes:
        called = f"{method} {path}"
        try:
            with self._http.stream(method, path, **options) as answer:
                body = self._body(called, answer)
        except (httpx.TransportError, httpx.DecodingError) as error:
            raise _TryAgain(f"{called}: {type(error).__name__}") from error
        if answer.status_code == 429:
            time.sleep(_pause(answer.headers.get("Retry-After", "")))
            raise _TryAgain(f"{called}: 429, too many calls")
        if answer.status_code >= 500 and answer.status_code != OutOfSpace.status:  # room does not come by waiting
            raise _TryAgain(f"{called}: {answer.status_code} {_refusal(body).detail}")
        if answer.status_code >= 400:
            raise _refused(answer.status_code, _refusal(body))
        if not answer.is_success:
            raise _nonsense(called)
        return body

    def _body(self, called: str, answer: httpx.Response) -> bytes:
        """All of an answer, which must come to an end."""
        deadline = time.monotonic() + self._patience
        body = bytearray()
        for piece in answer.iter_bytes():
            body += piece
            if len(body) > _MOST_BODY:
                raise _nonsense(called)
            if time.monotonic() > deadline:
                raise _TryAgain(f"{called}: its answer does not end")
        return bytes(body)

    def _ask(self, kind: type[_T], method: str, path: str, **options: Any) -> _T:
        """The answer of a call, which must be of a kind."""
        body = self._call(method, path, **options)
        try:
            checked: _T = _adapter(kind).validate_json(body)
        except ValidationError as error:
            raise _nonsense(f"{method} {path}") from error
        return checked

    def _get(self, kind: type[_T], path: str, **parameters: Any) -> _T:
        return self._ask(kind, "GET", path, params={k: v for k, v in parameters.items() if v is not None})

    def _machines(self, **parameters: Any) -> Iterator[SiteMachine]:
        for page in self._pages(answers.MachinePage, "/v1/machines", **parameters):
            yield from (one.machine() for one in page.items)

    def _pages(self, kind: type[_Page], path: str, **parameters: Any) -> Iterator[_Page]:
        after = ""
        for _ in range(_MOST_PAGES):
            page = self._get(kind, path, after=after, **parameters)
            yield page
            if page.after is None:
                return
            after = page.after
        raise _nonsense(f"GET {path}")

    def _delete(self, path: str, **parameters: Any) -> None:
        try:
            self._call("DELETE", path, params=parameters)
        except NotFound:
            return

    # Looking

    def limits(self, region: str | None = None) -> SiteLimits:
        about = self._get(answers.About, "/v1/site", region=region)
        return answers.limits(about, self._get(answers.Quota, "/v1/quota"))

    def networks(self, region: str) -> Networks:
        return self._get(answers.NetworksOfRegion, "/v1/networks", region=region).networks()

    def machines(self, region: str) -> Iterator[SiteMachine]:
        return self._machines(region=region)

    def machine(self, machine: str) -> SiteMachine:
        if not _ID.fullmatch(machine):  # it would name another address, or none
            raise NotFound("The site has no such machine.")
        return self._get(answers.Machine, f"/v1/machines/{machine}").machine()

    def machine_named(self, region: str, name: str) -> SiteMachine | None:
        return next(self._machines(region=region, name=name), None)

    def console(self, machine: str) -> str:
        return self._call("GET", f"/v1/machines/{machine}/console").decode("utf-8", "replace")

    @contextmanager
    def agent(self, machine: str, *, timeout: float = 10.0) -> Iterator[GuestAgent]:
        url = f"{self._url.replace('http', 'ws', 1)}/v1/machines/{machine}/agent"
        try:
            stream = WebSocketStream(url, self._token, timeout=timeout)
        except Unavailable as error:
            raise AgentSilent(error.message) from error
        try:
            agent = GuestAgent(stream, timeout=timeout)
            agent.sync()
            yield agent
        finally:
            stream.close()

    # Disks

    def disks(self, region: str, *, tag: tuple[str, str]) -> Iterator[SiteDisk]:
        for page in self._pages(answers.DiskPage, "/v1/disks", region=region, tag=f"{tag[0]}={tag[1]}"):
            yield from (one.disk() for one in page.items)

    def snapshot(
        self,
        disk: str,
        *,
        key: str,
        name: str,
        tags: dict[str, str],
        checkpoint: bool = False,
        changes_since: str | None = None,
    ) -> SiteDisk:
        body = {"name": name, "tags": tags, "client_key": key, "checkpoint": checkpoint, "changes_since": changes_since}
        return self._ask(answers.Disk, "POST", f"/v1/disks/{disk}/snapshots", json=body).disk()

    def create_disk(
        self,
        region: str,
        size: int,
        *,
        key: str,
        name: str,
        tags: dict[str, str],
        zone: str = "",
        source: str | None = None,
    ) -> SiteDisk:
        body: dict[str, Any] = {
            "region": region, "name": name, "tags": tags, "client_key": key, "zone": zone, "source": source,
        }  # fmt: skip
        if source is None:
            body["size"] = size
        return self._ask(answers.Disk, "POST", "/v1/disks", json=body).disk()

    def grant_disk(self, disk: str, account: str) -> None:
        self._call("PUT", f"/v1/disks/{disk}/grants/{account}")

    def revoke_disk(self, disk: str, account: str) -> None:
        self._delete(f"/v1/disks/{disk}/grants/{account}")

    def seal(self, disk: str) -> None:
        self._call("POST", f"/v1/disks/{disk}/seal")

    def delete_disk(self, disk: str) -> None:
        self._delete(f"/v1/disks/{disk}")

    @contextmanager
    def open_disk(self, disk: str, *, writable: bool = False) -> Iterator[Any]:
        export = self._ask(answers.Export, "POST", f"/v1/disks/{disk}/exports", json={"writable": writable})
        try:
            if writable:
                with NbdDisk(export.address) as target:
                    yield target
            else:
                with NbdPool(export.address, changes=export.changes_context) as pool:
                    yield pool
        finally:
            self._delete(f"/v1/exports/{export.id}")

    # Machines

    def create_machine(
        self,
        *,
        key: str,
        name: str,
        region: str,
        zone: str | None,
        machine_size: str,
        boot_disk: str,
        boot_bytes: int | None = None,
        data_disks: Sequence[str] = (),
        medium: str | None = None,
        attach: Attach | None = None,
        isolated: bool = False,
        tags: dict[str, str],
    ) -> SiteMachine:
        body = {
            **(attach or Attach()).model_dump(),
            "isolated": isolated,
            "name": name,
            "region": region,
            "zone": zone,
            "size": machine_size,
            "boot_disk": boot_disk,
            "boot_bytes": boot_bytes,
            "data_disks": list(data_disks),
            "medium": medium,
            "tags": tags,
            "client_key": key,
        }
        return self._ask(answers.Machine, "POST", "/v1/machines", json=body).machine()

    def set_seed(self, machine: str, volume: bytes) -> None:
        self._call("PUT", f"/v1/machines/{machine}/seed", content=volume)

    def power(self, machine: str, action: str) -> None:
        self._call("POST", f"/v1/machines/{machine}/power", json={"action": action})

    def delete_machine(self, machine: str, *, keep: Sequence[str] = ()) -> None:
        self._delete(f"/v1/machines/{machine}", keep=list(keep))


def _pause(told: str) -> float:
    """Seconds to wait, by what an answer's ``Retry-After`` says (RFC 9110)."""
    return min(float(told), _LONGEST_PAUSE) if told.isascii() and told.isdigit() else 0.0


def _refusal(body: bytes) -> answers.Refusal:
    try:
        return answers.Refusal.model_validate_json(body)
    except ValidationError:
        return answers.Refusal()


def _refused(status: int, why: answers.Refusal) -> BathotypeError:
    detail = why.detail or f"HTTP {status}"
    if status == 404:
        return NotFound(f"The site says: {detail}")
    if status == OutOfSpace.status:
        return OutOfSpace(f"The site says: {detail}")
    return Refused(f"The site refuses: {detail}", code=f"site-{why.code}" if why.code else "site-refused")


def _nonsense(called: str) -> Unavailable:
    return Unavailable(
        f"The site's answer to {called} is not what its interface says.",
        advice="Look at the site: it may be of another release, or something else answers in its place.",
    )
