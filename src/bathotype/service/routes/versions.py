"""Versions: their record, findings, contents, holds, and the way from staged to purged."""

from __future__ import annotations

from datetime import date
from typing import Annotated, Any

from fastapi import Query, Response
from sqlalchemy import bindparam, select
from sqlalchemy.orm import Session

from bathotype.core.contents.difference import difference
from bathotype.core.contents.inventory import Contents, Package
from bathotype.core.errors import NotFound, Refused
from bathotype.core.lifecycle.purpose import Purpose
from bathotype.core.lifecycle.references import check_name, parse_reference
from bathotype.core.lifecycle.retirement import RetirementPlan, plan_purge, plan_retire, plan_sunset
from bathotype.core.lifecycle.states import VersionState
from bathotype.core.signing.statement import digest_of
from bathotype.service import audit, lifecycle
from bathotype.service.answers.operations import operation_answers
from bathotype.service.answers.versions import OWN, shown, version_answer
from bathotype.service.catalogue import (
    find_version,
    ready_regions,
    reference_of,
    require_replica,
    running_counts,
    usage_of,
)
from bathotype.service.kinds.replicate import ReplicaParams
from bathotype.service.kinds.verify import Verify
from bathotype.service.operations.start import start_operation
from bathotype.service.records import BaseDisk, Finding, Hold, Line, Replica, Version, VersionPackage
from bathotype.service.records.base import CHANGE, utcnow
from bathotype.service.routes.callers import Operator, Reader, ReadsOf, Retirer, ServiceOf
from bathotype.service.routes.common import Key, once
from bathotype.service.routes.conditions import Conditional
from bathotype.service.routes.paging import REVERSED, Ordering, Paged
from bathotype.service.routes.route import api_router, sent
from bathotype.service.shares import find_usable, in_regions, reference_for
from bathotype.service.signatures import signed
from bathotype.service.statements import Statement
from bathotype.service.usable import Lookup, found
from bathotype.wire import versions as wire
from bathotype.wire.common import Page, Plan
from bathotype.wire.operations import Operation

router = api_router(tags=["versions"])
_REF = "/versions/{reference:path}"


# Looking


_FINDINGS = Ordering(Finding.name, severity=Finding.position, path=Finding.path, rule=Finding.rule)


@router.get(_REF + "/findings")
def findings(
    reference: str,
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    severity: wire.Severity | None = None,
    open: Annotated[bool, Query(description="Only those that nobody has accepted.")] = False,
    sort: Annotated[wire.FindingSort, Query(description=f"By severity the worst come first. {REVERSED}")] = "severity",
) -> Page[wire.Finding]:
    """The residue report, most severe first unless sorted."""
    with reads.session() as session:
        version = find_version(session, caller, reference)
        query = select(Finding).where(Finding.version_id == version.id)
        if severity is not None:
            query = query.where(Finding.severity == severity)
        if open:
            query = query.where(Finding.accepted_by.is_(None))
        rows, following, total = paging.in_order(session, query, _FINDINGS, sort)
        return Page(items=[_finding(row[0]) for row in rows], next=following, total=total)


def _finding(row: Finding) -> wire.Finding:
    return wire.Finding(
        id=row.name,
        rule=row.rule,
        severity=row.severity,
        path=row.path,
        line=row.line,
        excerpt=row.excerpt,
        advice=row.advice,
        accepted_by=row.accepted_by,
        accepted_reason=row.accepted_reason,
    )


_PACKAGES = Ordering(
    VersionPackage.name,
    VersionPackage.architecture,
    VersionPackage.version,
    name=VersionPackage.name,
    manager=VersionPackage.manager,
)
_USES = Ordering(
    Line.name,
    Version.sort_key,
    VersionPackage.architecture,
    VersionPackage.version,
    line=Line.name,
    package=VersionPackage.version,
    state=Version.state,
)


@router.get(_REF + "/packages")
def packages(
    reference: str,
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    find: Annotated[str | None, Query(max_length=200, description="Part of the name.")] = None,
    sort: Annotated[wire.PackageSort, Query(description=REVERSED)] = "name",
) -> Page[wire.PackageRow]:
    """Every package on a version's disk."""
    with reads.session() as session:
        version, _ = find_usable(session, caller, reference)
        query = select(VersionPackage).where(VersionPackage.version_id == version.id)
        if find:
            query = query.where(VersionPackage.name.icontains(find, autoescape=True))
        rows, following, total = paging.in_order(session, query, _PACKAGES, sort)
        items = [wire.PackageRow.model_validate(row[0], from_attributes=True) for row in rows]
        return Page(items=items, next=following, total=total)


