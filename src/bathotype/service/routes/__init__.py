"""The HTTP API, one module a noun.  `ROUTERS` lists them."""

from fastapi import APIRouter

from bathotype.service.routes import (
    access,
    audit,
    captures,
    downloads,
    feed,
    images,
    instancechanges,
    instances,
    launches,
    lines,
    machines,
    operations,
    overview,
    regions,
    rules,
    sharing,
    versions,
)

# Order matters: a reference may contain slashes, so paths that continue after a reference come before the plain one.
ROUTERS: tuple[APIRouter, ...] = tuple(
    module.router
    for module in (
        operations,
        overview,
        regions,
        rules,
        sharing,
        machines,
        lines,
        captures,
        images,
        downloads,
        versions,
        launches,
        instances,
        instancechanges,
        audit,
        access,
        feed,
    )
)
