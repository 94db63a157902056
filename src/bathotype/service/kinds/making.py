"""Making a version: what captures, imports and edits are asked, what they keep, and the steps that they share.

A version is made in three parts: its chunks are stored (`store_disk`), what was stored is judged (`judge_stored`), and
the version is recorded (`seal`).  Each part is a function of what it needs; a kind of operation calls them from its
steps."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from dataclasses import asdict, replace
from datetime import date, datetime
from typing import Any, TypeVar

from pydantic import BaseModel
from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.confined.changing import Changed, PlannedInside
from bathotype.core.confined.judging import JUDGE, JudgeQuestion
from bathotype.core.confined.looking import HOLDS, NEEDS
from bathotype.core.contents.inventory import Contents
from bathotype.core.contents.platform import Platform
from bathotype.core.disk.holding import Holding
from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.several import role_of
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import BathotypeError, Damaged, NotFound, Refused
from bathotype.core.generalize import residue
from bathotype.core.generalize.proof import Survey, done_about, proof_rows
from bathotype.core.lifecycle.numbers import sort_key
from bathotype.core.store.ingest import Unchanged, ingest
from bathotype.core.store.manifest import Manifest
from bathotype.core.store.materialise import damaged_rows, materialise
from bathotype.core.store.note import CaptureNote
from bathotype.core.units import iec, plural
from bathotype.service import audit
from bathotype.service.access.principals import Principal
from bathotype.service.chunks import RegionChunks, add_version, forget_chunks
from bathotype.service.kinds.acceptances import accept_as_before, still_accepted
from bathotype.service.kinds.descent import left_behind, sources_before
from bathotype.service.kinds.generalizing import chunks_before
from bathotype.service.kinds.scratch import image_path, new_image, open_copy
from bathotype.service.numbering import claim, claim_again, give_back
from bathotype.service.operations.context import WorkContext
from bathotype.service.operations.kind import Kind, Memo, Params
from bathotype.service.operations.start import start_operation
from bathotype.service.reach import Reach
from bathotype.service.records import Finding, Line, Operation, Replica, Version, VersionPackage
from bathotype.service.records.base import utcnow
from bathotype.service.signatures import KeyRing


class NumberedParams(Params):
    """Which version an operation makes; its number is reserved until the operation ends."""

    line_id: str
    line: str
    number: str
    version_id: str
    notes: str = ""
    #: What it is for; None takes over what the line's highest version is for.
    purpose: dict[str, Any] | None = None
    #: The day on which it retires by itself, if that is known already.
    retire_on: date | None = None

    @property
    def made(self) -> str:
        """``line@number`` of the version."""
        return f"{self.line}@{self.number}"


N = TypeVar("N", bound=NumberedParams)
M = TypeVar("M", bound=Memo)


def start_making(
    session: Session,
    caller: Principal,
    kind: type[Kind[N, M]],
    params: N,
    details: dict[str, Any],
    *,
    start_at: datetime | None = None,
) -> Operation:
    """Start an operation that makes a version, reserve the number for it, and record ``details`` in the event."""
    operation = start_operation(session, caller, kind, params.made, params, start_at=start_at)
    claim(session, params.line_id, params.number, operation.id)
    after = {**details, "operation": operation.id}
    audit.record(session, caller.account_id, caller.actor, f"{kind.name}.requested", params.made, after=after)
    return operation


class NumberedKind(Kind[N, M]):
    """An operation that has reserved the number of a version."""

    def on_end(self, session: Session, outcome: str) -> None:
        give_back(session, self.context.id)

    @classmethod
    def before_retry(cls, session: Session, reach: Reach, account_id: str, operation_id: str, params: N) -> None:
        claim_again(session, params.line_id, params.number, operation_id)


class MakingParams(NumberedParams):
    """Where the version's chunks are stored."""

    region: str


class StoredDisk(BaseModel):
    """One of the disks: its own content digest, its size, and how many of its bytes are stored."""

    digest: str
    bytes: int
    used: int


class Stored(BaseModel):
    """What was stored: the content digest, and sizes in bytes."""

    digest: str
    virtual: int
    used: int
    stored: int
    new: int
    disks: list[StoredDisk] = []


