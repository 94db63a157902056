"""Change instances: stop, start or terminate many, as one operation."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from sqlalchemy import select

from bathotype.core.errors import BathotypeError
from bathotype.core.lifecycle.instances import INSTANCE_VERBS
from bathotype.core.units import agree, plural
from bathotype.service.instances import change_instance
from bathotype.service.operations.kind import Kind, Memo, Params, Step
from bathotype.service.records import Instance

_AT_ONCE = 8


class ChangeParams(Params):
    """The verb, and the ids of the instances."""

    verb: str
    instances: list[str]


class ChangeMemo(Memo):
    """Nothing: the instances' own records say which of them are done."""


class ChangeInstances(Kind[ChangeParams, ChangeMemo]):
    """Each instance is changed and recorded by itself: what a crash or a cancellation leaves is as it was."""

    name = "change-instances"
    params_type, memo_type = ChangeParams, ChangeMemo
    steps = (Step("change", "Change the instances"),)

    def change(self) -> None:
        """A few at a time; one that cannot be changed does not keep the others from it."""
        wanted = self.params.instances
        with ThreadPoolExecutor(_AT_ONCE, thread_name_prefix="change") as pool:
            for at in range(0, len(wanted), _AT_ONCE):
                list(pool.map(self._change_one, wanted[at : at + _AT_ONCE]))
                self.context.progress(min(at + _AT_ONCE, len(wanted)), len(wanted))

    def _change_one(self, instance_id: str) -> None:
        verb = INSTANCE_VERBS[self.params.verb]
        try:
            with self.context.session() as session:
                row = session.get_one(Instance, instance_id)
                if row.state == "terminated":
                    return  # gone meanwhile
                site = self.context.site(row.region)
            change_instance(self.context.database, site, instance_id, verb, self.context.created_by)
        except BathotypeError as error:
            self.context.log(f"{instance_id}: {error}", "error")

    def result(self) -> dict[str, Any]:
        verb = INSTANCE_VERBS[self.params.verb]
        left = [row for row in self._rows() if row.state not in (verb.done, "terminated")]
        if left:
            names = ", ".join(row.name for row in left[:5]) + (", …" if len(left) > 5 else "")
            raise _SomeLeft(
                f"{len(left)} of {plural(len(self.params.instances), 'instance')} {agree(len(left), 'is', 'are')} not "
                f"{verb.done}: {names}.",
                advice="The operation's log has the reason of each. `operations retry` takes up those that are left.",
            )
        return {"verb": verb.name, "instances": len(self.params.instances)}

    def _rows(self) -> Iterator[Instance]:
        wanted = self.params.instances
        with self.context.session() as session:
            for at in range(0, len(wanted), 1000):
                yield from session.scalars(
                    select(Instance).where(Instance.id.in_(wanted[at : at + 1000])).order_by(Instance.name)
                )


class _SomeLeft(BathotypeError):
    code = "instances-left"
