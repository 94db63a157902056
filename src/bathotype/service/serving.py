"""The serving processes: the API at one address."""

from __future__ import annotations

import gc

import uvicorn
from fastapi import FastAPI

from bathotype.service.app import create_app
from bathotype.service.logs import configure
from bathotype.service.settings import Settings
from bathotype.service.state import Service

_PATIENCE = 8.0  # seconds for which a failed call to a site is repeated while a person waits for the answer


def serve(host: str, port: int, processes: int) -> None:
    """Serve until stopped; several processes answer at one address, and one that dies is started again."""
    _ = Settings.from_environment().places  # a mistake in the settings is reported once, not by every process
    uvicorn.run(
        "bathotype.service.serving:application",
        factory=True,
        host=host,
        port=port,
        workers=processes,
        log_level="warning",
        timeout_graceful_shutdown=2,
    )


def application() -> FastAPI:
    """The application of one serving process."""
    service = Service.from_environment(patience=_PATIENCE)
    configure(service.settings.log_level)
    app = create_app(service)
    gc.freeze()  # none of this becomes garbage, and to look through it would keep every answer waiting for 0.2 s
    return app