class MakingMemo(Memo):
    """``source`` and ``identity`` say where the disk comes from; the rest is what each step found."""

    source: dict[str, Any] = {}
    identity: dict[str, Any] = {}
    profile: dict[str, Any] | None = None
    steps: list[dict[str, Any]] = []
    ranges: list[tuple[int, int]] | None = None
    stored: Stored | None = None
    findings: list[dict[str, Any]] = []
    contents: dict[str, Any] = {}
    needs: Platform | None = None
    holds: tuple[Holding, ...] = ()
    before: Survey | None = None
    done_about: dict[str, list[str]] = {}
    used_before: int | None = None
    swap_before: int | None = None
    answers: dict[str, Any] | None = None
    after: Survey | None = None
    used_after: int | None = None
    #: The ids of findings that are accepted in a version before, with the id of that version.
    accepted: dict[str, str] = {}

    def take(self, done: Changed) -> None:
        """Remember what generalization did."""
        self.identity, self.steps, self.ranges = done.identity, list(done.planned.steps), list(done.ranges)
        self.done_about, self.before = done_about(done.planned.changes), done.before
        self.used_before, self.swap_before = done.used_before, done.swap_before

    def take_inside(self, done: PlannedInside) -> None:
        """Remember what generalization inside a clone did."""
        self.identity, self.steps = done.identity, list(done.planned.steps)
        self.done_about, self.before = done_about(done.planned.changes), done.before

    def proof(self) -> dict[str, Any] | None:
        """The proof sheet; None where nothing could be counted."""
        if self.before is None and self.after is None:
            return None
        stored = self.stored
        assert stored is not None
        rows = proof_rows(self.before, self.done_about, self.after, [residue.Finding(**f) for f in self.findings])
        return {
            "rows": [asdict(row) for row in rows],
            "files_before": asdict(self.before.files) if self.before else None,
            "files_after": asdict(self.after.files) if self.after else None,
            "disk_bytes": stored.virtual,
            "used_before": self.used_before,
            "swap_before": self.swap_before,
            "used_after": self.used_after or stored.used,
        }

    def judge(self, findings: Sequence[residue.Finding], contents: Contents | None) -> None:
        """Remember what the scan found; nothing is known of contents that nobody could read."""
        self.findings = [asdict(f) for f in findings]
        self.contents = {} if contents is None else contents.as_data()


P = TypeVar("P", bound=MakingParams)
K = TypeVar("K", bound=MakingMemo)


