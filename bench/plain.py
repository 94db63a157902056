"""The floor of an answer: Starlette and psycopg alone, one prepared query that returns as many bytes as asked for."""

from __future__ import annotations

import os
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from psycopg import Connection
from psycopg_pool import ConnectionPool
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import Route


def application() -> Starlette:
    """One route, which takes a connection of a pool in a thread, as the service's routes do."""

    def connected(connection: Connection) -> None:
        connection.autocommit, connection.prepare_threshold = True, 0

    pool: ConnectionPool[Connection] = ConnectionPool(
        os.environ["BATHOTYPE_DATABASE_URL"], min_size=2, max_size=10, configure=connected, open=False
    )

    @asynccontextmanager
    async def lifespan(_: Starlette) -> AsyncIterator[None]:
        with pool:
            yield

    def answer(request: Request) -> Response:
        with pool.connection() as connection:
            row = connection.execute("select repeat('x', %s)", (int(request.query_params["bytes"]),)).fetchone()
        assert row is not None
        return Response(row[0], media_type="application/json")

    return Starlette(routes=[Route("/", answer)], lifespan=lifespan)