@router.get("/packages/{name}/versions")
def versions_with_package(
    name: str,
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    sort: Annotated[wire.PackageUseSort, Query(description=f"`package` is its version, as text. {REVERSED}")] = "-line",
) -> Page[wire.PackageUse]:
    """Which versions hold a package, and how many instances of each run."""
    query = (
        select(VersionPackage, Version)
        .join(Version, Version.id == VersionPackage.version_id)
        .join(Line)
        .where(VersionPackage.name == name, Line.account_id == caller.account_id)
    )
    with reads.session() as session:
        rows, following, total = paging.in_order(session, query, _USES, sort)
        running = running_counts(session, [row[1].id for row in rows])
        items = [
            wire.PackageUse(
                reference=reference_of(version),
                state=version.state,
                package=package.name,
                version=package.version,
                running=running.get(version.id, 0),
            )
            for package, version, *_ in rows
        ]
        return Page(items=items, next=following, total=total)


@router.get(_REF + "/difference")
def compare_versions(
    reference: str, caller: Reader, service: ServiceOf, to: Annotated[str, Query(description="The newer version.")]
) -> wire.Difference:
    """How the contents of two versions differ."""
    with service.database.reads() as session:
        (old, old_shares), (new, new_shares) = (find_usable(session, caller, r) for r in (reference, to))
        unknown = [given for given, v in ((reference, old), (to, new)) if "package_count" not in v.contents]
        nothing = Contents()
        result = (
            difference(nothing, nothing) if unknown else difference(_contents(session, old), _contents(session, new))
        )
        regions = set(ready_regions(session, old)) & set(ready_regions(session, new))
        for shares in (old_shares, new_shares):
            allowed = in_regions(shares) if shares is not None else None
            regions = regions if allowed is None else regions & allowed
    changed = 0
    for region in sorted(regions)[:1]:
        store = service.reach.store(region)
        changed = len(store.get_manifest(new.id).changed_since(store.get_manifest(old.id))) * 65536
    return wire.Difference(
        added=result.added,
        removed=result.removed,
        changed=result.changed,
        services_added=list(result.services[0]),
        services_removed=list(result.services[1]),
        users_added=list(result.users[0]),
        users_removed=list(result.users[1]),
        changed_bytes=changed,
        unknown=unknown,
    )


def _contents(session: Session, version: Version) -> Contents:
    rows = session.scalars(select(VersionPackage).where(VersionPackage.version_id == version.id))
    packages_ = tuple(Package(r.name, r.version, r.architecture, r.manager) for r in rows)
    held = version.contents
    return Contents(held.get("os", {}), packages_, tuple(held.get("services", [])), tuple(held.get("users", [])))


@router.get(_REF + "/proof")
def proof(reference: str, caller: Reader, reads: ReadsOf) -> wire.Proof:
    """The proof sheet: what of the source was there, what was done about it, and what is there now."""
    with reads.session() as session:
        version, shares = find_usable(session, caller, reference)
        sheet = version.proof
        if sheet is None:
            raise NotFound(
                f"{reference} has no proof sheet: nobody could read its files, or it was taken over or made before there "
                "were any.",
                code="no-proof",
            )
        found = digest_of(sheet)
        made = wire.Proof.model_validate(
            {
                **sheet,
                "reference": reference_for(session, version, caller.account_id),
                "content_digest": version.content_digest,
                "mode": version.mode,
                "profile": (version.profile or {}).get("name"),
                "digest": f"sha256:{found['sha256']}" if found and version.signature is not None else "",
            }
        )
        if shares is None:
            return made
        rows = [row.model_copy(update={"done": []}) for row in made.rows]  # the steps are of the owner's profile
        return made.model_copy(update={"rows": rows, "profile": None})


@router.get(_REF + "/signature")
def signature(reference: str, caller: Reader, reads: ReadsOf) -> wire.Signature:
    """The signed record, as anybody can check it with the owner's public keys."""
    with reads.session() as session:
        version, _ = find_usable(session, caller, reference)
        if version.signature is None:
            raise NotFound(f"{reference} is not signed: it was made before versions were.")
        return wire.Signature(
            reference=reference_for(session, version, caller.account_id),
            envelope=version.signature,
            holds=bool(signed(session, version)),
        )


_NEEDED: tuple[Any, ...] = (Version.contents["needs"].label("needs"), Version.purpose, Version.disks)
_RESOLVED = Lookup(*_NEEDED)
#: The same of a version that the lookup does not find.
_FACTS = Statement(select(*_NEEDED).where(Version.id == bindparam("version")))


