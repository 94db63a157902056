"""The image file of an import: opened as a disk, and checked for everything that would make the import fail."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from bathotype.core.confined.imagefile import (
    BEGINNING,
    IN_ARCHIVE,
    LOOK_INTO,
    PACKING,
    PREVIEW,
    FileQuestion,
    ImageLook,
    PackedQuestion,
    Preview,
    PreviewQuestion,
)
from bathotype.core.confined.reader import ConfinedReader
from bathotype.core.contents.platform import Platform, PlatformOffered, unmet
from bathotype.core.disk.several import role_of
from bathotype.core.disk.source import ByteSource
from bathotype.core.errors import BathotypeError
from bathotype.core.generalize.profile import Profile
from bathotype.core.units import iec, plural
from bathotype.service.buckets import bucket_object
from bathotype.service.reach import Reach
from bathotype.service.records import Upload
from bathotype.service.remarks import Remarks

#: An image file's own tables come on top of the disk, in bytes.
MORE_THAN_THE_DISK = 1 << 30
#: A file whose disk has more in use is not scanned before its import.
_MOST_AHEAD = 4 << 30
_ENCRYPTED = {"luks": "LUKS", "bitlocker": "BitLocker"}


@dataclass
class Examined:
    """What was found out about a file to import."""

    source: str
    file: ByteSource | None = None
    image: ImageLook | None = None
    platform: Platform = field(default_factory=lambda: Platform((), ""))
    used_bytes: int | None = None
    preview: Preview | None = None
    remarks: Remarks = field(default_factory=Remarks)

    @property
    def importable(self) -> bool:
        """Whether nothing forbids the import."""
        return not self.remarks.obstacles

    def refuse(self) -> None:
        """Raise `Refused` with every obstacle, if there is one."""
        self.remarks.refuse(f"{self.source} cannot be imported", "import-refused")


def open_source(reach: Reach, account: str, upload: Upload | None, url: str | None) -> tuple[str, ByteSource]:
    """Name and bytes of the file.  Raises with the reason within seconds where it cannot be read."""
    if upload is not None:
        return upload.name, reach.store(upload.region).open_upload(upload.id, upload.size, upload.part_bytes)
    assert url is not None  # the request's schema saw to that
    return url, bucket_object(reach, account, url, to="read").open()


def examine(
    reader: ConfinedReader,
    reach: Reach,
    account: str,
    *,
    upload: Upload | None,
    url: str | None,
    form: str | None,
    region: str,
    profile: Profile | None,
    scratch_bytes: int,
    inner: ByteSource | None = None,
) -> Examined:
    """Look at source, format, partition table, boot mode, architecture and limits, changing nothing.

    Of a packed file no more than its beginning can be looked at, unless ``inner`` is what was unpacked of it.
    """
    found = Examined(url or (upload.name if upload else ""))
    try:
        name, file = open_source(reach, account, upload, url)
    except BathotypeError as error:
        found.remarks.forbid("source", error.message, error.advice)
        return found
    found.source = name
    found.remarks.ok("source", f"{iec(file.size)} can be read.")
    try:
        if inner is not None:
            file = inner
        elif packing := reader.ask(PACKING, FileQuestion(form), file):
            reader.ask(BEGINNING, PackedQuestion(packing, file.size + MORE_THAN_THE_DISK), file)
            about = f"It is {packed_in_words(packing)}: it is unpacked first, and what is in it is looked at then."
            found.remarks.ok("format", about)
            return found
        found.file, found.image = file, reader.ask(LOOK_INTO, FileQuestion(form), file)
        found.remarks.ok("format", f"{found.image.format}, {_disks(found.image)}.")
        offered = _limits(found, reach, account, region)
        _layout(found, found.image, profile, scratch_bytes, offered, region)
    except BathotypeError as error:
        found.remarks.forbid("format", error.message, error.advice or "See whether the file is whole.")
    return found


def _disks(image: ImageLook) -> str:
    """The disks in a file, in words."""
    if len(image.disks) == 1:
        return f"a disk of {iec(image.size)}"
    return f"{len(image.disks)} disks: " + ", ".join(f"{role_of(n)} {iec(size)}" for n, size in enumerate(image.disks))


def look_ahead(found: Examined, reader: ConfinedReader, form: str | None, profile: Profile | None) -> None:
    """Try the import's profile and scan on the file as it lies there, where it is not too large for that."""
    if found.file is None or found.image is None or not found.importable:
        return
    look = found.image.look
    if look is None or not (look.has_root or (profile is None and any(v.shown for v in look.layout.volumes))):
        return
    if (found.used_bytes or 0) > _MOST_AHEAD:
        about = f"More than {iec(_MOST_AHEAD)} are in use: what a profile changes and leaves is seen in the import."
        found.remarks.ok("residue", about)
        return
    try:
        ahead = found.preview = reader.ask(PREVIEW, PreviewQuestion(form, profile), found.file)
    except BathotypeError as error:
        found.remarks.warn("residue", f"It could not be scanned ahead: {error.message}", error.advice)
        return
    if profile is not None:
        count, gone = len(ahead.planned.changes), iec(ahead.planned.total_bytes)
        found.remarks.ok(
            "profile", f"Profile {profile.name} changes {plural(count, 'path')} on the copy; {gone} go away."
        )
    high = [f for f in ahead.findings if f.severity == "high"]
    if high:
        some = ", ".join(sorted({f.path for f in high})[:5]) + (", ..." if len({f.path for f in high}) > 5 else "")
        found.remarks.warn(
            "residue",
            f"{plural(len(high), 'finding')} of high severity would be left: {some}.",
            "Remove them where the disk was made, add steps to the profile, or accept each before the release.",
        )
    else:
        found.remarks.ok("residue", f"{plural(len(ahead.findings), 'finding')} would be left, none of high severity.")


