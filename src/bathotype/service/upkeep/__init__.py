"""Upkeep: what the service does again and again by itself, one module a duty.  `DUTIES` lists them."""

from bathotype.service.upkeep import (
    answers,
    basedisks,
    chunks,
    history,
    instances,
    leftovers,
    messages,
    placements,
    repositories,
    scratch,
    scrub,
    shares,
    sheets,
    storage,
    sunsets,
    trail,
    uploads,
)
from bathotype.service.upkeep.duty import Duty

DUTIES: tuple[Duty, ...] = tuple(
    module.DUTY
    for module in (
        instances,
        leftovers,
        sunsets,
        basedisks,
        shares,
        repositories,
        sheets,
        messages,
        placements,
        scrub,
        uploads,
        scratch,
        answers,
        chunks,
        history,
        storage,
        trail,
    )
)