@router.get(_REF + "/resolution")
def resolve(
    reference: str, caller: Reader, service: ServiceOf, reads: ReadsOf, region: str | None = None
) -> wire.Resolution:
    """What another tool needs to launch this: refused for the same reasons as a launch."""
    version, row = found(_RESOLVED, reads, caller, reference)
    verdict = version.may_launch(version.reference, exact=parse_reference(reference).exact)
    if not verdict.allowed:
        raise Refused(" ".join(verdict.reasons), code="state-forbids")
    base, facts = None, row or _FACTS.first(reads.connection, version=version.id)
    if region:
        service.reach.check_region(region)
        with reads.session() as session:
            version.require_region(region)
            require_replica(session, version.id, version.reference, region, allowed=version.regions)
            base = session.scalar(
                select(BaseDisk).where(
                    BaseDisk.version_id == version.id, BaseDisk.region == region, BaseDisk.state == "ready"
                )
            )
    return wire.Resolution(
        reference=f"{version.owner}/{version.reference}",
        version_id=version.id,
        state=version.state,
        content_digest=version.content_digest,
        region=region,
        base_disk=base.site_disk if base else None,
        disk_bytes=version.virtual_bytes,
        disks=[
            wire.ResolvedDisk(role=disk["role"], bytes=disk["bytes"], base_disk=clone)
            for disk, clone in zip(facts.disks, base.all_disks if base else [None] * len(facts.disks), strict=True)
        ],
        needs=facts.needs,
        purpose=Purpose.model_validate(facts.purpose),
        warnings=list(verdict.warnings),
    )


@router.get(_REF + "/sunset-plan")
def sunset_plan(reference: str, caller: Reader, reads: ReadsOf, retire_on: date | None = None) -> Plan:
    """Who runs a version and what announcing its end would do."""
    with reads.session() as session:
        usage = usage_of(session, find_version(session, caller, reference))
        planned = usage.retire_on if usage.state == VersionState.RELEASED else None
        return _plan(plan_sunset(usage, retire_on or planned, utcnow().date()))


@router.get(_REF + "/retirement")
def retirement_plan(reference: str, caller: Reader, reads: ReadsOf) -> Plan:
    """Who still uses a version and what retiring it would do."""
    with reads.session() as session:
        return _plan(plan_retire(usage_of(session, find_version(session, caller, reference))))


@router.get(_REF + "/purging")
def purge_plan(reference: str, caller: Reader, reads: ReadsOf, waive_grace: bool = False) -> Plan:
    """What prevents a purge, and what it would remove."""
    with reads.session() as session:
        usage = usage_of(session, find_version(session, caller, reference))
        return _plan(plan_purge(usage, utcnow(), waive_grace=waive_grace))


def _plan(plan: RetirementPlan) -> Plan:
    return Plan(
        verb=plan.verb,
        subject=plan.subject,
        blockers=list(plan.blockers),
        warnings=list(plan.warnings),
        effects=list(plan.effects),
    )


# Changing


@router.post(_REF + "/release")
def release(reference: str, caller: Operator, service: ServiceOf) -> wire.Version:
    """Offer a version.  Refused while findings of high severity are open."""
    with service.database.sessions.begin() as session:
        version = find_version(session, caller, reference, lock="update")
        lifecycle.release(session, caller, version)
        return version_answer(session, version)


@router.post(_REF + "/findings/{finding}/acceptance")
def accept(
    reference: str, finding: str, body: wire.AcceptRequest, caller: Operator, service: ServiceOf
) -> wire.Finding:
    """Accept one finding by name, with a reason that is recorded."""
    with service.database.sessions.begin() as session:
        version = find_version(session, caller, reference, lock="share")
        row = session.get(Finding, (version.id, finding), with_for_update=CHANGE)
        if row is None:
            raise NotFound(
                f"{reference_of(version)} has no finding {finding!r}.", advice="`bathotype residue` lists them."
            )
        row.accepted_by, row.accepted_reason, row.accepted_at = caller.actor, body.reason, utcnow()
        audit.record(
            session,
            caller.account_id,
            caller.actor,
            "finding.accepted",
            reference_of(version),
            after={"finding": finding, "rule": row.rule, "path": row.path, "reason": body.reason},
        )
        return _finding(row)


@router.post(_REF + "/sunset")
def sunset(reference: str, body: wire.SunsetRequest, caller: Retirer, service: ServiceOf) -> wire.Version:
    """Put a version into sunset: launches warn, and it is retired automatically on ``retire_on``."""
    with service.database.sessions.begin() as session:
        version = find_version(session, caller, reference, lock="update")
        lifecycle.sunset(session, caller, version, body.retire_on)
        return version_answer(session, version)


@router.post(_REF + "/retire")
def retire(reference: str, caller: Retirer, service: ServiceOf) -> wire.Version:
    """Refuse new launches.  A launch recorded before this goes through; one after it is refused."""
    with service.database.sessions.begin() as session:
        version = find_version(session, caller, reference, lock="update")
        lifecycle.retire(session, caller, version)
        return version_answer(session, version)


