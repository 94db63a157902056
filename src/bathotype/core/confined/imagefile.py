"""Image files of imports: what they hold, and the bytes of the disk in them."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass

from bathotype.core.confined.changing import Planned
from bathotype.core.confined.looking import Look, look_at
from bathotype.core.confined.task import Bench, Task
from bathotype.core.contents.inventory import Contents, read_contents
from bathotype.core.contents.platform import Platform, read_platform
from bathotype.core.disk.several import disks_of
from bathotype.core.disk.signatures import other_file
from bathotype.core.disk.source import Masked
from bathotype.core.errors import BathotypeError, Damaged, Refused
from bathotype.core.formats.catalogue import open_image, recognise
from bathotype.core.formats.ovf import OvaDisks
from bathotype.core.formats.packed import packing_of, unpacked
from bathotype.core.generalize import residue
from bathotype.core.generalize.identity import identity_of
from bathotype.core.generalize.plan import plan
from bathotype.core.generalize.profile import Profile
from bathotype.core.guest.files import GuestDisk

_PIECE, _GAP = 4 * 1024 * 1024, 64 * 1024
#: The packing of an archive whose disks are packed each by itself.
IN_ARCHIVE = "ova"


@dataclass(frozen=True)
class FileQuestion:
    """The format, where somebody named it."""

    form: str | None = None


@dataclass(frozen=True)
class PackedQuestion:
    """How a file is packed, and how many bytes it may hold at most."""

    packing: str
    most: int


@dataclass(frozen=True)
class ImageLook:
    """The disk in a file, or several: format and size of all, and what is on them, or why that is not known.

    ``has_digests`` says that the file can be checked by `CHECK`.
    """

    format: str
    size: int
    has_digests: bool
    look: Look | None
    platform: Platform
    broken: tuple[str, str] = ("", "")
    #: How many snapshots of the disk the file holds besides.
    checkpoints: int = 0
    #: The size of each disk.
    disks: tuple[int, ...] = ()


@dataclass(frozen=True)
class PreviewQuestion:
    """The format, where somebody named it, and the profile; None keeps the identity."""

    form: str | None = None
    profile: Profile | None = None


@dataclass(frozen=True)
class Preview:
    """What a profile would change on the disk in a file, and what the residue scan would still find then."""

    planned: Planned
    findings: tuple[residue.Finding, ...]
    contents: Contents


def _look(bench: Bench, question: FileQuestion) -> ImageLook:
    image = open_image(bench.sources[0], question.form)
    disks = disks_of(image.disk)
    kind, size, digests = image.format, sum(disks), image.check is not None
    try:
        look, disk = look_at(image.disk, whole_blocks=False)
    except Damaged as error:
        return ImageLook(kind, size, digests, None, Platform((), ""), (error.message, error.advice), disks=disks)
    return ImageLook(
        kind,
        size,
        digests,
        look,
        read_platform(disk, look.layout),
        checkpoints=getattr(image.disk, "snapshots", 0),
        disks=disks,
    )


def _preview(bench: Bench, question: PreviewQuestion) -> Preview:
    look, view = look_at(open_image(bench.sources[0], question.form).disk, whole_blocks=False)
    masked = Masked(view, look.used)
    seen = GuestDisk.seen(masked)
    disk = seen if question.profile is None else GuestDisk.open(masked)
    identity = identity_of(disk, {})
    source = residue.SourceIdentity(identity["host_name"], identity["machine_id"])
    found = residue.scan(seen, source, identity_kept=question.profile is None)
    if question.profile is None:
        return Preview(Planned((), (), 0), tuple(found), read_contents(disk))
    planned = plan(question.profile, disk, host_name=identity["host_name"])
    gone = {os.fsdecode(os.fsencode(path)) for path in (*planned.removed, *planned.written)}
    return Preview(
        Planned.of(planned), tuple(f for f in found if f.path.partition("!")[0] not in gone), read_contents(disk)
    )


def _beginning(bench: Bench, question: PackedQuestion) -> None:
    if question.packing == IN_ARCHIVE:
        return
    head = next(unpacked(bench.sources[0], question.packing, question.most), b"")
    if about := other_file(head):
        raise Refused(f"The file that is packed in it is {about}, which cannot be read here.", code="format-unknown")


def _check(bench: Bench, question: FileQuestion) -> bool:
    image = open_image(bench.sources[0], question.form)
    return image.check is not None and image.check(bench.progress)


def _bring(bench: Bench, question: FileQuestion) -> None:
    look, disk = look_at(open_image(bench.sources[0], question.form).disk, whole_blocks=False)
    visible = Masked(disk, look.used)
    for start, end in look.used.joined(_GAP):
        for at in range(start, end, _PIECE):
            bench.piece(at, visible.read(at, min(_PIECE, end - at)))


def _packing(bench: Bench, question: FileQuestion) -> str | None:
    file = bench.sources[0]
    if question.form == "raw":
        return None
    if packing := packing_of(file):
        return packing
    with suppress(BathotypeError):  # whoever reads it reports what is wrong with it
        if (question.form or recognise(file)) == "ova" and OvaDisks(file).packed:
            return IN_ARCHIVE
    return None


def _inner(bench: Bench, question: PackedQuestion) -> Iterator[bytes]:
    """What is in a packed file, or the archive with its disks unpacked.  An archive's digests are compared first."""
    if question.packing != IN_ARCHIVE:
        return unpacked(bench.sources[0], question.packing, question.most)
    archive = OvaDisks(bench.sources[0])
    archive.check(bench.progress)
    return archive.unpacked(question.most, bench.progress)


def _unpack(bench: Bench, question: PackedQuestion) -> int:
    size = 0
    for piece in _inner(bench, question):
        bench.piece(size, piece)
        size += len(piece)
    return size


#: What is in an image file.
LOOK_INTO = Task("imagefile.look", FileQuestion, ImageLook, _look)
#: What an import would change on the disk, and what residue would be left.
PREVIEW = Task("imagefile.preview", PreviewQuestion, Preview, _preview, seconds=120)
#: Whether a packed file can be unpacked, and holds what can be read, as far as its beginning shows.
BEGINNING = Task("imagefile.beginning", PackedQuestion, type(None), _beginning)
#: Checks the digests that an archive lists; False where it lists none.
CHECK = Task("imagefile.check", FileQuestion, bool, _check)
#: The used bytes of the disk, piece by piece.
BRING = Task("imagefile.bring", FileQuestion, type(None), _bring)
#: How a file is packed that is to be unpacked first; None where it is not, or where its bytes are said to be the disk.
PACKING = Task("imagefile.packing", FileQuestion, str | None, _packing)
#: What is in a packed file, piece by piece; the answer is its size.
UNPACK = Task("imagefile.unpack", PackedQuestion, int, _unpack)

TASKS = {
    "look": LOOK_INTO,
    "preview": PREVIEW,
    "beginning": BEGINNING,
    "check": CHECK,
    "bring": BRING,
    "packing": PACKING,
    "unpack": UNPACK,
}