class MakingKind(NumberedKind[P, K]):
    """Base of the kinds that make a version from a disk."""

    def parent(self, session: Session) -> str | None:
        """Id of the version that this one descends from."""
        return None

    @property
    def known_identity(self) -> residue.SourceIdentity:
        """The identity that the scan looks for."""
        return self.with_sources_before(source_identity(self.memo.identity, self.memo.source))

    def with_sources_before(self, identity: residue.SourceIdentity) -> residue.SourceIdentity:
        """An identity to look for, and those of the sources of the versions that this one descends from."""
        with self.context.session() as session:
            before = sources_before(session, self.parent(session))
        return replace(identity, earlier=(*identity.earlier, *before))

    def store_disk(
        self, disk: BlockSource, used: Ranges, unchanged: Unchanged | None = None, *, taken: Ranges | None = None
    ) -> None:
        """Store the chunks that the region does not have yet.  ``taken`` is what is noted for the next capture, in whole
        blocks; what is used where it is left out."""
        context, params = self.context, self.params
        context.keep_chunks(params.region)
        store = context.store(params.region)
        known = RegionChunks(context.database, params.region, self._near())
        stored = ingest(disk, used, store, known, progress=context.progress, unchanged=unchanged)
        manifest = stored.manifest
        store.put_manifest(params.version_id, manifest)
        note = CaptureNote.of(used if taken is None else taken, chunks_before(context.scratch, manifest.size), manifest)
        store.put_note(params.version_id, note.dumps())
        context.log(f"{iec(stored.new_bytes)} new of {iec(manifest.data_bytes)}.")
        self.memo.ranges = None
        disks = [manifest.disk(number) for number in range(len(manifest.sizes))]
        self.memo.stored = Stored(
            digest=manifest.content_digest,
            virtual=sum(manifest.sizes),
            used=manifest.data_bytes,
            stored=manifest.stored_bytes,
            new=stored.new_bytes,
            disks=[StoredDisk(digest=d.content_digest, bytes=d.size, used=d.data_bytes) for d in disks],
        )
        self.save()

    def store_image(self) -> None:
        """Store the generalized copy."""
        used = Ranges.of(self.memo.ranges or [])
        with open_copy(self.context) as image:
            self.store_disk(image, used)

    def _near(self) -> list[Manifest]:
        """The parent's manifest, where its replica here is sound: most chunks are found in it, without the database."""
        context, params = self.context, self.params
        with context.session() as session:
            parent = self.parent(session)
            here = session.get(Replica, (parent, params.region)) if parent else None
            if here is None or here.state != "ready":
                return []
        try:
            return [context.store(params.region).get_manifest(here.version_id)]
        except BathotypeError as error:
            context.log(f"The manifest of {parent} cannot be used as a reference: {error.message}", "warning")
            return []

    def judge_stored(self, *, identity_kept: bool) -> None:
        """Read the version from its store, as a launch does, and scan it for residue and contents.

        A store may be far away: the bytes are fetched many at a time, each chunk is checked, and the scan reads the copy.
        """
        context, params = self.context, self.params
        context.keep_chunks(params.region)
        store = context.store(params.region)
        manifest = store.get_manifest(params.version_id)
        image_path(context).unlink(missing_ok=True)  # it is stored, and its room is needed
        back = new_image(context, manifest.sizes, manifest.data_bytes)
        try:
            materialise(manifest, store, back, progress=context.progress)
            with open_copy(context) as image:
                self.look_over(image)
                found = context.reader.ask(JUDGE, JudgeQuestion(self.known_identity, identity_kept), image)
                findings = self.with_left_behind(found.findings, image)
            self.memo.after, self.memo.used_after = found.survey, found.used_bytes
            self.judged(findings, found.contents)
        except Damaged:
            # It may rest on chunks that another version brought long ago: the next capture must store them anew.
            bad, _ = damaged_rows(manifest, store)
            forget_chunks(context.database, params.region, (digest.tobytes() for digest in manifest.digests[bad]))
            raise
        except Refused as error:
            self.judged(residue.unreadable(error.message), None)
        finally:
            back.close()

    def with_left_behind(self, findings: Sequence[residue.Finding], image: BlockSource) -> list[residue.Finding]:
        """The findings, with what the version that this one is made from has left in files that are the same; which of
        them were accepted in an earlier version is kept."""
        with self.context.session() as session:
            parent = self.parent(session)
        found = [*findings, *left_behind(self.context, self.params.region, parent, findings, image)]
        self.memo.accepted = still_accepted(self.context, self.params, parent, [asdict(one) for one in found], image)
        return found

    def look_over(self, image: BlockSource) -> None:
        """Keep what the disks need, and what each of them holds."""
        self.memo.needs = self.context.reader.ask(NEEDS, None, image)
        self.memo.holds = self.context.reader.ask(HOLDS, None, image)

    def judged(self, findings: Sequence[residue.Finding], contents: Contents | None) -> None:
        """Keep what was found."""
        high = sum(f.severity == "high" for f in findings)
        held = "what is installed cannot be listed" if contents is None else plural(len(contents.packages), "package")
        self.context.log(f"{plural(len(findings), 'finding')}, {high} of high severity; {held}.")
        self.memo.judge(findings, contents)
        self.save()

    def record_version(self, *, mode: str, told_source: str) -> None:
        """Record the version.  Doing it twice records it once."""
        with self.context.session() as session:
            if session.get(Version, self.params.version_id) is None:
                seal(session, self.context, self.params, self.memo, mode, self.parent(session), told_source)
                self.on_recorded(session)
        self.context.keep_chunks(self.params.region)
        manifest = self.context.store(self.params.region).get_manifest(self.params.version_id)
        add_version(self.context.database, self.params.region, self.params.version_id, manifest)

    def on_recorded(self, session: Session) -> None:
        """More to record in the transaction that records the version."""

    def clean_up(self, outcome: str) -> None:
        if outcome != "succeeded":
            with contextlib.suppress(NotFound):
                self.context.store(self.params.region).delete_manifest(self.params.version_id)

    def result(self) -> dict[str, Any]:
        stored = self.memo.stored
        assert stored is not None
        high = sum(f["severity"] == "high" for f in self.memo.findings)
        return {
            "reference": self.params.made,
            "version_id": self.params.version_id,
            "content_digest": stored.digest,
            "sizes": stored.model_dump(exclude={"digest", "disks"}),
            "findings": {"all": len(self.memo.findings), "high": high},
        }


