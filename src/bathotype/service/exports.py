"""A version as a file of a format: laid out, and its digest once that is known."""

from __future__ import annotations

import hashlib
import threading
import zlib
from collections import OrderedDict
from collections.abc import Callable

from bathotype.core.formats.catalogue import Format, lay_out
from bathotype.core.formats.laidout import LaidOutFile
from bathotype.core.formats.ovf import Appliance
from bathotype.core.store.materialise import StoredDisk
from bathotype.core.store.region import RegionStore
from bathotype.service.database import Database
from bathotype.service.records import ExportDigest, Version

_LAYOUTS = 8


class _Layouts:
    """Files that were laid out a short while ago: a download in many ranges does not measure the disk each time."""

    def __init__(self) -> None:
        self._known: OrderedDict[tuple[str, str, str, str], LaidOutFile] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: tuple[str, str, str, str], make: Callable[[], LaidOutFile]) -> LaidOutFile:
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


def export_file(version: Version, store: RegionStore, form: Format) -> LaidOutFile:
    """A version's disk as a file, whose bytes are made as they are read."""

    def make() -> LaidOutFile:
        source = StoredDisk(store.get_manifest(version.id), store)
        appliance = Appliance(version.line.name, version.line.name, version.number)
        identity = bytes.fromhex(version.content_digest.rpartition(":")[2])[:16]
        return lay_out(form.name, source, appliance=appliance, identity=identity)

    return _layouts.get((store.name, version.id, form.name, version.number), make)


def made_as(form: Format) -> str:
    """What a format's bytes depend on: formats that are compressed anew depend on the compressor's version as well."""
    return f"{form.name}-zlib-{zlib.ZLIB_RUNTIME_VERSION}" if form.recompresses else form.name


class Hashing:
    """Hashes a file while it passes from its first byte to its last, and keeps the digest."""

    def __init__(self, database: Database, version: Version, form: Format, size: int) -> None:
        self._database, self._version, self._form, self._size = database, version, form, size
        self._hasher = hashlib.sha256()

    def take(self, piece: bytes) -> None:
        """The next piece."""
        self._hasher.update(piece)

    def keep(self) -> None:
        """The whole file has passed."""
        row = ExportDigest(
            version_id=self._version.id, format=made_as(self._form), size=self._size, sha256=self._hasher.hexdigest()
        )
        with self._database.sessions.begin() as session:
            session.merge(row)


def known_digest(database: Database, version: Version, form: Format) -> str | None:
    """The SHA-256 of a version as a file, once it was read from its first byte to its last."""
    with database.reads() as session:
        row = session.get(ExportDigest, (version.id, made_as(form)))
        return row.sha256 if row is not None else None
