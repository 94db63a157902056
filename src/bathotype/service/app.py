"""The application: API, health, metrics and the console."""

from __future__ import annotations

import hmac
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from typing import Any

from fastapi import FastAPI, Request
from fastapi.responses import PlainTextResponse, Response
from prometheus_client import CONTENT_TYPE_LATEST, CollectorRegistry, Gauge, generate_latest
from sqlalchemy import func, select, text
from starlette.concurrency import run_in_threadpool

import bathotype
from bathotype.core.errors import NotFound, NotSignedIn
from bathotype.service import apipage, console, problems
from bathotype.service.head import WithHead
from bathotype.service.limits import Limited
from bathotype.service.records import Alert, Instance, Operation, Version
from bathotype.service.routes import ROUTERS, TAGS
from bathotype.service.routes.route import TOKEN_SCHEME, ByWords
from bathotype.service.state import Service


def create_app(service: Service) -> FastAPI:
    """The whole application over one service."""

    @asynccontextmanager
    async def lifespan(_: FastAPI) -> AsyncIterator[None]:
        yield
        await run_in_threadpool(service.close)

    app = FastAPI(
        title="Bathotype",
        version=bathotype.__version__,
        lifespan=lifespan,
        docs_url=None,
        redoc_url=None,
        openapi_url="/api/v1/openapi.json",
        telemetry={"tracing": False, "metrics": False, "logs": False},
        description="Captures machines into versioned images, launches from them, tracks every instance. "
        "Errors are RFC 9457 problem documents with a stable `code`. Lists are paged by `cursor`. Creating "
        "requests take an `Idempotency-Key`. Long work is an operation: watch its `events`. A list is sent whole as CSV or "
        "NDJSON where that is asked for. What people edit has a `revision`: give it with `If-Match`.",
        servers=[{"url": "/", "description": "The service that sent this document."}],
        openapi_tags=[{"name": name, "description": about} for name, about in TAGS.items()],
    )
    app.state.service = service
    app.add_middleware(WithHead)
    app.add_middleware(Limited)
    problems.install(app)

    # Before the routes of the API: a probe must not look through them all.
    @app.get("/healthz", response_class=PlainTextResponse, include_in_schema=False)
    def healthz() -> str:
        return "ok\n"

    @app.get("/readyz", response_class=PlainTextResponse, include_in_schema=False)
    def readyz() -> str:
        with service.database.reads() as session:
            session.execute(text("select 1"))
        return "ready\n"

    @app.get("/metrics", include_in_schema=False)
    def metrics(request: Request) -> Response:
        wanted = service.settings.metrics_token
        given = request.headers.get("authorization", "").removeprefix("Bearer ")
        if not wanted:
            raise NotFound("Metrics are off.", advice="Set BATHOTYPE_METRICS_TOKEN, and show it as a bearer token.")
        if not hmac.compare_digest(given.encode(), wanted.encode()):
            raise NotSignedIn("Metrics need their own token.", advice="Show BATHOTYPE_METRICS_TOKEN as a bearer token.")
        return Response(_metrics(service), media_type=CONTENT_TYPE_LATEST)

    # Their routes as they are: a router that is included is searched anew at each request.
    routes = [route for router in ROUTERS for route in router.routes]
    app.router.routes += [ByWords(routes), *routes]

    document = app.openapi

    def with_tokens() -> dict[str, Any]:
        made = document()
        made["components"]["securitySchemes"] = {
            TOKEN_SCHEME: {"type": "http", "scheme": "bearer", "description": "An API token."}
        }
        return made

    app.openapi = with_tokens  # type: ignore[method-assign]

    apipage.install(app)
    console.install(app)
    return app


def _metrics(service: Service) -> bytes:
    """Counted in the database when asked: every process of the service gives the same figures."""
    registry = CollectorRegistry()
    with service.database.reads() as session:
        for name, about, column in (
            ("bathotype_operations", "Operations by kind and state", (Operation.kind, Operation.state)),
            ("bathotype_instances", "Instances by region and state", (Instance.region, Instance.state)),
        ):
            gauge = Gauge(name, about, [column[0].key, "state"], registry=registry)
            for first, state, count in session.execute(select(*column, func.count()).group_by(*column)):
                gauge.labels(first, state).set(count)
        gauge = Gauge("bathotype_versions", "Versions by state", ["state"], registry=registry)
        for state, count in session.execute(select(Version.state, func.count()).group_by(Version.state)):
            gauge.labels(state).set(count)
        stored = Gauge("bathotype_stored_bytes", "Compressed bytes that captures added to stores", registry=registry)
        stored.set(session.scalar(select(func.sum(Version.new_bytes)).where(Version.state != "purged")) or 0)
        alerts = Gauge("bathotype_alerts", "Alerts that are not cleared", registry=registry)
        alerts.set(session.scalar(select(func.count()).where(Alert.cleared_at.is_(None))) or 0)
    return generate_latest(registry)