def source_identity(identity: dict[str, Any], source: dict[str, Any]) -> residue.SourceIdentity:
    """What the scan looks for: names, ids, addresses and keys of the source."""
    addresses = {*identity.get("addresses", []), *([source["address"]] if source.get("address") else [])}
    return residue.SourceIdentity(
        identity.get("host_name", ""),
        identity.get("machine_id", ""),
        tuple(addresses),
        tuple(identity.get("host_keys", [])),
    )


def inherited_purpose(session: Session, line_id: str, parent: str | None) -> dict[str, Any]:
    """What the line's highest version is for, else the parent."""
    highest = select(Version.purpose).where(Version.line_id == line_id).order_by(Version.sort_key.desc()).limit(1)
    found = session.scalar(highest)
    if found is None and parent:
        found = session.scalar(select(Version.purpose).where(Version.id == parent))
    return dict(found or {})


def disk_records(memo: MakingMemo) -> list[dict[str, Any]]:
    """What a version's record says of each disk; nothing of the machine that it comes from."""
    assert memo.stored is not None
    stored = memo.stored
    disks = stored.disks or [StoredDisk(digest=stored.digest, bytes=stored.virtual, used=stored.used)]
    texts = [held.text for held in memo.holds] or [""] * len(disks)
    return [
        {"role": role_of(number), "bytes": disk.bytes, "used_bytes": disk.used, "holds": text, "digest": disk.digest}
        for number, (disk, text) in enumerate(zip(disks, texts, strict=True))
    ]


def seal(
    session: Session,
    context: WorkContext,
    params: MakingParams,
    memo: MakingMemo,
    mode: str,
    parent: str | None,
    told_source: str,
) -> None:
    """The version's record, its signature, its replica, its packages and its findings."""
    assert memo.stored is not None
    stored = memo.stored
    line = session.get_one(Line, params.line_id)
    contents = dict(memo.contents)
    packages = contents.pop("packages", [])
    if memo.contents:  # else nothing is known of them
        contents["package_count"] = len(packages)
    if memo.needs is not None:
        contents["needs"] = asdict(memo.needs)
    if memo.answers is not None:
        contents["answers"] = memo.answers
    version = Version(
        id=params.version_id,
        line_id=line.id,
        number=params.number,
        sort_key=sort_key(params.number),
        state="staged",
        pin_only=False,
        notes=params.notes,
        content_digest=stored.digest,
        virtual_bytes=stored.virtual,
        disks=disk_records(memo),
        used_bytes=stored.used,
        stored_bytes=stored.stored,
        new_bytes=stored.new,
        mode=mode,
        source={**memo.source, "host_name": memo.identity.get("host_name", "")},
        parent_id=parent,
        profile=memo.profile,
        steps=memo.steps,
        contents=contents,
        proof=memo.proof(),
        purpose=params.purpose if params.purpose is not None else inherited_purpose(session, line.id, parent),
        retire_on=params.retire_on,
        operation_id=context.id,
    )
    session.add(version)
    session.flush()
    session.refresh(version)
    KeyRing(context.settings).sign(session, version)
    session.add(Replica(version_id=version.id, region=params.region, state="ready", verified_at=utcnow()))
    rows = {(p["name"], p["architecture"], p["version"]): p for p in packages}
    session.add_all(VersionPackage(version_id=version.id, **p) for p in rows.values())
    for position, finding in enumerate(memo.findings):
        fields = {k: v for k, v in finding.items() if k != "id"}
        session.add(Finding(version_id=version.id, name=finding["id"], position=position, **fields))
    session.flush()
    accept_as_before(session, version, memo.accepted)
    audit.record(
        session,
        context.account_id,
        context.created_by,
        "version.staged",
        params.made,
        after={
            "content_digest": stored.digest,
            "source": told_source,
            "mode": mode,
            **({"accepted": sorted(memo.accepted)} if memo.accepted else {}),
        },
    )
