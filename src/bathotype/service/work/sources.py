"""Where an import's file comes from, opened as a disk, and everything that could stand in its way."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy.orm import Session

from bathotype.core.contents.platform import Platform, read_platform
from bathotype.core.disk.layout import Layout, read_layout, used_ranges
from bathotype.core.disk.source import ByteSource
from bathotype.core.errors import BathotypeError, Damaged, NotFound, Refused
from bathotype.core.formats.catalogue import OpenedImage, open_image
from bathotype.core.generalize.profile import Profile
from bathotype.core.store.objects import s3_object
from bathotype.core.units import iec
from bathotype.service.auth import Principal
from bathotype.service.places import Reach
from bathotype.service.records import Upload
from bathotype.wire.machines import Remark

_URL = re.compile(r"s3://([^/]+)/(.+)")
_ENCRYPTED = {"luks": "LUKS", "bitlocker": "BitLocker"}


@dataclass
class Examined:
    """What was found out about a file to import."""

    source: str
    image: OpenedImage | None = None
    layout: Layout | None = None
    platform: Platform = field(default_factory=lambda: Platform((), ""))
    used_bytes: int | None = None
    remarks: list[Remark] = field(default_factory=list)

    @property
    def importable(self) -> bool:
        """Whether nothing forbids the import."""
        return not any(r.outcome == "obstacle" for r in self.remarks)

    def note(self, outcome: str, check: str, why: str, advice: str = "") -> None:
        """Add a remark."""
        self.remarks.append(Remark(check=check, outcome=outcome, why=why, advice=advice))  # type: ignore[arg-type]

    def refusal(self) -> BathotypeError:
        """The error that tells all obstacles."""
        obstacles = [r for r in self.remarks if r.outcome == "obstacle"]
        return Refused(
            f"{self.source} cannot be imported: {' '.join(r.why for r in obstacles)}",
            advice=" ".join(r.advice for r in obstacles if r.advice),
            code="import-refused",
        )


def open_source(reach: Reach, account: str, upload: Upload | None, url: str | None) -> tuple[str, ByteSource]:
    """Name and bytes of the file.  Raises with the reason within seconds where it cannot be read."""
    if upload is not None:
        return upload.name, reach.store(upload.region).open_upload(upload.id, upload.size, upload.part_bytes)
    match = _URL.fullmatch(url or "")
    assert match is not None  # the request's schema saw to that
    settings = reach.places.buckets.get(match[1])
    if settings is None or account not in settings.accounts:
        allowed = sorted(name for name, b in reach.places.buckets.items() if account in b.accounts)
        raise Refused(
            f"{account} may not read bucket {match[1]!r}.",
            advice=f"Add it under `buckets` in the regions file. Now there: {', '.join(allowed) or 'none'}.",
            code="source-unknown",
        )
    return str(url), s3_object(match[1], match[2], settings.store_settings)


def find_upload(session: Session, caller: Principal, upload_id: str) -> Upload:
    """An upload of the caller's account."""
    upload = session.get(Upload, upload_id)
    if upload is None or upload.account_id != caller.account_id:
        raise NotFound(f"There is no upload {upload_id}.", advice="It may have expired: run the import again.")
    return upload


def examine(
    reach: Reach,
    account: str,
    *,
    upload: Upload | None,
    url: str | None,
    form: str | None,
    region: str,
    profile: Profile | None,
    scratch_bytes: int,
) -> Examined:
    """Look at source, format, partition table, boot mode, architecture and limits, changing nothing."""
    found = Examined(url or (upload.name if upload else ""))
    try:
        name, file = open_source(reach, account, upload, url)
    except BathotypeError as error:
        found.note("obstacle", "source", error.message, error.advice)
        return found
    found.source = name
    found.note("ok", "source", f"{iec(file.size)} can be read.")
    try:
        found.image = open_image(file, form)
        disk = found.image.disk
        found.note("ok", "format", f"{found.image.format}, a disk of {iec(disk.size)}.")
        _limits(found, reach, account, region)
        _layout(found, profile, scratch_bytes)
    except BathotypeError as error:
        found.note("obstacle", "format", error.message, error.advice or "See whether the file is whole.")
    return found


