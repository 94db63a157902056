"""What prevents a build run besides its base: something that its sheet names does not exist, or has no room."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.errors import BathotypeError
from bathotype.core.sheets.sheet import MOST_PAYLOAD, Sheet
from bathotype.core.units import iec, plural
from bathotype.service.access.principals import Principal
from bathotype.service.admission import rooms
from bathotype.service.buckets import bucket_object
from bathotype.service.kinds.bucketexport import address_of
from bathotype.service.reach import Reach
from bathotype.service.records import Line, Placement, Subscription, Version
from bathotype.wire import builds as wire


def bucket_faults(reach: Reach, caller: Principal, sheet: Sheet, body: wire.BuildRequest) -> Iterator[str]:
    """Why files of the payload cannot be read from their buckets.  Their digests are compared when the run has begun."""
    for name, about in sheet.payload.items():
        if about.bucket is None or name not in body.payload:
            continue
        try:
            size = bucket_object(reach, caller.account, about.bucket, to="read").open().size
        except BathotypeError as error:
            yield f"{name} of the payload: {error}"
        else:
            if size != body.payload[name].bytes:
                yield (
                    f"{about.bucket} has {size} bytes, and {body.payload[name].bytes} in the lock. See what it is now, then "
                    "lock it anew: bathotype sheets lock FILE."
                )


def place_faults(reach: Reach, caller: Principal, sheet: Sheet, region: str) -> Iterator[str]:
    """Why the result cannot be proven where the sheet says.  Each of its regions is asked for the sizes that it has."""
    if sheet.prove is None:
        return
    if not sheet.checks:
        yield "The sheet says where it is proven, and has no checks."
    for name in sheet.prove.regions or [region]:
        try:
            sizes = reach.site(reach.check_region(name), caller.account).limits(name).machine_sizes
        except BathotypeError as error:
            yield f"It cannot be proven in {name}: {error}"
        else:
            for size in sheet.prove.sizes:
                if size not in sizes:
                    yield f"It cannot be proven in {name} on {size}: the sizes there are {', '.join(sizes)}."


def payload_faults(sheet: Sheet, given: Mapping[str, wire.PayloadGiven]) -> list[str]:
    """What is missing of a sheet's payload, and what is given that it does not name."""
    missing = [f"{name} ({about.where})" for name, about in sheet.payload.items() if name not in given]
    more = [name for name in given if name not in sheet.payload]
    faults = [f"Of the payload {', '.join(missing)} is not given."] if missing else []
    large = [name for name in sorted(sheet.goes_in) if name in given and given[name].bytes > MOST_PAYLOAD]
    faults += [f"{', '.join(large)} of the payload has more than {iec(MOST_PAYLOAD)}."] if large else []
    return [*faults, *([f"{', '.join(more)} is given, and the sheet has no such payload."] if more else [])]


def export_faults(reach: Reach, caller: Principal, sheet: Sheet, base: Version | None) -> list[str]:
    """Why files that the sheet asks for could not be made.  The result has the disks that the base has."""
    faults = []
    for one in sheet.result.exports:
        try:
            where = address_of(base, one) if base is not None else f"{one.to}{sheet.result.line}"
            bucket_object(reach, caller.account, where, to="write")
        except BathotypeError as error:
            faults.append(str(error))
    return faults


def result_faults(session: Session, reach: Reach, caller: Principal, sheet: Sheet) -> Iterator[str]:
    """What its result and its messages name that there is not."""
    for place in sheet.result.placement:
        try:
            reach.check_region(place.region)
        except BathotypeError as error:
            yield str(error)
    known = select(Subscription.name).where(Subscription.account_id == caller.account_id)
    for name in sorted({one.to for one in sheet.tell} - {*session.scalars(known)}):
        yield f"There is no subscription {name}. A steward sets it: `bathotype messages set {name}`."


def line_faults(session: Session, caller: Principal, sheet: Sheet, line: Line) -> Iterator[str]:
    """What its line forbids: a place that the line's own placement has otherwise, a pool that does not count it, and
    allowances without room for the machines that the run has at a time."""
    for place in sheet.result.placement:
        own = session.get(Placement, (line.id, place.region))
        if own is not None and (own.leaving or (own.copies, own.multi_zone) != (place.copies, place.multi_zone)):
            says = "leaves it" if own.leaving else f"has {plural(own.copies, 'copy')} there"
            yield f"The placement of {line.name} {says}: change it, or leave {place.region} out of the sheet."
    counted = rooms(session, caller.account_id, "", line.id)
    pools = {room.row.name for room in counted if room.row.kind == "pool"}
    for name in sheet.result.pools:
        if name not in pools:
            yield f"No pool {name} counts {line.name}. Name it there: `bathotype allowances set {name} --pool ...,{line.name}`."
    at_once = max(1, len(sheet.prove.regions or [""]) * len(sheet.prove.sizes or [""])) if sheet.prove else 1
    for room in counted:
        if (told := room.blocker(at_once)) is not None:
            yield told
