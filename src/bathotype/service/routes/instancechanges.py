"""Changes of many instances at once."""

from __future__ import annotations

from typing import Any

from sqlalchemy.orm import Session

from bathotype.core.errors import Invalid, Refused
from bathotype.core.lifecycle.instances import INSTANCE_VERBS, Chosen, plan_change
from bathotype.service import audit
from bathotype.service.access.principals import Principal
from bathotype.service.answers.instances import instances_chosen
from bathotype.service.answers.operations import operation_answers
from bathotype.service.database import Reads
from bathotype.service.instances import find_instances
from bathotype.service.kinds.changeinstances import ChangeInstances, ChangeParams
from bathotype.service.operations.start import start_operation
from bathotype.service.routes.callers import Operator, Reader, ReadsOf, ServiceOf
from bathotype.service.routes.common import Key, once
from bathotype.service.routes.instances import asked_for
from bathotype.service.routes.route import api_router
from bathotype.service.state import Service
from bathotype.wire import fleet as wire
from bathotype.wire.operations import Operation

router = api_router(tags=["instances"])


@router.post("/instance-plans")
def plan_instance_change(
    body: wire.InstanceChangeRequest, caller: Reader, service: ServiceOf, reads: ReadsOf
) -> wire.InstancePlan:
    """What a change of many instances would do, and to which of them.

    Its `selection` given with the change makes sure that it concerns these instances and no others.
    """
    plan = plan_change(INSTANCE_VERBS[body.verb], _chosen(reads, caller, service, body))
    return wire.InstancePlan(
        verb=plan.verb.name,
        subject=plan.subject,
        blockers=list(plan.blockers),
        warnings=list(plan.warnings),
        effects=list(plan.effects),
        count=len(plan.change),
        versions=plan.versions,
        regions=plan.regions,
        names=[one.name for one in plan.change[:100]],
        selection=plan.selection,
    )


@router.post("/instance-changes", status_code=202)
def change_instances(
    body: wire.InstanceChangeRequest, caller: Operator, service: ServiceOf, reads: ReadsOf, key: Key = None
) -> Operation:
    """Stop, start or terminate many instances as one operation.  Refused where `selection` is not what fits now."""

    def make(session: Session) -> Operation:
        plan = plan_change(INSTANCE_VERBS[body.verb], _chosen(reads, caller, service, body))
        if plan.blockers:
            raise Refused(" ".join(plan.blockers), advice=" ".join(plan.warnings), code="blocked")
        if body.selection and body.selection != plan.selection:
            raise Refused(
                f"These are not the instances of the plan any more: it would {plan.subject} now.",
                advice="Make the plan again.",
                code="changed-meanwhile",
            )
        params = ChangeParams(verb=body.verb, instances=[one.id for one in plan.change])
        row = start_operation(session, caller, ChangeInstances, plan.subject, params)
        audit.record(
            session, caller.account_id, caller.actor, "instances.change", plan.subject,
            after={"verb": body.verb, "instances": len(plan.change), "operation": row.id, "versions": plan.versions},
        )  # fmt: skip
        return operation_answers(session, [row])[0]

    return Operation.model_validate(once(caller, service, key, body, make))


def _chosen(reads: Reads, caller: Principal, service: Service, body: wire.InstanceChangeRequest) -> list[Chosen]:
    """What a request chooses.  Raises `Invalid` for more than one operation takes."""
    given: dict[str, Any]
    if body.instances is not None:
        with reads.session() as session:
            given = {"ids": find_instances(session, caller.account_id, body.instances)}
        statement = instances_chosen(ids=True, most=wire.MOST_AT_ONCE + 1)
    else:
        where = body.where or wire.InstanceFilter()
        flags, given = asked_for(
            reads, caller, service, where.version, where.state, where.region, where.behind, where.find
        )
        statement = instances_chosen(**flags, most=wire.MOST_AT_ONCE + 1)
    rows = statement.rows(reads.connection, caller=caller.account_id, **given)
    if len(rows) > wire.MOST_AT_ONCE:
        raise Invalid(
            f"More than {wire.MOST_AT_ONCE:,} instances fit.", advice="Narrow it down, for example by region."
        )
    return [Chosen(**row._asdict()) for row in rows]