@router.post(_REF + "/purge", status_code=202)
def purge(reference: str, body: wire.PurgeRequest, caller: Retirer, service: ServiceOf, key: Key = None) -> Operation:
    """Remove a retired version's bytes that nothing else needs; the record stays."""

    def make(session: Session) -> Operation:
        version = find_version(session, caller, reference, lock="update")
        row = lifecycle.purge(session, caller, version, waive_grace=body.waive_grace)
        return operation_answers(session, [row])[0]

    return Operation.model_validate(once(caller, service, key, body, make))


@router.post(_REF + "/verify", status_code=202)
def verify(reference: str, caller: Operator, service: ServiceOf, region: str) -> Operation:
    """Read every chunk of a version in a region and check it."""
    service.reach.check_region(region)
    with service.database.sessions.begin() as session:
        version = find_version(session, caller, reference)
        if version.state == VersionState.PURGED:
            raise Refused(f"{reference_of(version)} is purged: there is nothing to verify.", code="state-forbids")
        if session.get(Replica, (version.id, region)) is None:
            require_replica(session, version.id, reference_of(version), region)
        params = ReplicaParams(version_id=version.id, reference=reference_of(version), region=region)
        row = start_operation(session, caller, Verify, params.reference, params)
        return operation_answers(session, [row])[0]


@router.patch(_REF)
def change(
    reference: str, body: wire.ChangeRequest, caller: Operator, service: ServiceOf, conditions: Conditional
) -> wire.Version:
    """Change notes, pin-only, what it is for, or when it retires; a version's content and number never change."""
    with service.database.sessions.begin() as session:
        version = find_version(session, caller, reference, lock="update")
        conditions.check(reference_of(version), version_answer(session, version))
        wanted = body.model_dump(exclude_none=True, exclude={"retire_on"}, mode="json")
        if body.retire_on is not None:
            lifecycle.set_end(session, caller, version, None if body.retire_on == "never" else body.retire_on)
        before = {name: getattr(version, name) for name in wanted}
        for name, value in wanted.items():
            setattr(version, name, value)
        if wanted:
            audit.record(
                session, caller.account_id, caller.actor, "version.changed", reference_of(version),
                before=before, after=wanted,
            )  # fmt: skip
        return version_answer(session, version)


_HOLDS = Ordering(Hold.name, name=Hold.name, placed=Hold.placed_at)


@router.get(_REF + "/holds")
def list_holds(
    reference: str,
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    sort: Annotated[wire.HoldSort, Query(description=REVERSED)] = "name",
) -> Page[wire.Hold]:
    """The holds on a version."""
    with reads.session() as session:
        version = find_version(session, caller, reference)
        query = select(Hold).where(Hold.version_id == version.id)
        rows, following, total = paging.in_order(session, query, _HOLDS, sort)
        items = [wire.Hold.model_validate(row[0], from_attributes=True) for row in rows]
        return Page(items=items, next=following, total=total)


@router.post(_REF + "/holds", status_code=201)
def place_hold(reference: str, body: wire.HoldRequest, caller: Operator, service: ServiceOf) -> wire.Hold:
    """Forbid purging, for a named reason."""
    check_name(body.name, "hold")
    with service.database.sessions.begin() as session:
        version = find_version(session, caller, reference, lock="update")
        if version.state == VersionState.PURGED:
            raise Refused(f"{reference_of(version)} is purged already.", code="state-forbids")
        if session.get(Hold, (version.id, body.name)) is not None:
            raise Refused(f"{reference_of(version)} has a hold {body.name!r} already.", code="exists")
        row = Hold(version_id=version.id, name=body.name, reason=body.reason, placed_by=caller.actor)
        session.add(row)
        audit.record(
            session,
            caller.account_id,
            caller.actor,
            "hold.placed",
            reference_of(version),
            after={"hold": body.name, "reason": body.reason},
        )
        return wire.Hold.model_validate(row, from_attributes=True)


@router.delete(_REF + "/holds/{name}", status_code=204)
def lift_hold(reference: str, name: str, caller: Operator, service: ServiceOf) -> None:
    """Lift a hold."""
    with service.database.sessions.begin() as session:
        version = find_version(session, caller, reference, lock="update")
        row = session.get(Hold, (version.id, name))
        if row is None:
            raise NotFound(f"{reference_of(version)} has no hold {name!r}.")
        session.delete(row)
        audit.record(
            session, caller.account_id, caller.actor, "hold.lifted", reference_of(version), before={"hold": name}
        )


@router.get(_REF, response_model=wire.Version)
def show(reference: str, caller: Reader, reads: ReadsOf) -> wire.Version | Response:
    """One version by reference."""
    named = parse_reference(reference)
    if named.number and named.account in (None, caller.account):
        row = OWN.first(reads.connection, caller=caller.account_id, line=named.line, number=named.number)
        if row is not None:
            return sent(row.body.encode(), revision=row.revision)
    with reads.session() as session:
        return shown(session, caller, *find_usable(session, caller, named))