def _limits(found: Examined, reach: Reach, account: str, region: str) -> None:
    assert found.image is not None
    try:
        reach.store(reach.check_region(region))
        limits = reach.site(region, account).limits()
    except BathotypeError as error:
        found.note("obstacle", "region", error.message, error.advice)
        return
    size = found.image.disk.size
    if size > limits.largest_disk:
        found.note(
            "obstacle", "size", f"The disk has {iec(size)}; the site takes {iec(limits.largest_disk)} at most.",
            "Shrink the disk where it was made.",
        )  # fmt: skip
    elif size % 512 or not size:
        found.note("obstacle", "size", f"The disk has {size} bytes, which is no whole number of sectors of 512 bytes.")
    else:
        found.note("ok", "size", f"The site in {region} takes disks up to {iec(limits.largest_disk)}.")


def _layout(found: Examined, profile: Profile | None, scratch_bytes: int) -> None:
    assert found.image is not None
    disk = found.image.disk
    try:
        found.layout = layout = read_layout(disk)
    except Damaged as error:
        found.note("obstacle", "partitions", error.message, error.advice)
        return
    schemes = {"gpt": "GPT", "mbr": "MBR", "none": "no partition table"}
    kinds = ", ".join(f"{v.number}: {v.filesystem}" for v in layout.volumes)
    found.note("ok", "partitions", f"{schemes[layout.scheme]}; {kinds}.")
    for volume in layout.volumes:
        if volume.filesystem in _ENCRYPTED:
            found.note(
                "obstacle", "encryption",
                f"Partition {volume.number} is encrypted ({_ENCRYPTED[volume.filesystem]}).",
                "Import a disk that is not encrypted inside; encrypt at the site instead.",
            )  # fmt: skip
        elif not volume.understood:
            found.note(
                "warning", "file-system",
                f"Partition {volume.number} ({volume.filesystem}) is taken whole, also its free space.",
            )  # fmt: skip
    _boot(found, layout)
    root = layout.root(disk)
    if root is None and profile is not None:
        found.note(
            "obstacle", "file-system", "There is no ext4 file system with an operating system to generalize.",
            "Import it with --as-is.",
        )  # fmt: skip
    if profile is not None and profile.runs_inside:
        found.note(
            "obstacle", "profile", f"Profile {profile.name} has steps that run inside a machine.",
            "Use another profile, or --as-is.",
        )  # fmt: skip
    found.used_bytes = used_ranges(disk, layout).total
    if found.used_bytes > scratch_bytes:
        found.note(
            "obstacle", "scratch", f"{iec(found.used_bytes)} are in use; there are {iec(scratch_bytes)} of scratch space.",
            "Raise BATHOTYPE_SCRATCH_BYTES on the workers.",
        )  # fmt: skip


def _boot(found: Examined, layout: Layout) -> None:
    assert found.image is not None
    platform = found.platform = read_platform(found.image.disk, layout)
    if platform.boot:
        found.note("ok", "boot", f"It boots by {' and '.join(platform.boot)}.")
    else:
        found.note("warning", "boot", "No boot code and no UEFI loader was found.", "Instances may not start from it.")
    if not platform.architecture:
        found.note("warning", "architecture", "It cannot be told for which processor it is made.")
    elif platform.architecture != "x86_64":
        found.note(
            "obstacle", "architecture", f"It is made for {platform.architecture}; the sites run x86_64.",
            "Import the build for x86_64.",
        )  # fmt: skip
    else:
        found.note("ok", "architecture", platform.architecture)


def source_record(found: Examined, url: str | None) -> dict[str, Any]:
    """What a version's record tells about where it comes from."""
    return {
        "file": url or found.source,
        "format": found.image.format if found.image else "",
        "boot": list(found.platform.boot),
        "architecture": found.platform.architecture,
    }
