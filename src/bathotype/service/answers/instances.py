"""What the API tells about instances."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy.orm import Session

from bathotype.service.catalogue import standings
from bathotype.service.records import Instance
from bathotype.wire import fleet as wire

#: What a list reads of each instance.
LISTED = (
    Instance.id, Instance.name, Instance.version_id, Instance.region, Instance.zone, Instance.state, Instance.origin,
    Instance.site_machine, Instance.address, Instance.identity, Instance.reason, Instance.launched_at, Instance.ended_at,
)  # fmt: skip


def instance_answers(session: Session, rows: Sequence[Any], account_id: str) -> list[wire.Instance]:
    """What the API tells about instances, records or `LISTED` of them: one more statement, however many there are."""
    standing = standings(session, {row.version_id for row in rows}, account_id)
    out = []
    for row in rows:
        reference, behind, newest = standing[row.version_id]
        out.append(
            wire.Instance(
                id=row.id,
                name=row.name,
                reference=reference,
                behind=behind,
                newest=newest,
                region=row.region,
                zone=row.zone,
                state=row.state,
                origin=row.origin,
                machine_id=row.site_machine,
                address=row.address,
                identity=row.identity,
                reason=row.reason,
                launched_at=row.launched_at,
                ended_at=row.ended_at,
            )
        )
    return out
