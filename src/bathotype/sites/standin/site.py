"""The adapter to the stand-in cloud's HTTP API."""

from __future__ import annotations

import re
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from typing import Any

import httpx
import stamina

from bathotype.core.contents.platform import PlatformOffered
from bathotype.core.disk.nbd import NbdDisk
from bathotype.core.disk.nbdpool import NbdPool
from bathotype.core.errors import BathotypeError, NotFound, OutOfSpace, Refused, Unavailable
from bathotype.core.guest.agent import AgentSilent, GuestAgent
from bathotype.core.lifecycle.networks import (
    Attach,
    FirewallSet,
    Networks,
    Opening,
    PublicAddress,
    Subnet,
)
from bathotype.core.lifecycle.purpose import SizeOffered
from bathotype.sites.protocol import SiteDisk, SiteLimits, SiteMachine
from bathotype.sites.standin.channel import WebSocketStream

_PATIENCE = 45.0
_LONGEST_PAUSE = 5.0


_ID = re.compile(r"[A-Za-z0-9_-]{1,100}")


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

    def _call(self, method: str, path: str, **options: Any) -> httpx.Response:
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

    def _once(self, method: str, path: str, **options: Any) -> httpx.Response:
        try:
            answer = self._http.request(method, path, **options)
        except httpx.TransportError as error:
            raise _TryAgain(f"{method} {path}: {type(error).__name__}") from error
        if answer.status_code == 429:
            time.sleep(min(float(answer.headers.get("Retry-After", 0) or 0), _LONGEST_PAUSE))
            raise _TryAgain(f"{method} {path}: 429, too many calls")
        if answer.status_code >= 500:
            raise _TryAgain(f"{method} {path}: {answer.status_code} {_detail(answer)}")
        if answer.status_code >= 400:
            raise _refusal(answer)
        return answer

    def _get(self, path: str, **parameters: Any) -> Any:
        return self._call("GET", path, params={k: v for k, v in parameters.items() if v is not None}).json()

    def _pages(self, path: str, **parameters: Any) -> Iterator[dict[str, Any]]:
        after = ""
        while after is not None:
            page = self._get(path, after=after, **parameters)
            yield from page["items"]
            after = page["after"]

    def _delete(self, path: str, **parameters: Any) -> None:
        try:
            self._call("DELETE", path, params=parameters)
        except NotFound:
            return

    # Looking

    def limits(self, region: str | None = None) -> SiteLimits:
        site, quota = self._get("/v1/site", region=region), self._get("/v1/quota")
        return SiteLimits(
            {name: tuple(r["zones"]) for name, r in site["regions"].items()},
            {name: SizeOffered(size["processors"], size["memory_mib"]) for name, size in site["sizes"].items()},
            site["largest_disk"],
            tuple(site["demanded_tags"]),
            {name: (q["used"], q["most"]) for name, q in quota.items()},
            {name: _platform(r.get("machines", {})) for name, r in site["regions"].items()},
        )

    def networks(self, region: str) -> Networks:
        told = self._get("/v1/networks", region=region)
        return Networks(
            tuple(Subnet(s["name"], s["network"], s["cidr"], s["free"]) for s in told["subnets"]),
            tuple(
                FirewallSet(
                    f["name"],
                    tuple(Opening(o["protocol"], o["first"], o["last"], o["source"]) for o in f["openings"]),
                )
                for f in told["firewalls"]
            ),
            tuple(PublicAddress(a["address"], a["machine"]) for a in told["public_addresses"]),
        )

    def machines(self, region: str) -> Iterator[SiteMachine]:
        return (_machine(item) for item in self._pages("/v1/machines", region=region))

    def machine(self, machine: str) -> SiteMachine:
        if not _ID.fullmatch(machine):  # it would name another address, or none
            raise NotFound("The site has no such machine.")
        return _machine(self._get(f"/v1/machines/{machine}"))

    def machine_named(self, region: str, name: str) -> SiteMachine | None:
        return next((_machine(m) for m in self._pages("/v1/machines", region=region, name=name)), None)

    def console(self, machine: str) -> str:
        return self._call("GET", f"/v1/machines/{machine}/console").text

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
        return (_disk(d) for d in self._pages("/v1/disks", region=region, tag=f"{tag[0]}={tag[1]}"))

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
        return _disk(self._call("POST", f"/v1/disks/{disk}/snapshots", json=body).json())

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
        return _disk(self._call("POST", "/v1/disks", json=body).json())

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
        export = self._call("POST", f"/v1/disks/{disk}/exports", json={"writable": writable}).json()
        try:
            if writable:
                with NbdDisk(export["address"]) as target:
                    yield target
            else:
                with NbdPool(export["address"], changes=export.get("changes_context")) as pool:
                    yield pool
        finally:
            self._delete(f"/v1/exports/{export['id']}")

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
        return _machine(self._call("POST", "/v1/machines", json=body).json())

    def set_seed(self, machine: str, volume: bytes) -> None:
        self._call("PUT", f"/v1/machines/{machine}/seed", content=volume)

    def power(self, machine: str, action: str) -> None:
        self._call("POST", f"/v1/machines/{machine}/power", json={"action": action})

    def delete_machine(self, machine: str, *, keep: Sequence[str] = ()) -> None:
        self._delete(f"/v1/machines/{machine}", keep=list(keep))


def _detail(answer: httpx.Response) -> str:
    try:
        return str(answer.json().get("detail", ""))
    except (ValueError, AttributeError):
        return ""


def _refusal(answer: httpx.Response) -> BathotypeError:
    detail = _detail(answer) or f"HTTP {answer.status_code}"
    code = ""
    try:
        code = str(answer.json().get("code", ""))
    except (ValueError, AttributeError):
        pass
    if answer.status_code == 404:
        return NotFound(f"The site says: {detail}")
    if answer.status_code == 507:
        return OutOfSpace(f"The site says: {detail}")
    return Refused(f"The site refuses: {detail}", code=f"site-{code}" if code else "site-refused")


def _disk(data: dict[str, Any]) -> SiteDisk:
    return SiteDisk(
        data["id"],
        data["name"],
        data["size"],
        data.get("kind", "disk"),
        data.get("boot", False),
        data.get("changes_known", False),
        data.get("tags", {}),
    )


def _platform(told: dict[str, Any]) -> PlatformOffered:
    return PlatformOffered(
        tuple(told.get("boot", ())),
        tuple(told.get("architectures", ())),
        bool(told.get("trusted_module", True)),
        tuple(told.get("disk_buses", ())),
        tuple(told.get("network_cards", ())),
    )


def _machine(data: dict[str, Any]) -> SiteMachine:
    return SiteMachine(
        data["id"],
        data["name"],
        data["region"],
        data["zone"],
        data["size"],
        "running" if data["state"] == "running" else "stopped",
        data["address"],
        data["tags"],
        tuple(_disk(d) for d in data["disks"]),
        data["created_from"],
        datetime.fromisoformat(data["created_at"]),
        data["mac"],
        data.get("subnet", ""),
        tuple(data.get("firewalls", ())),
        data.get("public_address"),
    )
