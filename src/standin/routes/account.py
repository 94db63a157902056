"""Routes of the site itself: its regions and sizes, an account's quota, and health."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter
from starlette.responses import PlainTextResponse

from standin.routes.common import Caller, TheSite
from standin.world import LARGEST_DISK, MACHINES, REGIONS, SIZES

router = APIRouter()


@router.get("/v1/site")
def describe(site: TheSite, account: Caller, region: str | None = None) -> dict[str, Any]:
    if region:
        with site.sessions.begin() as session:
            site.check_region(session, region)
    return {
        "regions": {name: {"zones": list(zones), "machines": MACHINES[name]} for name, zones in REGIONS.items()},
        "sizes": {name: {"processors": s.processors, "memory_mib": s.memory_mib} for name, s in SIZES.items()},
        "largest_disk": LARGEST_DISK,
        "demanded_tags": list(account.demanded_tags),
    }


@router.get("/v1/networks")
def networks(site: TheSite, account: Caller, region: str) -> dict[str, Any]:
    with site.sessions.begin() as session:
        site.check_region(session, region)
        return site.networks(session, account, region)


@router.get("/v1/quota")
def quota(site: TheSite, account: Caller) -> dict[str, Any]:
    with site.sessions() as session:
        return site.usage(session, account)


@router.get("/healthz", response_class=PlainTextResponse)
def health() -> str:
    return "ok\n"
