"""The HTTP API, one module a noun.  `ROUTERS` lists them."""

from fastapi import APIRouter

from bathotype.service.routes import (
    access,
    audit,
    builds,
    captures,
    checks,
    downloads,
    feed,
    images,
    inspections,
    instancechanges,
    instances,
    launches,
    lines,
    machines,
    memberships,
    operations,
    overview,
    regions,
    rules,
    savedsheets,
    secrets,
    sharing,
    subscriptions,
    targets,
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
        secrets,
        sharing,
        inspections,
        machines,
        lines,
        captures,
        builds,
        savedsheets,
        checks,
        images,
        targets,
        downloads,
        versions,
        launches,
        instances,
        instancechanges,
        audit,
        subscriptions,
        access,
        memberships,
        feed,
    )
)

#: What the routes of each tag are about, for the API's document.
TAGS: dict[str, str] = {
    "overview": "What is seen first: sentences, what can be done, history, what is stored.",
    "machines": "Machines at the sites.",
    "captures": "Captures of machines, their preflight and plans.",
    "images": "Image files that come in, and edits.",
    "builds": "Build sheets, and build runs with their steps.",
    "checks": "Checks of versions, on throwaway instances, and of instances.",
    "downloads": "Disks and files that go out.",
    "lines": "Lines and their marks.",
    "versions": "Versions: contents, findings, holds, and their life from staged to purged.",
    "regions": "Replicas and placements.",
    "launches": "Launches, and what they would do.",
    "instances": "Which machine runs which version; changes of one or many.",
    "first boot": "First-boot settings that are saved under a name.",
    "shares": "Shares between accounts, adoption, and the calendar.",
    "rules": "Launch rules and allowances.",
    "subscriptions": "Who is told of events: webhooks and mail.",
    "secrets": "What build runs are given and nobody is shown.",
    "operations": "Long work: progress, log, cancel, retry.",
    "events": "The audit trail, and alerts.",
    "feed": "What changes, as server-sent events.",
    "access": "Sessions, tokens, members and keys.",
}
