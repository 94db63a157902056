"""A region store: packs and manifests in one object store, reached through obstore.

``file://`` and ``s3://`` addresses work alike.  Objects become visible only when they are whole: an object
store's PUT is atomic, and for local directories obstore writes beside the target and renames; there we also
fsync, since a catalogue entry must never outlive the bytes it names.
"""

from __future__ import annotations

import errno
import os
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import unquote, urlsplit

import obstore
from obstore.store import LocalStore, ObjectStore, from_url

from bathotype.core.errors import Damaged, NotFound, OutOfSpace, Unavailable
from bathotype.core.store.chunks import CHUNK, decompress, digest
from bathotype.core.store.manifest import Manifest
from bathotype.core.store.objects import ObjectFile


class RegionStore:
    """The bytes of one region.  Errors: `NotFound`, `Damaged`, `OutOfSpace`, `Unavailable`."""

    def __init__(self, name: str, url: str) -> None:
        self.name = name
        self._local: Path | None = None
        if url.startswith("file://"):
            self._local = Path(unquote(urlsplit(url).path))
            try:
                self._local.mkdir(parents=True, exist_ok=True)
                self._store: ObjectStore = LocalStore(self._local)
            except Exception as error:
                raise self._explained(error) from error
        else:
            self._store = from_url(url)

    # Packs

    def put_pack(self, name: str, data: bytes | bytearray) -> None:
        """Store a sealed pack.  One of that name that is there already is replaced: it may be damaged."""
        self._put(_pack_path(name), data)

    def get_frames(self, name: str, start: int, length: int) -> bytes:
        """Raw bytes of a pack; the caller checks each chunk."""
        try:
            return bytes(obstore.get_range(self._store, _pack_path(name), start=start, length=length))
        except FileNotFoundError as error:
            raise Damaged(
                f"Region {self.name}: pack {name[:16]} is missing.",
                advice="Verify the version, and restore the pack from a copy of the store.",
            ) from error
        except Exception as error:
            raise self._explained(error) from error

    def read_chunk(self, pack: str, frame: bytes | memoryview, wanted: bytes) -> bytes:
        """Decompress a frame and check it against the digest it must have."""
        data = self.unpack(pack, frame)
        self.check_chunk(pack, data, wanted)
        return data

    def unpack(self, pack: str, frame: bytes | memoryview) -> bytes:
        """Decompress a frame, which is not checked yet."""
        try:
            return decompress(frame)
        except Exception as error:
            raise self._pack_damaged(pack) from error

    def check_chunk(self, pack: str, data: bytes, wanted: bytes) -> None:
        """Raises `Damaged` unless a chunk has the digest that it must have."""
        if len(data) > CHUNK or digest(data) != wanted:
            raise self._pack_damaged(pack)

    def delete_pack(self, name: str) -> None:
        """Remove a pack; one that is gone already is fine."""
        self._delete(_pack_path(name))

    def packs(self) -> Iterator[tuple[str, int]]:
        """``(name, bytes)`` of every pack in the store."""
        try:
            for batch in obstore.list(self._store, "packs"):
                for item in batch:
                    yield item["path"].rsplit("/", 1)[-1], item["size"]
        except Exception as error:
            raise self._explained(error) from error

    # Manifests

    def put_manifest(self, version: str, manifest: Manifest) -> None:
        """Store the manifest of a version, replacing an earlier one (repacking moves chunks)."""
        self._put(_manifest_path(version), manifest.dumps())

    def get_manifest(self, version: str) -> Manifest:
        """The manifest of a version, checked."""
        return Manifest.loads(self._get(_manifest_path(version), f"the manifest of version {version}"))

    def delete_manifest(self, version: str) -> None:
        """Remove a version's manifest; one that is gone already is fine."""
        self._delete(_manifest_path(version))
        self._delete(_note_path(version))

    # Notes of captures

    def put_note(self, version: str, note: bytes) -> None:
        """Store what the capture of a version noted for the next one."""
        self._put(_note_path(version), note)

    def get_note(self, version: str) -> bytes:
        """The note of a version's capture.  Raises `NotFound`."""
        return self._get(_note_path(version), f"the capture note of version {version}")

    # Uploads: parts of a file that is being brought in

    def put_part(self, upload: str, number: int, data: bytes) -> None:
        """Store one part; an empty part means zeros."""
        self._put(f"{_upload_path(upload)}/{number:08d}", data)

    def parts(self, upload: str) -> dict[int, int]:
        """Number and stored length of each part."""
        found: dict[int, int] = {}
        try:
            for batch in obstore.list(self._store, _upload_path(upload)):
                found.update((int(item["path"].rsplit("/", 1)[-1]), item["size"]) for item in batch)
        except FileNotFoundError:
            pass
        except Exception as error:
            raise self._explained(error) from error
        return found

    def open_upload(self, upload: str, size: int, part_bytes: int) -> ObjectFile:
        """The parts as one file.  Raises `Damaged` where some are missing."""
        there, wanted = self.parts(upload), -(-size // part_bytes)
        missing = [n for n in range(wanted) if n not in there]
        if missing:
            raise Damaged(
                f"{len(missing)} of {wanted} parts of the file have not arrived.",
                advice="Run the import again: it continues with the missing parts.",
                code="upload-incomplete",
            )
        lengths = [min(part_bytes, size - n * part_bytes) for n in range(wanted)]
        if any(there[n] not in (0, lengths[n]) for n in range(wanted)):
            raise Damaged("A part of the uploaded file has the wrong length.", code="upload-incomplete")
        parts = [(f"{_upload_path(upload)}/{n:08d}" if there[n] else None, lengths[n]) for n in range(wanted)]
        return ObjectFile(self._store, parts)

    def delete_upload(self, upload: str) -> None:
        """Remove all parts."""
        for number in self.parts(upload):
            self._delete(f"{_upload_path(upload)}/{number:08d}")

    # The object store

    def _put(self, path: str, data: bytes | bytearray) -> None:
        try:
            obstore.put(self._store, path, data, use_multipart=False)
            if self._local is not None:
                self._make_durable(self._local / path)
        except Exception as error:
            raise self._explained(error) from error

    @staticmethod
    def _make_durable(path: Path) -> None:
        for place in (path, path.parent):
            handle = os.open(place, os.O_RDONLY)
            try:
                os.fsync(handle)
            finally:
                os.close(handle)

    def _get(self, path: str, what: str) -> bytes:
        try:
            return bytes(obstore.get(self._store, path).bytes())
        except FileNotFoundError as error:
            raise NotFound(f"Region {self.name} does not hold {what}.") from error
        except Exception as error:
            raise self._explained(error) from error

    def _delete(self, path: str) -> None:
        try:
            obstore.delete(self._store, path)
        except FileNotFoundError:
            return
        except Exception as error:
            raise self._explained(error) from error

    def _pack_damaged(self, pack: str) -> Damaged:
        return Damaged(
            f"Region {self.name}: pack {pack[:16]} is damaged: a chunk's digest differs.",
            advice="Restore the pack from a copy of the store, or capture the machine again.",
            code="pack-damaged",
        )

    def _explained(self, error: Exception) -> Exception:
        text = str(error)
        if getattr(error, "errno", None) == errno.ENOSPC or "No space left" in text or "os error 28" in text:
            return OutOfSpace(
                f"The store of region {self.name} has no space left.",
                advice="Purge retired versions or add space, then retry the operation.",
            )
        if isinstance(error, Damaged | NotFound | OutOfSpace | Unavailable):
            return error
        return Unavailable(f"The store of region {self.name} does not answer: {text.splitlines()[0][:200]}")


def _pack_path(name: str) -> str:
    return f"packs/{name[:2]}/{name}"


def _upload_path(upload: str) -> str:
    return f"uploads/{upload}"


def _note_path(version: str) -> str:
    return f"notes/{version}"


def _manifest_path(version: str) -> str:
    return f"manifests/{version}"
