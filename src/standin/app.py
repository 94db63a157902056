"""The stand-in's HTTP API: its routes, its errors, and the faults that it was asked for."""

from __future__ import annotations

import asyncio
from collections import OrderedDict, defaultdict
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from typing import Any

from fastapi import FastAPI, Request, Response
from starlette.concurrency import run_in_threadpool
from starlette.responses import JSONResponse

from standin.faults import take
from standin.qmp import MonitorError
from standin.records import Fault
from standin.routes import account, agent, disks, letterbox, machines, operator
from standin.site import Site
from standin.siterules import SiteError
from standin.world import Tenancy


def create_app(site: Site, tenancy: Tenancy, *, latency: float = 0.0) -> FastAPI:
    """The whole API over one site."""

    @asynccontextmanager
    async def lifespan(_: FastAPI) -> AsyncIterator[None]:
        await run_in_threadpool(site.open)
        yield
        await run_in_threadpool(site.close)

    app = FastAPI(title="Stand-in cloud", version="1", lifespan=lifespan)
    app.state.site, app.state.tenancy = site, tenancy
    app.state.spent = defaultdict(int)  # calls by account and second
    app.state.silent_until = {}  # agents that a fault keeps silent, by machine
    app.state.letterboxes = OrderedDict()
    for module in (account, machines, disks, agent, operator, letterbox):
        app.include_router(module.router)

    @app.exception_handler(SiteError)
    async def refused(_: Request, error: SiteError) -> JSONResponse:
        return JSONResponse({"code": error.code, "detail": error.text}, error.status)

    @app.exception_handler(MonitorError)
    async def monitor_refused(_: Request, error: MonitorError) -> JSONResponse:
        return JSONResponse({"code": "hypervisor", "detail": f"QEMU refused: {error}"}, 500)

    @app.middleware("http")
    async def mishaps(request: Request, call_next: Any) -> Response:
        if latency:
            await asyncio.sleep(latency)
        if request.url.path.startswith("/v1/") and not request.url.path.startswith("/v1/faults"):
            fault = await run_in_threadpool(_mishap, request.url.path)
            if fault is not None:
                if fault.kind in ("slow", "hang"):
                    await asyncio.sleep(fault.seconds)
                elif fault.kind == "rate-limit":
                    return JSONResponse(
                        {"code": "too-many", "detail": "Too many calls."}, 429, {"Retry-After": str(fault.seconds)}
                    )
                else:
                    return JSONResponse({"code": "internal", "detail": "Something went wrong."}, fault.status)
        answer: Response = await call_next(request)
        return answer

    def _mishap(path: str) -> Fault | None:
        with site.sessions.begin() as session:
            return take(session, ("fail", "rate-limit", "slow", "hang"), path, prefix=True)

    return app
