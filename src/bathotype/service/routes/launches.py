"""Launching."""

from __future__ import annotations

from fastapi import Request
from sqlalchemy.orm import Session

from bathotype.service.access.principals import Principal
from bathotype.service.answers.operations import operation_answers
from bathotype.service.launching import AtSite, ask_site, plan_launch, record_launch
from bathotype.service.routes.callers import Operator, Reader, ServiceOf
from bathotype.service.routes.common import Key, once, still_wanted
from bathotype.service.routes.route import api_router
from bathotype.service.shares import find_usable
from bathotype.service.state import Service
from bathotype.wire.fleet import LaunchPlan, LaunchRequest
from bathotype.wire.operations import Operation

router = api_router(tags=["launches"])


def _at_site(service: Service, caller: Principal, body: LaunchRequest) -> AtSite:
    """What the site says, once it is known that there is such a version."""
    with service.database.reads() as session:
        find_usable(session, caller, body.reference)
    return ask_site(service.reach, caller, body)


@router.post("/launch-plans")
def plan(body: LaunchRequest, caller: Reader, service: ServiceOf) -> LaunchPlan:
    """What a launch would do, with every blocker and warning."""
    at_site = _at_site(service, caller, body)
    with service.database.reads() as session:
        version, shares = find_usable(session, caller, body.reference)
        return plan_launch(session, service.reach, caller, body, version, shares, at_site)


@router.post("/launches", status_code=202)
def launch(body: LaunchRequest, caller: Operator, service: ServiceOf, request: Request, key: Key = None) -> Operation:
    """Launch instances.  Of a launch and a retirement at the same moment, the database puts one first."""
    at_site = _at_site(service, caller, body)
    still_wanted(request)

    def make(session: Session) -> Operation:
        return operation_answers(session, [record_launch(session, service.reach, caller, body, at_site)])[0]

    return Operation.model_validate(once(caller, service, key, body, make))
