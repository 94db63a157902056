"""The API's answers about machines at the sites."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.service.catalogue import reference_of
from bathotype.service.records import BaseDisk, Instance, Version
from bathotype.sites.protocol import SiteMachine
from bathotype.wire import machines as wire


def machine_answers(session: Session, machines: list[SiteMachine]) -> list[wire.Machine]:
    """The machines, each with the version that it stems from."""
    ids = [m.id for m in machines]
    of_instance = select(Instance.site_machine, Instance.version_id).where(Instance.site_machine.in_(ids))
    versions = dict(session.execute(of_instance).all())
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
            created_at=m.created_at,
        )
        for m in machines
    ]