def packed_in_words(packing: str) -> str:
    """How a file is packed, in words that follow its name."""
    return "an archive of disks packed with gzip" if packing == IN_ARCHIVE else f"packed with {packing}"


def _limits(found: Examined, reach: Reach, account: str, region: str) -> PlatformOffered:
    """Hold its size against what the site takes; returns what machines there have."""
    assert found.image is not None
    try:
        reach.store(reach.check_region(region))
        limits = reach.site(region, account).limits()
    except BathotypeError as error:
        found.remarks.forbid("region", error.message, error.advice)
        return PlatformOffered()
    size = max(found.image.disks)
    if size > limits.largest_disk:
        found.remarks.forbid(
            "size",
            f"The disk has {iec(size)}; the site takes {iec(limits.largest_disk)} at most.",
            "Shrink the disk where it was made.",
        )
    elif odd := [size for size in found.image.disks if size % 512 or not size]:
        found.remarks.forbid("size", f"The disk has {odd[0]} bytes, which is no whole number of sectors of 512 bytes.")
    else:
        found.remarks.ok("size", f"The site in {region} takes disks up to {iec(limits.largest_disk)}.")
    return limits.platform(region)


def _layout(
    found: Examined,
    image: ImageLook,
    profile: Profile | None,
    scratch_bytes: int,
    offered: PlatformOffered,
    region: str,
) -> None:
    if image.look is None:
        found.remarks.forbid("partitions", *image.broken)
        return
    layout = image.look.layout
    schemes = {"gpt": "GPT", "mbr": "MBR", "none": "no partition table"}
    kinds = ", ".join(f"{v.key}: {v.filesystem}" for v in layout.volumes)
    found.remarks.ok("partitions", f"{schemes[layout.scheme]}; {kinds}.")
    for remark in layout.remarks:
        found.remarks.warn("partitions", remark)
    for volume in layout.volumes:
        if volume.filesystem in _ENCRYPTED:
            found.remarks.forbid(
                "encryption",
                f"{volume.title} is encrypted ({_ENCRYPTED[volume.filesystem]}).",
                "Import a disk that is not encrypted inside; encrypt at the site instead.",
            )
        elif volume.caution:
            found.remarks.warn("file-system", volume.caution)
    _boot(found, image.platform, offered, region)
    if not image.look.has_root and profile is not None:
        found.remarks.forbid(
            "file-system",
            "There is no ext4 file system with an operating system to generalize.",
            "Import it with --as-is.",
        )
    if profile is not None and profile.own_tool is not None:
        found.remarks.forbid(
            "profile",
            f"Profile {profile.name} is for systems that {profile.own_tool.tool} prepares: a disk alone cannot run it.",
            "Run it where the disk was made, then import the disk with --as-is.",
        )
    if profile is not None and profile.runs_inside:
        found.remarks.forbid(
            "profile",
            f"Profile {profile.name} has steps that run inside a machine.",
            "Use another profile, or --as-is.",
        )
    found.used_bytes = image.look.used.total
    if found.used_bytes > scratch_bytes:
        found.remarks.forbid(
            "scratch",
            f"{iec(found.used_bytes)} are in use; there are {iec(scratch_bytes)} of scratch space.",
            "Raise BATHOTYPE_SCRATCH_BYTES on the workers.",
        )


def _boot(found: Examined, platform: Platform, offered: PlatformOffered, region: str) -> None:
    found.platform = platform
    if platform.boot:
        found.remarks.ok("boot", f"It boots by {' and '.join(platform.boot)}.")
    else:
        found.remarks.warn("boot", "No boot code and no UEFI loader was found.", "Instances may not start from it.")
    if not platform.architecture:
        found.remarks.warn("architecture", "The processor architecture could not be recognised.")
    elif not offered.architectures or platform.architecture in offered.architectures:
        found.remarks.ok("architecture", platform.architecture)
    for why in unmet(platform, offered, region):
        advice = "Import it in another region, or a build that is made for these machines."
        found.remarks.forbid("needs", why, advice)


def source_record(found: Examined, url: str | None) -> dict[str, Any]:
    """What a version's record says about its origin."""
    return {
        "file": url or found.source,
        "format": found.image.format if found.image else "",
        "boot": list(found.platform.boot),
        "architecture": found.platform.architecture,
    }
