"""Judging what was stored: the scan for residue, and what is installed."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass, replace

from bathotype.core.confined.task import Bench, Task
from bathotype.core.contents.inventory import Contents, read_contents
from bathotype.core.disk.diskfile import Unreadable
from bathotype.core.disk.layout import used_ranges
from bathotype.core.errors import Damaged, Refused
from bathotype.core.generalize import residue
from bathotype.core.generalize.proof import Survey, survey
from bathotype.core.guest.archive import TarTree
from bathotype.core.guest.files import GuestDisk
from bathotype.core.store.chunks import digest


@dataclass(frozen=True)
class JudgeQuestion:
    """Whose identity is looked for, whether it is kept on purpose, and whether a profile could reach every volume, since it
    was applied in the running system."""

    source: residue.SourceIdentity
    identity_kept: bool = False
    reached: bool = False


@dataclass(frozen=True)
class Judged:
    """What was found."""

    findings: tuple[residue.Finding, ...]
    #: None where nobody knows how to read them.
    contents: Contents | None
    survey: Survey | None
    #: Bytes of the disk that are in use; 0 where it is an archive.
    used_bytes: int = 0


def _disk(bench: Bench, question: JudgeQuestion) -> Judged:
    disk = GuestDisk.seen(bench.sources[0])
    try:
        findings = residue.scan(disk, question.source, identity_kept=question.identity_kept, reached=question.reached)
    except Damaged as error:
        if disk.holds_system:
            raise
        raise Refused(error.message, advice=error.advice) from error  # data alone: captured as it is
    if not disk.holds_system or disk.root.filesystem == "ntfs":  # what is counted and listed is what other systems have
        return Judged(tuple(findings), None, None, _used(disk))
    contents = replace(read_contents(disk), root_bytes=disk.root.length, root_last=disk.root_is_last)
    return Judged(tuple(findings), contents, survey(disk, question.source.host_name), _used(disk))


def _used(disk: GuestDisk) -> int:
    return used_ranges(disk.source, disk.layout).total


def _archive(bench: Bench, question: JudgeQuestion) -> Judged:
    tree = TarTree(bench.sources[0])
    findings = tuple(residue.scan(tree, question.source))
    return Judged(findings, read_contents(tree), survey(tree, question.source.host_name))


@dataclass(frozen=True)
class FilesQuestion:
    """Paths on a disk."""

    paths: tuple[str, ...]


@dataclass(frozen=True)
class FileDigests:
    """BLAKE3 of each file's bytes, by its path; what is no file, or larger than the scan reads whole, is left out."""

    digests: dict[str, str]


def _digests(bench: Bench, question: FilesQuestion) -> FileDigests:
    disk = GuestDisk.seen(bench.sources[0])
    found = {}
    for path in question.paths:
        node = disk.entries.get(path)
        if node is not None and node.is_file and node.size <= residue.MOST_FILE:
            with suppress(Unreadable):
                found[path] = digest(disk.content(path)).hex()
    return FileDigests(found)


#: Scans a disk.  Raises `Refused` where no operating system can be read on it.
JUDGE = Task("judging.disk", JudgeQuestion, Judged, _disk, seconds=3600)
#: Scans an archive of a guest's files.
JUDGE_ARCHIVE = Task("judging.archive", JudgeQuestion, Judged, _archive, seconds=3600)

#: What files hold, to be compared with those of another disk.
DIGESTS = Task("judging.digests", FilesQuestion, FileDigests, _digests)

TASKS = {"disk": JUDGE, "archive": JUDGE_ARCHIVE, "digests": DIGESTS}
