"""Whether a version, or a file, would be taken in at another place."""

from __future__ import annotations

from dataclasses import asdict

from sqlalchemy import func, select

from bathotype.core.errors import Refused
from bathotype.core.lifecycle.target import Candidate, fits, judge
from bathotype.service.access.principals import Principal
from bathotype.service.catalogue import find_version, needs_of, reference_of
from bathotype.service.imagefiles import examine, look_ahead
from bathotype.service.kinds.descent import keeps_identity
from bathotype.service.records import Finding, VersionPackage
from bathotype.service.routes.callers import Operator, ServiceOf
from bathotype.service.routes.route import api_router
from bathotype.service.state import Service
from bathotype.service.uploads import find_upload
from bathotype.wire.machines import Remark
from bathotype.wire.targets import TargetCheck, TargetCheckRequest

router = api_router(tags=["images"])


@router.post("/target-checks")
def check(body: TargetCheckRequest, caller: Operator, service: ServiceOf) -> TargetCheck:
    """Judge a version or a file by the demands of a target, row by row, each with what to change.  Changes nothing."""
    name, image = _version(service, caller, body.reference) if body.reference else _file(service, caller, body)
    rows = judge(body.target, image)
    remarks = [Remark.model_validate(asdict(row)) for row in rows]
    return TargetCheck(target=body.target.name, image=name, fits=fits(rows), rows=remarks)


def _version(service: Service, caller: Principal, reference: str) -> tuple[str, Candidate]:
    with service.database.reads() as session:
        version = find_version(session, caller, reference)
        names = session.scalars(select(VersionPackage.name).where(VersionPackage.version_id == version.id))
        known = "package_count" in version.contents
        high = select(func.count()).where(
            Finding.version_id == version.id, Finding.severity == "high", Finding.accepted_by.is_(None)
        )
        kept = keeps_identity(session, version)
        return reference_of(version), Candidate(
            max(disk["bytes"] for disk in version.disks),
            needs_of(version),
            (version.contents.get("os") or {}).get("id"),
            frozenset(names) if known else None,
            generalized=None if kept is None else not kept,
            high_findings=session.scalar(high),
            disks=len(version.disks),
        )


def _file(service: Service, caller: Principal, body: TargetCheckRequest) -> tuple[str, Candidate]:
    with service.database.reads() as session:
        upload = find_upload(session, caller, body.upload) if body.upload else None
    with service.reader() as reader:
        found = examine(
            reader, service.reach, caller.account, upload=upload, url=body.url, form=body.format,
            region=upload.region if upload else service.reach.regions[0], profile=None,
            scratch_bytes=service.settings.scratch_bytes,
        )  # fmt: skip
        image = found.image
        if image is None:
            raise Refused(" ".join(found.remarks.refusals) or "What is packed in it can be judged once it is unpacked.")
        look_ahead(found, reader, body.format, None)
    ahead = found.preview
    return found.source, Candidate(
        max(image.disks),
        image.platform,
        ahead.contents.os.get("id") if ahead else None,
        frozenset(package.name for package in ahead.contents.packages) if ahead else None,
        image.format,
        image.checkpoints,
        high_findings=sum(f.severity == "high" for f in ahead.findings) if ahead else None,
        disks=len(image.disks),
    )
