"""Judging what was stored: the scan for residue, and what is installed."""

from __future__ import annotations

from dataclasses import dataclass, replace

from bathotype.core.confined.task import Bench, Task
from bathotype.core.contents.inventory import Contents, read_contents
from bathotype.core.disk.layout import used_ranges
from bathotype.core.generalize import residue
from bathotype.core.generalize.proof import Survey, survey
from bathotype.core.guest.archive import TarTree
from bathotype.core.guest.files import GuestDisk
from bathotype.core.store.chunks import digest


@dataclass(frozen=True)
class JudgeQuestion:
    """Whose identity is looked for, and whether it is kept on purpose."""

    source: residue.SourceIdentity
    identity_kept: bool = False


@dataclass(frozen=True)
class Judged:
    """What was found."""

    findings: tuple[residue.Finding, ...]
    contents: Contents
    survey: Survey
    #: Bytes of the disk that are in use; 0 where it is an archive.
    used_bytes: int = 0


def _disk(bench: Bench, question: JudgeQuestion) -> Judged:
    disk = GuestDisk.open(bench.sources[0])
    findings = residue.scan(disk, question.source, layout=disk.layout, identity_kept=question.identity_kept)
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
    disk = GuestDisk.open(bench.sources[0])
    found = {}
    for path in question.paths:
        node = disk.entries.get(path)
        if node is not None and node.is_file and node.size <= residue.MOST_FILE:
            found[path] = digest(disk.content(path)).hex()
    return FileDigests(found)


#: Scans a disk.  Raises `Refused` where no operating system can be read on it.
JUDGE = Task("judging.disk", JudgeQuestion, Judged, _disk, seconds=3600)
#: Scans an archive of a guest's files.
JUDGE_ARCHIVE = Task("judging.archive", JudgeQuestion, Judged, _archive, seconds=3600)

#: What files hold, to be compared with those of another disk.
DIGESTS = Task("judging.digests", FilesQuestion, FileDigests, _digests)

TASKS = {"disk": JUDGE, "archive": JUDGE_ARCHIVE, "digests": DIGESTS}
