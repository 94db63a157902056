"""Traces of the sources of earlier versions in what descends from them.

The scan knows the machine that a version is captured from.  Its disk may have begun as another version's, whose own
source left its name, its addresses, its machine id or its host keys in it: what was found there is here still, whatever
has been made of it since.
"""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.core.confined.judging import DIGESTS, FilesQuestion
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import BathotypeError
from bathotype.core.generalize.residue import Finding as Found
from bathotype.core.generalize.residue import SourceIdentity
from bathotype.core.store.materialise import StoredDisk
from bathotype.core.units import plural
from bathotype.service.operations.context import WorkContext
from bathotype.service.records import Finding, Replica, Version

#: What no record keeps the value of: it is known by the finding alone.
_UNRECORDED = ("source-machine-id", "source-host-key")
_PACKED = "!"
_MOST = 50  # versions that one descends from


def sources_before(session: Session, parent: str | None) -> tuple[SourceIdentity, ...]:
    """The names and addresses of the machines that a version, and those that it descends from, were captured from."""
    found: list[SourceIdentity] = []
    seen: set[str] = set()
    while parent is not None and parent not in seen and len(seen) < _MOST:
        seen.add(parent)
        version = session.get_one(Version, parent)
        name, address = version.source.get("host_name") or "", version.source.get("address")
        if name or address:
            found.append(SourceIdentity(name, addresses=(address,) if address else ()))
        parent = version.parent_id or version.adopted_from_id
    return tuple(found)


def keeps_identity(session: Session, version: Version) -> bool | None:
    """Whether a version keeps the identity of the machine that it was captured from; None where that is not known.

    An edit and an adoption change nothing about that: the version counts that the first of them was made from.
    """
    seen: set[str] = set()
    while version.mode in ("edit", "adopt") and version.id not in seen:
        seen.add(version.id)
        before = version.parent_id or version.adopted_from_id
        if before is None:
            return None
        version = session.get_one(Version, before)
    if version.mode in ("edit", "adopt"):
        return None
    return version.mode == "as-is" or (version.mode == "import" and version.profile is None)


def same_files(
    context: WorkContext, region: str, before: str, paths: Sequence[str], image: BlockSource, lost: str
) -> frozenset[str]:
    """Those of some paths at which a version and an image have files with the same bytes; none, and ``lost`` in the log,
    where that cannot be seen."""
    question = FilesQuestion(tuple(sorted({*paths})))
    try:
        store = context.store(region)
        then = context.reader.ask(DIGESTS, question, StoredDisk(store.get_manifest(before), store)).digests
        now = context.reader.ask(DIGESTS, question, image).digests
    except BathotypeError as error:
        context.log(f"{lost}: {error.message}", "warning")
        return frozenset()
    return frozenset(path for path in now if now[path] == then.get(path))


def file_of(path: str) -> str:
    """The file on the disk of a finding that may be in something packed."""
    return path.partition(_PACKED)[0]


def left_behind(
    context: WorkContext, region: str, parent: str | None, findings: Sequence[Found], image: BlockSource
) -> list[Found]:
    """What was found of its source's machine id and host keys in the version that this one is made from, in files that
    are the same still; but for what is among ``findings`` already."""
    known = {one.id for one in findings}
    with context.session() as session:
        here = session.get(Replica, (parent, region)) if parent else None
        if parent is None or here is None or here.state != "ready":
            return []
        query = select(Finding).where(Finding.version_id == parent, Finding.rule.in_(_UNRECORDED))
        before = [
            Found(row.name, row.rule, row.severity, row.path, row.line, row.excerpt, row.advice)
            for row in session.scalars(query.order_by(Finding.position))
            if row.name not in known
        ]
    if not before:
        return []
    lost = "What the version before still holds of its source cannot be seen"
    same = same_files(context, region, parent, [file_of(one.path) for one in before], image, lost)
    found = [one for one in before if file_of(one.path) in same]
    if found:
        context.log(f"{plural(len(found), 'finding')} of the version before still there.")
    return found
