"""A version as a file of a format: laid out, and its digest once that is known."""

from __future__ import annotations

import hashlib
import threading
import zlib
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass

from bathotype.core.disk.several import number_of, role_of
from bathotype.core.errors import NotFound, Refused
from bathotype.core.formats.catalogue import Format, format_named, lay_out, ova_of
from bathotype.core.formats.laidout import LaidOutFile
from bathotype.core.formats.ovf import Appliance
from bathotype.core.store.materialise import StoredDisk
from bathotype.core.store.region import RegionStore
from bathotype.service.database import Database
from bathotype.service.records import ExportDigest, Version

_LAYOUTS = 8


@dataclass(frozen=True)
class ExportAs:
    """A format, and which disk is written so; None for all of them, in one archive."""

    form: Format
    disk: int | None

    @property
    def role(self) -> str | None:
        """The role of the disk."""
        return None if self.disk is None else role_of(self.disk)

    @property
    def made_as(self) -> str:
        """What the file's bytes depend on: formats that are compressed anew depend on the compressor's version as well."""
        name = f"{self.form.name}-zlib-{zlib.ZLIB_RUNTIME_VERSION}" if self.form.recompresses else self.form.name
        return f"{name}-{self.role}" if self.disk else name

    def file_name(self, version: Version) -> str:
        """What the file is called."""
        return f"{version.line.name}-{version.number}{f'-{self.role}' if self.disk else ''}{self.form.suffix}"


def export_as(version: Version, form: str, role: str | None) -> ExportAs:
    """How a version is written.  Raises `NotFound` where it has no such disk, and `Refused` where it has several, none is
    named, and the format takes one."""
    found, count = format_named(form), len(version.disks)
    if role is not None:
        number = number_of(role)
        if number >= count:
            roles = ", ".join(str(disk["role"]) for disk in version.disks)
            raise NotFound(f"{version.line.name}@{version.number} has no disk {role}.", advice=f"It has: {roles}.")
        return ExportAs(found, number)
    if count == 1:
        return ExportAs(found, 0)
    if found.name != "ova":
        roles = ", ".join(str(disk["role"]) for disk in version.disks)
        raise Refused(
            f"{version.line.name}@{version.number} has {count} disks, and a {found.name} file holds one.",
            advice=f"Name one of them ({roles}), or take an OVA, which holds them all.",
            code="several-disks",
        )
    return ExportAs(found, None)


class _Layouts:
    """Files that were laid out a short while ago: a download in many ranges does not measure the disk each time."""

    def __init__(self) -> None:
        self._known: OrderedDict[tuple[str, str, ExportAs, str], LaidOutFile] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: tuple[str, str, ExportAs, str], make: Callable[[], LaidOutFile]) -> LaidOutFile:
        """The file for a key, laid out where it is not known."""
        with self._lock:
            if (known := self._known.get(key)) is not None:
                self._known.move_to_end(key)
                return known
        made = make()
        with self._lock:
            self._known[key] = made
            if len(self._known) > _LAYOUTS:
                self._known.popitem(last=False)
        return made


_layouts = _Layouts()


def export_file(version: Version, store: RegionStore, wanted: ExportAs) -> LaidOutFile:
    """A version as a file, whose bytes are made as they are read."""

    def make() -> LaidOutFile:
        manifest = store.get_manifest(version.id)
        appliance = Appliance(version.line.name, version.line.name, version.number)
        if wanted.disk is not None:
            part = manifest.disk(wanted.disk)
            disk = StoredDisk(part, store)
            return lay_out(wanted.form.name, disk, appliance=appliance, identity=_identity(part.content_digest))
        disks = [StoredDisk(manifest.disk(number), store) for number in range(len(manifest.sizes))]
        return ova_of(disks, appliance=appliance, identity=_identity(manifest.content_digest))

    return _layouts.get((store.name, version.id, wanted, version.number), make)


def _identity(content_digest: str) -> bytes:
    return bytes.fromhex(content_digest.rpartition(":")[2])[:16]


class Hashing:
    """Hashes a file while it passes from its first byte to its last, and keeps the digest."""

    def __init__(self, database: Database, version: Version, wanted: ExportAs, size: int) -> None:
        self._database, self._version, self._wanted, self._size = database, version, wanted, size
        self._hasher = hashlib.sha256()

    def take(self, piece: bytes) -> None:
        """The next piece."""
        self._hasher.update(piece)

    def keep(self) -> None:
        """The whole file has passed."""
        row = ExportDigest(
            version_id=self._version.id, format=self._wanted.made_as, size=self._size, sha256=self._hasher.hexdigest()
        )
        with self._database.sessions.begin() as session:
            session.merge(row)


def known_digest(database: Database, version: Version, wanted: ExportAs) -> str | None:
    """The SHA-256 of a version as a file, once it was read from its first byte to its last."""
    with database.reads() as session:
        row = session.get(ExportDigest, (version.id, wanted.made_as))
        return row.sha256 if row is not None else None
