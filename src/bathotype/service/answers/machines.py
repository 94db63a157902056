"""The API's answers about machines at the sites."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from types import MappingProxyType

from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.service.catalogue import reference_of
from bathotype.service.records import BaseDisk, Instance, Version
from bathotype.sites.protocol import SiteMachine
from bathotype.wire import machines as wire


def machine_answers(
    session: Session, machines: list[SiteMachine], systems: Mapping[str, str | None] = MappingProxyType({})
) -> list[wire.Machine]:
    """The machines, each with the version that it stems from.

    ``systems`` gives the operating systems of those whose agents were asked, None where none answered.
    """
    ids = [m.id for m in machines]
    of_instance = select(Instance.site_machine, Instance.version_id, Instance.id)
    instances = session.execute(of_instance.where(Instance.site_machine.in_(ids))).all()
    versions = {machine: version for machine, version, _ in instances}
    instance_ids = {machine: instance for machine, _, instance in instances}
    captured = _captured(session, ids)
    sources = [m.created_from for m in machines if m.created_from]
    of_base = select(BaseDisk.site_disk, BaseDisk.version_id).where(BaseDisk.site_disk.in_(sources))
    bases = dict(session.execute(of_base).all())
    wanted = {*versions.values(), *bases.values()}
    names = {v.id: reference_of(v) for v in session.scalars(select(Version).where(Version.id.in_(wanted)))}
    return [
        wire.Machine(
            id=m.id,
            name=m.name,
            region=m.region,
            zone=m.zone,
            machine_size=m.machine_size,
            state=m.state,
            address=m.address,
            tags=m.tags,
            disks=[wire.MachineDisk(id=d.id, name=d.name, size=d.size, boot=d.boot) for d in m.disks],
            version=names.get(versions.get(m.id) or bases.get(m.created_from or "") or ""),
            instance=instance_ids.get(m.id),
            captured=captured[m.id][0] if m.id in captured else None,
            captured_at=captured[m.id][1] if m.id in captured else None,
            created_at=m.created_at,
            agent=None if m.id not in systems else "answers" if systems[m.id] else "silent",
            os=systems.get(m.id),
        )
        for m in machines
    ]


def _captured(session: Session, machines: Sequence[str]) -> dict[str, tuple[str, datetime]]:
    """The newest version that was captured from each machine, and when."""
    machine = Version.source["machine_id"].astext
    rows = session.execute(select(machine, Version).where(machine.in_(machines)).order_by(Version.created_at))
    return {source: (reference_of(version), version.created_at) for source, version in rows}
